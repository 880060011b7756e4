package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"latchkey/server/people"
	"latchkey/server/store"
)

// Who may do what: an operation is open to anybody, to everyone who is signed in, or to
// a role. Without a word, reading is for readers and all else for technicians.
var (
	open  = map[string]any{"role": store.Role("")}
	reads = map[string]any{"role": store.Reader} // it changes nothing, whatever its method
	leads = map[string]any{"role": store.Lead}
)

func roleFor(o *huma.Operation) store.Role {
	if role, told := o.Metadata["role"].(store.Role); told {
		return role
	}
	if o.Method == http.MethodGet {
		return store.Reader
	}
	return store.Technician
}

// person is who is signed in; nil when nobody is.
func person(ctx context.Context) *people.Person {
	p, _ := ctx.Value(keyPerson).(*people.Person)
	return p
}

// background marks a request that a page makes by itself: it does not keep a session
// from running out.
const background = "Latchkey-Background"

// signedIn finds out who is signed in.
func (a *API) signedIn(c *gin.Context) {
	if c.FullPath() == "/api/v1/health" {
		return // it waits for nothing, and for nobody
	}
	token, _ := c.Cookie(a.people.CookieName())
	ctx, err := a.people.Session(c.Request.Context(), token)
	if err == nil {
		var who *people.Person
		if who, err = a.people.Current(ctx, c.GetHeader(background) == ""); err == nil {
			ctx = context.WithValue(ctx, keyPerson, who)
		}
	}
	switch {
	case err == nil, errors.Is(err, people.ErrNobody):
		c.Request = c.Request.WithContext(ctx)
		c.Next()
	default:
		a.log.Error("fault", "request", requestID(c.Request.Context()), "cause", err)
		refuse(c, http.StatusServiceUnavailable, "The database does not answer. Nothing was changed; try again in a moment.")
	}
}

// allowed refuses what a person's role does not allow.
func (a *API) allowed(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		need := roleFor(ctx.Operation())
		who := person(ctx.Context())
		switch {
		case need == "":
		case who == nil:
			_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, "Sign in first: nobody is signed in here, or the session has run out.")
			return
		case !who.Role.May(need):
			a.people.Log(ctx.Context(), who.Name, people.EventForbidden, ctx.Operation().OperationID,
				address(ctx.Context()))
			_ = huma.WriteErr(api, ctx, http.StatusForbidden, "Your role, "+string(who.Role)+", does not allow this: it takes a "+string(need)+".")
			return
		}
		next(ctx)
	}
}

// by is who does something, for a case's history.
func by(ctx context.Context, what, detail string) store.Entry {
	return store.Entry{Who: person(ctx).Name, What: what, Detail: detail}
}

// Person is who is signed in.
type Person struct {
	Name        string     `json:"name"`
	Role        store.Role `json:"role" enum:"reader,technician,lead"`
	HasPassword bool       `json:"hasPassword" doc:"Without one a person comes in by a key that is good once"`
}

func personOf(p *people.Person) *Person { return &Person{p.Name, p.Role, p.HasPassword} }

type sessionOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      Person
}

type signInInput struct {
	Body struct {
		Name     string `json:"name,omitempty" maxLength:"80"`
		Password string `json:"password,omitempty" maxLength:"1000"`
		Key      string `json:"key,omitempty" maxLength:"200" doc:"A key that is good once, in place of name and password"`
	}
}

type signOutInput struct {
	Everywhere bool `query:"everywhere" doc:"All sessions of the person, on every machine"`
}

type signedOutOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

type passwordInput struct {
	Body struct {
		Current string `json:"current,omitempty" maxLength:"1000" doc:"Absent when there is none yet"`
		New     string `json:"new" maxLength:"1000"`
	}
}

func (a *API) registerSession(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/session", Summary: "Sign in",
		Metadata: open}, a.signIn)
	huma.Register(api, huma.Operation{OperationID: "who-am-i", Method: http.MethodGet, Path: "/session", Summary: "Who is signed in"}, a.whoAmI)
	huma.Register(api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/session", Summary: "Sign out",
		Metadata: reads}, a.signOut)
	huma.Register(api, huma.Operation{OperationID: "set-password", Method: http.MethodPut, Path: "/session/password", Summary: "Set the own password",
		Metadata: reads}, a.setPassword)
}

func (a *API) cookie(token string, ends time.Time) http.Cookie {
	return http.Cookie{Name: a.people.CookieName(), Value: token, Path: "/", Expires: ends, HttpOnly: true,
		Secure: a.people.Secure(), SameSite: http.SameSiteStrictMode}
}

func (a *API) signIn(ctx context.Context, in *signInInput) (*sessionOutput, error) {
	var who *people.Person
	var token string
	var ends time.Time
	var err error
	if in.Body.Key != "" {
		who, token, ends, err = a.people.SignInOnce(ctx, in.Body.Key, address(ctx))
	} else {
		who, token, ends, err = a.people.SignIn(ctx, in.Body.Name, in.Body.Password, address(ctx))
	}
	if err != nil {
		return nil, a.notSignedIn(ctx, err)
	}
	return &sessionOutput{a.cookie(token, ends), *personOf(who)}, nil
}

// notSignedIn is the answer when signing in, or proving who one is, did not succeed.
func (a *API) notSignedIn(ctx context.Context, err error) error {
	var unfit *people.Unfit
	switch {
	case errors.Is(err, people.ErrRefused):
		return huma.Error422UnprocessableEntity("Name and password do not fit together.")
	case errors.Is(err, people.ErrKey):
		return huma.Error422UnprocessableEntity("The key was used already, has run out, or is not whole. A lead can make another one; the server prints one when it is started and no lead has a password.")
	case errors.As(err, &unfit):
		return huma.Error422UnprocessableEntity(unfit.Reason)
	case errors.Is(err, people.ErrTooOften):
		return huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, "Too many tries: wait half a minute."), http.Header{"Retry-After": {"30"}})
	case errors.Is(err, people.ErrBusy):
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable("Too many people sign in at the moment: try again."), http.Header{"Retry-After": {"5"}})
	}
	return a.problem(ctx, err)
}

type whoOutput struct{ Body Person }

func (a *API) whoAmI(ctx context.Context, _ *struct{}) (*whoOutput, error) {
	return &whoOutput{*personOf(person(ctx))}, nil
}

func (a *API) signOut(ctx context.Context, in *signOutInput) (*signedOutOutput, error) {
	if err := a.people.SignOut(ctx, person(ctx), in.Everywhere, address(ctx)); err != nil {
		return nil, a.problem(ctx, err)
	}
	return &signedOutOutput{a.cookie("", time.Unix(1, 0))}, nil
}

func (a *API) setPassword(ctx context.Context, in *passwordInput) (*sessionOutput, error) {
	token, ends, err := a.people.SetPassword(ctx, person(ctx), in.Body.Current, in.Body.New, address(ctx))
	if err != nil {
		return nil, a.notSignedIn(ctx, err)
	}
	who := *personOf(person(ctx))
	who.HasPassword = true
	return &sessionOutput{a.cookie(token, ends), who}, nil
}
