package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// What stands before every handler.

type contextKey int

const (
	keyRequest contextKey = iota
	keyPerson
	keyAddress
)

// requestID is the identifier under which a request stands in the log.
func requestID(ctx context.Context) string {
	id, _ := ctx.Value(keyRequest).(string)
	return id
}

// address is where a request came from.
func address(ctx context.Context) string {
	at, _ := ctx.Value(keyAddress).(string)
	return at
}

// logged gives each request an identifier and writes one line about it.
func logged(log *slog.Logger, behindProxy bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		raw := make([]byte, 8)
		_, _ = rand.Read(raw)
		id, began := hex.EncodeToString(raw), time.Now()
		c.Header("X-Request-Id", id)
		from := cameFrom(c.Request, behindProxy)
		ctx := context.WithValue(context.WithValue(c.Request.Context(), keyRequest, id), keyAddress, from)
		c.Request = c.Request.WithContext(ctx)
		c.Next()
		who := ""
		if p := person(c.Request.Context()); p != nil {
			who = p.Name
		}
		log.Info("request", "id", id, "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(),
			"bytes", c.Writer.Size(), "took", time.Since(began).Round(time.Microsecond), "from", from, "who", who)
	}
}

// cameFrom is the address that a request came from; of those that proxies tell, the last
// is of the one before the server.
func cameFrom(r *http.Request, behindProxy bool) string {
	if told := r.Header.Values("X-Forwarded-For"); behindProxy && len(told) > 0 {
		all := strings.Split(told[len(told)-1], ",")
		if ip := net.ParseIP(strings.TrimSpace(all[len(all)-1])); ip != nil {
			return ip.String()
		}
	}
	if from, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		return from
	}
	return r.RemoteAddr
}

// recovered answers a panic with its identifier alone.
func recovered(log *slog.Logger) gin.HandlerFunc {
	return func(c *gin.Context) {
		defer func() {
			if p := recover(); p != nil {
				id := requestID(c.Request.Context())
				log.Error("panic", "request", id, "cause", p, "stack", string(debug.Stack()))
				refuse(c, http.StatusInternalServerError, failed(id))
			}
		}()
		c.Next()
	}
}

// refuse ends a request with a problem. RFC 9457.
func refuse(c *gin.Context, status int, detail string) {
	if c.Writer.Written() {
		c.Abort()
		return
	}
	raw, _ := json.Marshal(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
	c.Data(status, "application/problem+json", raw)
	c.Abort()
}

// hosts refuses a request that names the server otherwise than it is known: a page of
// another site can have its own name lead here.
func hosts(names []string) gin.HandlerFunc {
	return func(c *gin.Context) {
		host := strings.ToLower(c.Request.Host)
		bare := host
		if h, _, err := net.SplitHostPort(host); err == nil {
			bare = h
		}
		bare = strings.Trim(bare, "[]")
		if !slices.Contains(names, host) && !slices.Contains(names, bare) {
			refuse(c, http.StatusMisdirectedRequest, "The server is not known by this name. Address it as it printed when it was started, or start it with --host and the name.")
			return
		}
		c.Next()
	}
}

// sameSite refuses what a page of another site makes a browser send.
func sameSite() gin.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(c *gin.Context) {
		if err := protection.Check(c.Request); err != nil {
			refuse(c, http.StatusForbidden, "The request came from a page of another site.")
			return
		}
		c.Next()
	}
}

func securityHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=(), usb=()")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	if inAPI(c.Request.URL.Path) {
		h.Set("Cache-Control", "no-store")
	}
	if c.Request.TLS != nil {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
}

func inAPI(path string) bool { return strings.HasPrefix(path, "/api/") }

// The least rate at which a request must come in, and an answer be taken: slow lines get
// through, a stalled one does not. The first bytes have as long as grace.
const (
	grace     = 20 * time.Second
	leastRate = 8 << 10 // bytes a second
)

// bounded bounds a request in size and kind, and in time by the rate at which it comes.
func bounded(c *gin.Context) {
	r := c.Request
	control := http.NewResponseController(c.Writer)
	c.Writer = &pacedWriter{c.Writer, control}
	if r.Body == nil || r.ContentLength == 0 {
		c.Next()
		return
	}
	limit, isForm := int64(maxJSON), false
	if inAPI(r.URL.Path) {
		switch kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); kind {
		case "application/json":
		case "multipart/form-data":
			limit, isForm = maxBody, true
		default:
			refuse(c, http.StatusUnsupportedMediaType, "Expected application/json, or multipart/form-data for files.")
			return
		}
	}
	tooLarge := func() {
		c.Header("Connection", "close")
		refuse(c, http.StatusRequestEntityTooLarge, fmt.Sprintf("The request is larger than the %d bytes that are taken.", limit))
	}
	if r.ContentLength > limit {
		tooLarge()
		return
	}
	_ = control.SetReadDeadline(time.Now().Add(grace))
	r.Body = &pacedBody{http.MaxBytesReader(c.Writer, r.Body, limit), control, time.Now().Add(grace)}
	if !isForm {
		raw, err := io.ReadAll(r.Body)
		if large := new(http.MaxBytesError); errors.As(err, &large) {
			tooLarge()
			return
		}
		if err != nil {
			refuse(c, http.StatusBadRequest, "The request did not come in whole.")
			return
		}
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(raw)), int64(len(raw))
	}
	c.Next()
}

// pacedBody moves the connection's deadline on with what comes in.
type pacedBody struct {
	io.ReadCloser
	control *http.ResponseController
	by      time.Time
}

func (b *pacedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.by = b.by.Add(time.Duration(n) * time.Second / leastRate)
	if err == nil {
		_ = b.control.SetReadDeadline(b.by)
	} else { // all is in; what is computed from it takes its own time
		_ = b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// pacedWriter gives an answer's bytes the time that they may take.
type pacedWriter struct {
	gin.ResponseWriter
	control *http.ResponseController
}

func (w *pacedWriter) Write(p []byte) (int, error) {
	_ = w.control.SetWriteDeadline(time.Now().Add(grace + time.Duration(len(p))*time.Second/leastRate))
	return w.ResponseWriter.Write(p)
}

// Unwrap lets a response controller find the connection.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// screens are the addresses of the interface.
var screens = regexp.MustCompile(`^/((cases|bench|lookup|figures|settings|sign-in)(/.*)?)?$`)

// serveFiles serves the built interface; the addresses of its screens get its first
// page, which finds the screen by the path. What does not exist is told so.
func serveFiles(web fs.FS) gin.HandlerFunc {
	files := http.FileServerFS(web)
	return func(c *gin.Context) {
		name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		switch {
		case inAPI(c.Request.URL.Path):
			refuse(c, http.StatusNotFound, "There is no such address in this API.")
			return
		case c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead:
			refuse(c, http.StatusMethodNotAllowed, "This address does not take "+c.Request.Method+".")
			return
		}
		if info, err := fs.Stat(web, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(c.Writer, c.Request)
			return
		}
		page, err := fs.ReadFile(web, "index.html")
		if err != nil {
			refuse(c, http.StatusNotFound, "The interface has not been built.")
			return
		}
		status := http.StatusOK
		if !screens.MatchString(c.Request.URL.Path) {
			status = http.StatusNotFound
		}
		c.Header("Cache-Control", "no-cache")
		c.Data(status, "text/html; charset=utf-8", page)
	}
}
