// Package people knows who works with the application: accounts, sessions, roles, and
// the log of who signed in and who was refused.
package people

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"

	"latchkey/server/store"
)

// How long a session lasts: without use, and at the most. OWASP ASVS 4.0, 3.3.2 (level 2).
const (
	idleTime = 30 * time.Minute
	fullTime = 12 * time.Hour
	// touchTime is how often a session's last use is written down.
	touchTime = time.Minute
)

// Errors of signing in.
var (
	// ErrRefused says no more than that: whether the name or the password is wrong is
	// not told.
	ErrRefused  = errors.New("name and password do not fit")
	ErrKey      = errors.New("the key was used already, has run out, or is not whole")
	ErrTooOften = errors.New("too many tries")
	ErrNobody   = errors.New("nobody is signed in")
)

// Person is who is signed in.
type Person struct {
	ID          uint64
	Name        string
	Role        store.Role
	HasPassword bool
}

// People signs people in and out.
type People struct {
	store    *store.Store
	sessions *scs.SessionManager
	tries    *tries
	log      *slog.Logger
	now      func() time.Time
}

// New returns the people of a store. Secure cookies are sent over TLS only.
func New(s *store.Store, secure bool, log *slog.Logger) *People {
	m := scs.New()
	m.Store, m.Lifetime, m.IdleTimeout, m.HashTokenInStore = s.Sessions(), fullTime, idleTime, true
	m.Cookie.Name, m.Cookie.Secure = "latchkey", secure
	if secure {
		m.Cookie.Name = "__Host-latchkey" // RFC 6265bis, section 4.1.3.2
	}
	return &People{store: s, sessions: m, tries: newTries(), log: log, now: time.Now}
}

// Session loads the session of a request's cookie into its context.
func (p *People) Session(ctx context.Context, token string) (context.Context, error) {
	return p.sessions.Load(ctx, token)
}

// CookieName is the cookie that holds a session's token.
func (p *People) CookieName() string { return p.sessions.Cookie.Name }

// Keys of a session's data.
const (
	keyAccount = "account"
	keyEpoch   = "epoch"
	keyUsed    = "used"
)

// Current returns who is signed in by the session in the context; ErrNobody when it is
// over, or never began. A use counts against the idle time; what a page asks for by
// itself does not.
func (p *People) Current(ctx context.Context, use bool) (*Person, error) {
	id, _ := p.sessions.Get(ctx, keyAccount).(uint64)
	if id == 0 {
		return nil, ErrNobody
	}
	a, err := p.store.Account(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNobody
	}
	if err != nil {
		return nil, err
	}
	epoch, _ := p.sessions.Get(ctx, keyEpoch).(uint32)
	used := time.Unix(p.sessions.GetInt64(ctx, keyUsed), 0)
	if a.DisabledAt != nil || a.Epoch != epoch || p.now().Sub(used) > idleTime {
		return nil, ErrNobody
	}
	if use && p.now().Sub(used) > touchTime {
		p.sessions.Put(ctx, keyUsed, p.now().Unix())
		if _, _, err := p.sessions.Commit(ctx); err != nil {
			return nil, err
		}
	}
	return personOf(a), nil
}

func personOf(a *store.Account) *Person {
	return &Person{a.ID, a.Name, a.Role, a.Password != ""}
}

// SignIn signs a person in by name and password and returns the session's token with
// its end. Wrong ones are counted by name and by address, and written down.
func (p *People) SignIn(ctx context.Context, name, password, address string) (*Person, string, time.Time, error) {
	name = strings.TrimSpace(name)
	if !p.tries.allow(p.now(), name, address) {
		p.Log(ctx, name, EventTooOften, "", address)
		return nil, "", time.Time{}, ErrTooOften
	}
	a, err := p.store.AccountNamed(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, "", time.Time{}, err
	}
	hashed := nobody
	if err == nil && a.Password != "" {
		hashed = a.Password
	}
	fits, errHash := verify(ctx, hashed, password)
	if errHash != nil {
		return nil, "", time.Time{}, errHash
	}
	if err != nil || !fits || a.Password == "" || a.DisabledAt != nil {
		p.Log(ctx, name, EventRefused, "name and password", address)
		return nil, "", time.Time{}, ErrRefused
	}
	p.tries.forget(name)
	return p.begin(ctx, a, EventSignedIn, address)
}

// SignInOnce signs a person in by a key that is good once.
func (p *People) SignInOnce(ctx context.Context, key, address string) (*Person, string, time.Time, error) {
	if !p.tries.allow(p.now(), "", address) {
		p.Log(ctx, "", EventTooOften, "key", address)
		return nil, "", time.Time{}, ErrTooOften
	}
	a, err := p.store.UseKey(ctx, key)
	if errors.Is(err, store.ErrNotFound) {
		p.Log(ctx, "", EventRefused, "key", address)
		return nil, "", time.Time{}, ErrKey
	}
	if err != nil {
		return nil, "", time.Time{}, err
	}
	return p.begin(ctx, a, EventKeyUsed, address)
}

// begin begins a session under a token of its own.
func (p *People) begin(ctx context.Context, a *store.Account, event, address string) (*Person, string, time.Time,
	error) {
	fail := func(err error) (*Person, string, time.Time, error) { return nil, "", time.Time{}, err }
	if err := p.sessions.RenewToken(ctx); err != nil {
		return fail(err)
	}
	p.sessions.Put(ctx, keyAccount, a.ID)
	p.sessions.Put(ctx, keyEpoch, a.Epoch)
	p.sessions.Put(ctx, keyUsed, p.now().Unix())
	token, _, err := p.sessions.Commit(ctx)
	if err != nil {
		return fail(err)
	}
	p.Log(ctx, a.Name, event, "", address)
	return personOf(a), token, time.Now().Add(fullTime), nil
}

// SignOut ends the session, or with everywhere all of the person's sessions.
func (p *People) SignOut(ctx context.Context, who *Person, everywhere bool, address string) error {
	event := EventSignedOut
	if everywhere {
		event = EventSignedOutEverywhere
		if _, err := p.store.ChangeAccount(ctx, who.ID,
			func(a *store.Account) error { a.Epoch++; return nil }); err != nil {
			return err
		}
	}
	if err := p.sessions.Destroy(ctx); err != nil {
		return err
	}
	p.Log(ctx, who.Name, event, "", address)
	return nil
}

// SetPassword sets a person's own password; who has one gives it too. All other sessions
// of the person are over, this one goes on under a new token.
func (p *People) SetPassword(ctx context.Context, who *Person, current, fresh, address string) (token string,
	ends time.Time, err error) {
	a, err := p.store.Account(ctx, who.ID)
	if err != nil {
		return "", ends, err
	}
	if a.Password != "" {
		if !p.tries.allow(p.now(), a.Name, address) {
			return "", ends, ErrTooOften
		}
		fits, err := verify(ctx, a.Password, current)
		if err != nil {
			return "", ends, err
		}
		if !fits {
			p.Log(ctx, a.Name, EventRefused, "password for a new one", address)
			return "", ends, ErrRefused
		}
	}
	if err := checkPassword(fresh, a.Name); err != nil {
		return "", ends, err
	}
	hashed, err := hash(ctx, fresh)
	if err != nil {
		return "", ends, err
	}
	if a, err = p.store.ChangeAccount(ctx, a.ID, func(a *store.Account) error {
		a.Password, a.Epoch = hashed, a.Epoch+
			1
		return nil
	}); err != nil {
		return "", ends, err
	}
	_, token, ends, err = p.begin(ctx, a, EventPassword, address)
	return token, ends, err
}

// Events of the security log.
const (
	EventSignedIn            = "signed in"
	EventKeyUsed             = "signed in by a key"
	EventRefused             = "sign-in refused"
	EventTooOften            = "too many tries"
	EventSignedOut           = "signed out"
	EventSignedOutEverywhere = "signed out everywhere"
	EventPassword            = "password set"
	EventAccount             = "account made"
	EventChanged             = "account changed"
	EventKey                 = "key made"
	EventForbidden           = "not allowed"
	EventDeleted             = "case deleted"
	EventSetting             = "setting changed"
)

// Log adds to the security log; when the database does not take it, the server's own log
// has it.
func (p *People) Log(ctx context.Context, who, what, detail, address string) {
	p.log.InfoContext(ctx, "security", "who", who, "what", what, "detail", detail, "address", address)
	if err := p.store.Log(ctx, store.Event{Who: who, What: what, Detail: detail, Address: address}); err != nil {
		p.log.ErrorContext(ctx, "the security log was not written", "cause", err)
	}
}

// Tidy removes sessions and keys that have run out.
func (p *People) Tidy(ctx context.Context) error { return p.store.Sessions().DeleteExpired(ctx) }

// Secure reports whether sessions are sent over TLS only.
func (p *People) Secure() bool { return p.sessions.Cookie.Secure }
