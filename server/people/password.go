package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/sync/semaphore"
)

// Parameters of argon2id: RFC 9106, section 4, and OWASP's Password Storage Cheat Sheet
// (19 MiB, two passes, one lane).
const (
	argonMemory = 19 << 10 // KiB
	argonTime   = 2
	argonLanes  = 1
	saltLength  = 16
	hashLength  = 32
)

// Bounds of a password, in signs. NIST SP 800-63B, section 5.1.1.2: at least 8, all signs
// taken, no rules of composition; ASVS 2.1.1 asks for 12.
const (
	minPassword = 12
	maxPassword = 128
)

// hashing bounds how many passwords are hashed at once: each takes 19 MiB.
var hashing = semaphore.NewWeighted(1)

// hashWait bounds how long a hash waits for its turn.
const hashWait = 5 * time.Second

// ErrBusy reports that too many others sign in at the moment.
var ErrBusy = errors.New("too many people sign in at the moment")

func argon(ctx context.Context, password string, salt []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, hashWait)
	defer cancel()
	if err := hashing.Acquire(ctx, 1); err != nil {
		return nil, ErrBusy
	}
	defer hashing.Release(1)
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, hashLength), nil
}

// hash returns a password's hash in the form of argon2's reference implementation.
func hash(ctx context.Context, password string) (string, error) {
	salt := make([]byte, saltLength)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key, err := argon(ctx, password, salt)
	if err != nil {
		return "", err
	}
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonLanes, enc(salt), enc(key)), nil
}

// nobody is the hash that a name without a password is held against, so that it takes
// as long as one with: of no password.
var nobody = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonLanes,
	base64.RawStdEncoding.EncodeToString(make([]byte, saltLength)),
	base64.RawStdEncoding.EncodeToString(make([]byte, hashLength)))

// verify reports whether a password is the one of a hash.
func verify(ctx context.Context, hashed, password string) (bool, error) {
	parts := strings.Split(hashed, "$") // "", argon2id, version, parameters, salt, key
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, errors.New("the stored password is of another form")
	}
	salt, errSalt := base64.RawStdEncoding.DecodeString(parts[4])
	want, errWant := base64.RawStdEncoding.DecodeString(parts[5])
	if errSalt != nil || errWant != nil {
		return false, errors.New("the stored password is damaged")
	}
	got, err := argon(ctx, password, salt)
	return err == nil && subtle.ConstantTimeCompare(got, want) == 1, err
}

// Unfit says why a password is not taken.
type Unfit struct{ Reason string }

func (e *Unfit) Error() string { return e.Reason }

// checkPassword refuses passwords that are too short, too long, or easily guessed: the
// person's own name, a sign or two repeated, or a row of the keyboard. There is no list
// of leaked passwords here.
func checkPassword(password, name string) error {
	n := utf8.RuneCountInString(password)
	lower := strings.ToLower(password)
	signs := map[rune]bool{}
	for _, r := range lower {
		signs[r] = true
	}
	switch {
	case n < minPassword:
		return &Unfit{fmt.Sprintf("The password has %d signs: expected at least %d. A few words in a row do well.", n, minPassword)}
	case n > maxPassword:
		return &Unfit{fmt.Sprintf("The password has %d signs: expected at most %d.", n, maxPassword)}
	case len(signs) < 5:
		return &Unfit{"The password repeats the same few signs: it is easily guessed."}
	case name != "" && strings.Contains(lower, strings.ToLower(name)):
		return &Unfit{"The password holds your name: it is easily guessed."}
	case strings.Contains(lower, "latchkey"):
		return &Unfit{"The password holds the name of the application: it is easily guessed."}
	}
	for _, row := range []string{"1234567890123", "abcdefghijklmnopqrstuvwxyz", "qwertyuiopasdfghjklzxcvbnm", "password"} {
		for at := 0; at+8 <= len(row); at++ {
			if strings.Contains(lower, row[at:at+8]) {
				return &Unfit{"The password holds a row of the keyboard, the alphabet or the like: it is easily guessed."}
			}
		}
	}
	return nil
}
