// Package api serves cases, evidence and start checks as JSON over HTTP.
package api

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-contrib/gzip"
	"github.com/gin-gonic/gin"

	"latchkey/capture/told"
	"latchkey/server/form"
	"latchkey/server/judge"
	"latchkey/server/people"
	"latchkey/server/store"
)

// Bounds of a request: one uploaded file, all of a request with files, and any other.
const (
	maxBody = 2*form.MaxFile + 1<<20
	maxJSON = 256 << 10
)

// Config is what the application is served with.
type Config struct {
	Store  *store.Store
	Judge  *judge.Judge
	People *people.People
	Web    fs.FS  // the interface's files
	Builds string // folder with the builds of the capture command
	// Hosts are the names under which the server may be addressed, with or without a
	// port; a request for another is refused.
	Hosts []string
	// BehindProxy is set where a proxy stands before the server: who asks is then what
	// the proxy says last.
	BehindProxy bool
	Log         *slog.Logger
}

// API holds what the handlers need.
type API struct {
	store  *store.Store
	judge  *judge.Judge
	people *people.People
	builds *builds
	log    *slog.Logger
}

// New returns the handler of the whole application: the API under /api/v1, the
// capture command's builds under /downloads, and the interface's files everywhere
// else.
func New(c Config) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.HandleMethodNotAllowed = true
	engine.Use(logged(c.Log, c.BehindProxy), recovered(c.Log), hosts(c.Hosts), sameSite(), securityHeaders, bounded,
		gzip.Gzip(gzip.BestSpeed))
	a := Register(engine, c)
	engine.GET("/downloads/:name", gin.WrapF(a.builds.serve))
	engine.NoRoute(serveFiles(c.Web))
	engine.NoMethod(func(c *gin.Context) {
		refuse(c, http.StatusMethodNotAllowed, "This address does not take "+c.Request.Method+".")
	})
	return engine
}

// Register adds the API's operations to an engine.
func Register(engine *gin.Engine, c Config) *API {
	a := &API{store: c.Store, judge: c.Judge, people: c.People, builds: &builds{folder: c.Builds}, log: c.Log}
	group := engine.Group("/api/v1", letGo, a.signedIn)
	a.describe(engine, group)
	return a
}

// Description returns the API's description without serving it.
func Description() *huma.OpenAPI {
	engine := gin.New()
	return (&API{builds: &builds{}}).describe(engine, engine.Group("/api/v1"))
}

func (a *API) describe(engine *gin.Engine, routes *gin.RouterGroup) *huma.OpenAPI {
	huma.DefaultArrayNullable = false // lists are never null here
	config := huma.DefaultConfig("Latchkey", "1")
	config.DocsPath, config.SchemasPath, config.OpenAPIPath = "", "", "/openapi"
	config.CreateHooks = nil
	config.Servers = []*huma.Server{{URL: "/api/v1"}}
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	all := humagin.NewWithGroup(engine, routes, config)
	all.UseMiddleware(a.allowed(all))
	group := huma.NewGroup(all)
	group.UseSimpleModifier(func(o *huma.Operation) {
		if o.MaxBodyBytes == 0 {
			o.MaxBodyBytes = maxJSON
		}
	})
	for _, register := range []func(huma.API){
		a.registerSession, a.registerAccounts, a.registerCases, a.registerEvidence, a.registerChecks,
		a.registerStatements, a.registerListings, a.registerPieces, a.registerPrepare, a.registerDownloads,
		a.registerRepair, a.registerStarts, a.registerHandover, a.registerReport, a.registerParcel,
		a.registerMemory, a.registerHistory, a.registerStick,
	} {
		register(group)
	}
	huma.Register(group, huma.Operation{OperationID: "health", Method: http.MethodGet, Path: "/health", Summary: "Whether the server and its database answer",
		Metadata: open}, a.health)
	annotate(config.Components.Schemas)
	return all.OpenAPI()
}

// schemaName is the name of a type in the description: what a person tells of a disk is
// told apart from the disk that it is judged to be.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	if t.PkgPath() == reflect.TypeFor[told.Disk]().PkgPath() {
		return "Told" + name
	}
	return name
}

type healthOutput struct {
	Body struct {
		Status string `json:"status"`
	}
}

func (a *API) health(ctx context.Context, _ *struct{}) (*healthOutput, error) {
	if err := a.store.Ping(ctx); err != nil {
		return nil, huma.Error503ServiceUnavailable("The database does not answer.")
	}
	out := &healthOutput{}
	out.Body.Status = "ok"
	return out, nil
}

// problem turns an error into the response that says what happened and what to
// try. RFC 9457. What the database or the system said stays in the server's log.
func (a *API) problem(ctx context.Context, err error) error {
	var bad *judge.BadChange
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("There is no such case, or it was deleted.")
	case errors.Is(err, store.ErrConflict):
		return huma.Error409Conflict("Someone else changed this case in the meantime. Load it again; what you entered is still in the form.")
	case errors.Is(err, judge.ErrNoEvidence):
		return huma.Error404NotFound("Nothing of this disk is in evidence yet.")
	case errors.As(err, &bad):
		return huma.Error422UnprocessableEntity(bad.Text)
	case errors.Is(err, judge.ErrBusy):
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable("The server is busy with other evidence. Nothing was changed; try again in a moment."), http.Header{"Retry-After": {"5"}})
	}
	a.log.ErrorContext(ctx, "fault", "request", requestID(ctx), "cause", err)
	switch {
	case errors.Is(err, store.ErrUncertain):
		return huma.Error503ServiceUnavailable("The database went away while the change was being confirmed: whether it was made is not known. Load the case again before you try once more.")
	case errors.Is(err, store.ErrUnavailable):
		return huma.Error503ServiceUnavailable("The database does not answer. Nothing was changed; try again in a moment.")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "The request was given up.")
	}
	return huma.Error500InternalServerError(failed(requestID(ctx)))
}

// failed is what is said of a fault: its cause stands in the log under the identifier.
func failed(id string) string { return "The server failed. Its log tells why, under " + id + "." }

// stored is the answer where a change was made and something after it failed.
func (a *API) stored(ctx context.Context, err error) error {
	a.log.ErrorContext(ctx, "fault after a change", "request", requestID(ctx), "cause", err)
	return huma.Error503ServiceUnavailable("The change was made, but what follows from it could not be computed. Load the case again.")
}
