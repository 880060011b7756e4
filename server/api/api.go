// Package api serves cases, evidence and start checks as JSON over HTTP.
package api

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-contrib/gzip"
	"github.com/gin-gonic/gin"

	"latchkey/server/judge"
	"latchkey/server/store"
)

// maxUpload bounds one uploaded file, and maxBody a whole request, in bytes.
const (
	maxUpload = 64 << 20
	maxBody   = 2*maxUpload + 1<<20
)

// API holds what the handlers need.
type API struct {
	store     *store.Store
	judge     *judge.Judge
	downloads string // folder with the builds of the capture command
}

// New returns the handler of the whole application: the API under /api/v1, the
// capture command's builds from a folder under /downloads, and the interface's
// files from web everywhere else.
func New(s *store.Store, j *judge.Judge, web fs.FS, downloads string) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.Use(gin.Recovery(), limitBody, securityHeaders, gzip.Gzip(gzip.DefaultCompression))
	Register(engine, s, j, downloads)
	engine.GET("/downloads/:name", gin.WrapF(serveDownload(downloads)))
	engine.NoRoute(serveFiles(web))
	return engine
}

// Register adds the API's operations to an engine and returns its description.
func Register(engine *gin.Engine, s *store.Store, j *judge.Judge, downloads string) *huma.OpenAPI {
	huma.DefaultArrayNullable = false // lists are never null here
	config := huma.DefaultConfig("Latchkey", "1")
	config.DocsPath, config.SchemasPath, config.OpenAPIPath = "", "", "/openapi"
	config.CreateHooks = nil
	config.Servers = []*huma.Server{{URL: "/api/v1"}}
	group := humagin.NewWithGroup(engine, engine.Group("/api/v1"), config)
	a := &API{store: s, judge: j, downloads: downloads}
	a.registerCases(group)
	a.registerEvidence(group)
	a.registerChecks(group)
	a.registerListings(group)
	a.registerDownloads(group)
	a.registerRepair(group)
	a.registerFirstStart(group)
	huma.Get(group, "/health", a.health)
	return group.OpenAPI()
}

func limitBody(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, maxBody)
}

func securityHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; frame-ancestors 'none'")
}

// serveFiles serves the built interface; unknown paths get its first page, which
// finds the screen by the path.
func serveFiles(web fs.FS) gin.HandlerFunc {
	files := http.FileServerFS(web)
	return func(c *gin.Context) {
		name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		if strings.HasPrefix(name, "api/") {
			c.Data(http.StatusNotFound, "application/problem+json", []byte(`{"title":"Not Found","status":404,"detail":"There is no such address in this API."}`))
			return
		}
		if info, err := fs.Stat(web, name); err != nil || info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				c.Status(http.StatusNotFound)
				return
			}
			c.Request.URL.Path = "/"
			c.Header("Cache-Control", "no-cache")
		} else if strings.HasPrefix(name, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		}
		files.ServeHTTP(c.Writer, c.Request)
	}
}

type healthOutput struct {
	Body struct {
		Status string `json:"status"`
	}
}

func (a *API) health(ctx context.Context, _ *struct{}) (*healthOutput, error) {
	if err := a.store.Ping(ctx); err != nil {
		return nil, problem(err)
	}
	out := &healthOutput{}
	out.Body.Status = "ok"
	return out, nil
}

// problem turns an error into the response that says what happened and what to
// try. RFC 9457.
func problem(err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("There is no such case, or it was deleted.")
	case errors.Is(err, store.ErrConflict):
		return huma.Error409Conflict("Someone else changed this case in the meantime. Load it again; what you entered is still in the form.")
	case errors.Is(err, store.ErrUnavailable):
		return huma.Error503ServiceUnavailable("The database does not answer. Nothing was changed; try again in a moment.")
	case errors.Is(err, judge.ErrNoEvidence):
		return huma.Error404NotFound("Nothing of this disk is in evidence yet.")
	}
	return huma.Error500InternalServerError("The server failed: " + err.Error())
}
