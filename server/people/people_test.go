package people

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/argon2"

	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// good is a password that is taken.
const good = "seven grey lorries"

// bench is the people of an empty store, with a lead who has a password.
func bench(t *testing.T) (*People, *Person) {
	t.Helper()
	p := New(storetest.Open(t), false, slog.New(slog.DiscardHandler))
	require.NoError(t, p.store.AddAccount(t.Context(), &store.Account{Name: "Ada", Role: store.Lead}))
	who, _ := come(t, p, "Ada")
	_, _, err := p.SetPassword(session(t, p, ""), who, "", good, "here")
	require.NoError(t, err)
	return p, who
}

// session is the context of a request with a session's token.
func session(t *testing.T, p *People, token string) context.Context {
	t.Helper()
	ctx, err := p.Session(t.Context(), token)
	require.NoError(t, err)
	return ctx
}

// come signs somebody in by a key.
func come(t *testing.T, p *People, name string) (*Person, string) {
	t.Helper()
	a, err := p.store.AccountNamed(t.Context(), name)
	require.NoError(t, err)
	key, err := p.store.NewKey(t.Context(), a.ID)
	require.NoError(t, err)
	who, token, _, err := p.SignInOnce(session(t, p, ""), key, "here")
	require.NoError(t, err)
	_, _, _, err = p.SignInOnce(session(t, p, ""), key, "here")
	require.ErrorIs(t, err, ErrKey, "a key is good once")
	return who, token
}

// in reports whether a session's token is somebody's.
func in(t *testing.T, p *People, token string) bool {
	t.Helper()
	_, err := p.Current(session(t, p, token), true)
	if err != nil {
		require.ErrorIs(t, err, ErrNobody)
	}
	return err == nil
}

func signIn(t *testing.T, p *People, name, password, address string) (string, error) {
	t.Helper()
	_, token, _, err := p.SignIn(session(t, p, ""), name, password, address)
	return token, err
}

// A password is kept as argon2id makes it: RFC 9106, and the library's own function.
func TestPasswordsAreHashed(t *testing.T) {
	one, err := hash(t.Context(), good)
	require.NoError(t, err)
	two, err := hash(t.Context(), good)
	require.NoError(t, err)
	assert.NotEqual(t, one, two, "each has a salt of its own")
	assert.NotContains(t, one, good)
	assert.True(t, strings.HasPrefix(one, "$argon2id$v=19$m=19456,t=2,p=1$"), one)
	for password, fits := range map[string]bool{good: true, good + " ": false, "": false, strings.ToUpper(good): false} {
		got, err := verify(t.Context(), one, password)
		require.NoError(t, err)
		assert.Equal(t, fits, got, password)
	}
	for _, damaged := range []string{"", "x", "$argon2id$v=19$m=1$a", "$2b$10$abcdefghijklmnopqrstuv", "$argon2id$v=19$m=1,t=1,p=1$!$!"} {
		_, err := verify(t.Context(), damaged, good)
		assert.Error(t, err, damaged)
	}
	assert.EqualValues(t, 0x13, argon2.Version)
}

func TestPasswordsThatAreRefused(t *testing.T) {
	for password, why := range map[string]string{
		"":                           "at least 12",
		"elevensigns":                "at least 12",
		strings.Repeat("ab", 20):     "same few signs",
		strings.Repeat("x1yz7é", 30): "at most 128",
		"my name is ada lovelace":    "your name",
		"LATCHKEY-on-the-hook":       "the application",
		"abcdefgh-and-more":          "row of the keyboard",
		"so qwertyuiop it is":        "row of the keyboard",
		"12345678 the rest":          "row of the keyboard",
		"thisPassword!thing":         "row of the keyboard",
	} {
		unfit := new(Unfit)
		if assert.ErrorAs(t, checkPassword(password, "Ada"), &unfit, password) {
			assert.Contains(t, unfit.Reason, why, password)
		}
	}
	for _, password := range []string{good, "ünïcödé wörks tøø", "🂡🂱🃁🃑🂢🂲🃂🃒🂣🂳🃃🃓", "Tr0ub4dor&3 x!"} {
		assert.NoError(t, checkPassword(password, "Ada"), password)
	}
}

func TestSigningIn(t *testing.T) {
	p, _ := bench(t)
	token, err := signIn(t, p, " ada ", good, "here")
	require.NoError(t, err, "names are told apart by neither case nor blanks")
	assert.True(t, in(t, p, token))
	assert.False(t, in(t, p, token+"x"))
	assert.False(t, in(t, p, ""))
	for name, password := range map[string]string{"Ada": good + "x", "Bob": good, "": ""} {
		_, err := signIn(t, p, name, password, "there")
		assert.ErrorIs(t, err, ErrRefused, "%s: which of the two is wrong is not told", name)
	}
	require.NoError(t, p.SignOut(session(t, p, token), &Person{Name: "Ada"}, false, "here"))
	assert.False(t, in(t, p, token))

	events, err := p.store.Events(t.Context(), 0)
	require.NoError(t, err)
	var told []string
	for _, e := range events {
		told = append(told, e.Who+": "+e.What)
		assert.NotContains(t, e.Detail, good)
	}
	for _, want := range []string{"Ada: signed in", "Ada: sign-in refused", "Bob: sign-in refused", "Ada: signed out", "Ada: password set", "Ada: signed in by a key"} {
		assert.Contains(t, told, want)
	}
}

// A name without an account takes as long as one with: both are hashed.
func TestWhoHasAnAccountIsNotTold(t *testing.T) {
	p, _ := bench(t)
	fits, err := verify(t.Context(), nobody, "")
	require.NoError(t, err)
	assert.False(t, fits, "nobody has no password")
	require.NoError(t, p.store.AddAccount(t.Context(), &store.Account{Name: "Carl", Role: store.Reader}))
	_, err = signIn(t, p, "Carl", "", "here")
	assert.ErrorIs(t, err, ErrRefused, "without a password nobody comes in by one")
}

func TestTriesAreLimited(t *testing.T) {
	p, _ := bench(t)
	began := time.Now()
	p.now = func() time.Time { return began }
	var last error
	for range nameBurst + 1 {
		_, last = signIn(t, p, "Ada", "wrong wrong wrong", "here")
	}
	assert.ErrorIs(t, last, ErrTooOften)
	_, err := signIn(t, p, "ADA", good, "elsewhere")
	assert.ErrorIs(t, err, ErrTooOften, "from anywhere, in any spelling")
	for range addressBurst {
		p.tries.allow(began, "", "one address")
	}
	_, _, _, err = p.SignInOnce(session(t, p, ""), "a key", "one address")
	assert.ErrorIs(t, err, ErrTooOften, "keys cannot be tried either")
	p.now = func() time.Time { return began.Add(nameEach * time.Second) }
	_, err = signIn(t, p, "Ada", good, "here")
	assert.NoError(t, err, "after a while a try is free again")
}

func TestASessionRunsOut(t *testing.T) {
	p, _ := bench(t)
	_, token := come(t, p, "Ada")
	later := func(d time.Duration) { p.now = func() time.Time { return time.Now().Add(d) } }
	later(idleTime - time.Minute)
	assert.True(t, in(t, p, token), "it was used in time")
	later(2*idleTime - 2*time.Minute)
	_, err := p.Current(session(t, p, token), false)
	require.NoError(t, err, "a use counts from when it was")
	later(2*idleTime + time.Minute)
	assert.False(t, in(t, p, token), "what a page asks for by itself is no use")
}

func TestWhatEndsOtherSessions(t *testing.T) {
	for name, end := range map[string]func(p *People, who *Person, ctx context.Context) (kept string){
		"signing out everywhere": func(p *People, who *Person, ctx context.Context) string {
			require.NoError(t, p.SignOut(ctx, who, true, "here"))
			return ""
		},
		"another password": func(p *People, who *Person, ctx context.Context) string {
			token, _, err := p.SetPassword(ctx, who, good, "eight green lorries", "here")
			require.NoError(t, err)
			return token
		},
		"being disabled": func(p *People, who *Person, ctx context.Context) string {
			require.NoError(t, p.store.AddAccount(ctx, &store.Account{Name: "Bea", Role: store.Lead}))
			_, err := p.store.ChangeAccount(ctx, who.ID,
				func(a *store.Account) error { now := time.Now(); a.DisabledAt = &now; return nil })
			require.NoError(t, err)
			return ""
		},
	} {
		t.Run(name, func(t *testing.T) {
			p, who := bench(t)
			_, one := come(t, p, "Ada")
			_, two := come(t, p, "Ada")
			require.True(t, in(t, p, one) && in(t, p, two))
			kept := end(p, who, session(t, p, one))
			assert.False(t, in(t, p, two))
			assert.False(t, in(t, p, one), "a token is not used on")
			assert.Equal(t, kept != "", in(t, p, kept))
		})
	}
}

func TestSettingAPassword(t *testing.T) {
	p, who := bench(t)
	_, token := come(t, p, "Ada")
	_, _, err := p.SetPassword(session(t, p, token), who, "not the current", "eight green lorries", "here")
	require.ErrorIs(t, err, ErrRefused)
	_, _, err = p.SetPassword(session(t, p, token), who, good, "short", "here")
	require.ErrorAs(t, err, new(*Unfit))
	assert.True(t, in(t, p, token), "nothing was changed")
	_, err = signIn(t, p, "Ada", good, "here")
	assert.NoError(t, err)
}
