package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/handover"
	"latchkey/server/judge"
	"latchkey/server/people"
	"latchkey/server/store"
)

// Account is a person who works with the application.
type Account struct {
	ID          uint64     `json:"id"`
	Name        string     `json:"name"`
	Role        store.Role `json:"role" enum:"reader,technician,lead"`
	HasPassword bool       `json:"hasPassword"`
	Disabled    bool       `json:"disabled"`
	Demo        bool       `json:"demo" doc:"Belongs to the demo world"`
	CreatedAt   time.Time  `json:"createdAt"`
}

func accountOf(a *store.Account) Account {
	return Account{a.ID, a.Name, a.Role, a.Password != "", a.DisabledAt != nil, a.Demo, a.CreatedAt}
}

// NewAccount is an account with the key that signs its person in once.
type NewAccount struct {
	Account
	Key string `json:"key" doc:"Good once, for three days; the person then sets a password"`
}

type accountsOutput struct{ Body []Account }

type accountOutput struct{ Body Account }

type newAccountOutput struct{ Body NewAccount }

type addAccountInput struct {
	Body struct {
		Name string     `json:"name" minLength:"1" maxLength:"80"`
		Role store.Role `json:"role" enum:"reader,technician,lead"`
	}
}

// AccountInput names an account.
type AccountInput struct {
	Account uint64 `path:"account"`
}

type changeAccountInput struct {
	AccountInput
	Body struct {
		Role     store.Role `json:"role" enum:"reader,technician,lead"`
		Disabled bool       `json:"disabled"`
	}
}

// Settings are those of the whole bench.
type Settings struct {
	KeepDays int `json:"keepDays" minimum:"0" maximum:"36500" doc:"Days after which a closed case's evidence is removed; 0 keeps it"`
	// Release is when an old drive may be released.
	Release judge.ReleaseRule `json:"release"`
	// TakeModel lets a case take over by itself what other cases of its machine's model say.
	TakeModel bool `json:"takeModel"`
}

type settingsOutput struct{ Body Settings }

// Event is a line of the security log.
type Event struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	What    string    `json:"what"`
	Detail  string    `json:"detail,omitempty"`
	Address string    `json:"address"`
}

// BeforeInput asks for a page of a log.
type BeforeInput struct {
	Before uint64 `query:"before" doc:"Only those before this one; 0 begins with the newest"`
}

type eventsOutput struct{ Body []Event }

func (a *API) registerAccounts(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-accounts", Method: http.MethodGet, Path: "/accounts", Summary: "List the accounts",
		Metadata: leads}, a.accounts)
	huma.Register(api, huma.Operation{OperationID: "add-account", Method: http.MethodPost, Path: "/accounts", Summary: "Make an account",
		DefaultStatus: http.StatusCreated, Metadata: leads}, a.addAccount)
	huma.Register(api, huma.Operation{OperationID: "change-account", Method: http.MethodPut, Path: "/accounts/{account}", Summary: "Change an account's role, disable it or enable it",
		Metadata: leads}, a.changeAccount)
	huma.Register(api, huma.Operation{OperationID: "make-key", Method: http.MethodPost, Path: "/accounts/{account}/key", Summary: "Make a key that signs a person in once",
		Metadata: leads}, a.makeKey)
	huma.Register(api, huma.Operation{OperationID: "security-log", Method: http.MethodGet, Path: "/security-log", Summary: "Sign-ins and refusals, the newest first",
		Metadata: leads}, a.securityLog)
	huma.Register(api, huma.Operation{OperationID: "get-settings", Method: http.MethodGet, Path: "/settings", Summary: "The settings of the bench"}, a.settings)
	huma.Register(api, huma.Operation{OperationID: "change-settings", Method: http.MethodPut, Path: "/settings", Summary: "Change the settings of the bench",
		Metadata: leads}, a.changeSettings)
}

func (a *API) accounts(ctx context.Context, _ *struct{}) (*accountsOutput, error) {
	all, err := a.store.Accounts(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &accountsOutput{Body: []Account{}}
	for i := range all {
		out.Body = append(out.Body, accountOf(&all[i]))
	}
	return out, nil
}

func (a *API) addAccount(ctx context.Context, in *addAccountInput) (*newAccountOutput, error) {
	name := strings.Join(strings.Fields(in.Body.Name), " ")
	if name == "" {
		return nil, huma.Error422UnprocessableEntity("name: expected the person's name.")
	}
	all, err := a.store.Accounts(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	if len(all) >= store.MaxAccounts {
		return nil, huma.Error409Conflict(fmt.Sprintf("There are %d accounts already, which is as many as there can be.", len(all)))
	}
	account := &store.Account{Name: name, Role: in.Body.Role}
	switch err := a.store.AddAccount(ctx, account); {
	case errors.Is(err, store.ErrTaken):
		return nil, huma.Error409Conflict("There is an account of that name already.")
	case err != nil:
		return nil, a.problem(ctx, err)
	}
	a.people.Log(ctx, person(ctx).Name, people.EventAccount, name+", "+string(account.Role), address(ctx))
	return a.withKey(ctx, account)
}

func (a *API) withKey(ctx context.Context, account *store.Account) (*newAccountOutput, error) {
	key, err := a.store.NewKey(ctx, account.ID)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	a.people.Log(ctx, person(ctx).Name, people.EventKey, account.Name, address(ctx))
	return &newAccountOutput{NewAccount{accountOf(account), key}}, nil
}

func (a *API) makeKey(ctx context.Context, in *AccountInput) (*newAccountOutput, error) {
	account, err := a.store.Account(ctx, in.Account)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, noAccount
	case err != nil:
		return nil, a.problem(ctx, err)
	case account.DisabledAt != nil:
		return nil, huma.Error409Conflict("The account is disabled: enable it first.")
	}
	return a.withKey(ctx, account)
}

var noAccount = huma.Error404NotFound("There is no such account.")

func (a *API) changeAccount(ctx context.Context, in *changeAccountInput) (*accountOutput, error) {
	var changes []string
	account, err := a.store.ChangeAccount(ctx, in.Account, func(account *store.Account) error {
		changes = nil
		if account.Role != in.Body.Role {
			account.Role = in.Body.Role
			changes = append(changes, "now "+string(account.Role))
		}
		if disabled := account.DisabledAt != nil; disabled != in.Body.Disabled {
			account.DisabledAt = nil
			if changes = append(changes, "enabled"); in.Body.Disabled {
				now := time.Now().UTC()
				account.DisabledAt, changes[len(changes)-1] = &now, "disabled"
			}
		}
		if len(changes) > 0 {
			account.Epoch++ // what the person was allowed before is over
		}
		return nil
	})
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, noAccount
	case errors.Is(err, store.ErrLastLead):
		return nil, huma.Error409Conflict("This is the last lead: without one nobody could make accounts. Make another lead first.")
	case err != nil:
		return nil, a.problem(ctx, err)
	}
	if len(changes) > 0 {
		a.people.Log(ctx, person(ctx).Name, people.EventChanged, account.Name+": "+strings.Join(changes, ", "),
			address(ctx))
	}
	return &accountOutput{accountOf(account)}, nil
}

func (a *API) securityLog(ctx context.Context, in *BeforeInput) (*eventsOutput, error) {
	events, err := a.store.Events(ctx, in.Before)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	out := &eventsOutput{Body: []Event{}}
	for _, e := range events {
		out.Body = append(out.Body, Event(e))
	}
	return out, nil
}

func (a *API) settings(ctx context.Context, _ *struct{}) (*settingsOutput, error) {
	days, err := a.store.KeepDays(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	rule, err := a.store.ReleaseRule(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	takes, err := a.store.TakesModel(ctx)
	if err != nil {
		return nil, a.problem(ctx, err)
	}
	return &settingsOutput{Settings{days, judge.ReleaseRule{Starts: rule.Starts, Days: rule.Days,
		Looked: rule.Looked}, takes}}, nil
}

func (a *API) changeSettings(ctx context.Context, in *struct{ Body Settings }) (*settingsOutput, error) {
	if err := a.store.SetKeepDays(ctx, in.Body.KeepDays); err != nil {
		return nil, a.problem(ctx, err)
	}
	r := in.Body.Release
	if err := a.store.SetReleaseRule(ctx, handover.Rule{Starts: r.Starts, Days: r.Days, Looked: r.Looked}); err != nil {
		return nil, a.problem(ctx, err)
	}
	if err := a.store.SetTakesModel(ctx, in.Body.TakeModel); err != nil {
		return nil, a.problem(ctx, err)
	}
	a.people.Log(ctx, person(ctx).Name, people.EventSetting, fmt.Sprintf("evidence of closed cases is kept for %d days; release after %d cold starts on %d days", in.Body.KeepDays, r.Starts, r.Days),
		address(ctx))
	return &settingsOutput{in.Body}, nil
}
