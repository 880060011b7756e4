package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/disk"
)

// Download is a build of the capture command, or the stick.
type Download struct {
	Name   string `json:"name"`
	System string `json:"system" enum:"linux,windows,stick"`
	Arch   string `json:"arch" enum:"amd64,386,arm64"`
	Size   string `json:"size"`
	Oldest string `json:"oldest" doc:"The oldest system that it runs on; of the stick, the machines that it starts on"`
	SHA256 string `json:"sha256" doc:"Of the file, in hexadecimal digits"`
}

// downloadName is how scripts/downloads names the builds, and scripts/stick the stick.
var downloadName = regexp.MustCompile(`^latchkey-(?:capture-(linux|windows)-(amd64|386|arm64)(?:\.exe)?|stick\.img)$`)

// oldest are the oldest systems that the builds run on: Go 1.26, minimum requirements; and
// the machines on which the stick starts.
var oldest = map[string]string{"windows": "Windows 10 or Server 2016", "linux": "Linux 3.2",
	"stick": "PCs of 64 bits, with UEFI (secure boot too) or legacy firmware, and 768 MiB of memory"}

type downloadsOutput struct{ Body []Download }

func (a *API) registerDownloads(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-downloads", Method: http.MethodGet, Path: "/downloads", Summary: "List the builds of the capture command"}, a.listDownloads)
}

// builds is the folder with the builds of the capture command. A build's sum is
// computed once for each that is there.
type builds struct {
	folder string
	mu     sync.Mutex
	sums   map[string]sum // by name
}

type sum struct {
	made   time.Time
	sha256 string
}

// listDownloads lists the builds that are ready; one that is still being built is
// not among them.
func (a *API) listDownloads(ctx context.Context, _ *struct{}) (*downloadsOutput, error) {
	out := &downloadsOutput{Body: []Download{}}
	entries, err := os.ReadDir(a.builds.folder)
	if err != nil && !os.IsNotExist(err) {
		return nil, a.problem(ctx, err)
	}
	for _, e := range entries {
		m := downloadName.FindStringSubmatch(e.Name())
		info, err := e.Info()
		if m == nil || err != nil || !info.Mode().IsRegular() {
			continue
		}
		sha256, err := a.builds.sum(e.Name(), info.ModTime())
		if err != nil {
			return nil, a.problem(ctx, err)
		}
		system, arch := m[1], m[2]
		if system == "" {
			system, arch = "stick", "amd64"
		}
		out.Body = append(out.Body, Download{e.Name(), system, arch, disk.Label(info.Size()), oldest[system], sha256})
	}
	sort.Slice(out.Body, func(i, j int) bool {
		return out.Body[i].Arch+out.Body[i].System < out.Body[j].Arch+
			out.Body[j].System
	})
	return out, nil
}

func (b *builds) sum(name string, made time.Time) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s, ok := b.sums[name]; ok && s.made.Equal(made) {
		return s.sha256, nil
	}
	f, err := os.Open(filepath.Join(b.folder, name))
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	if b.sums == nil {
		b.sums = map[string]sum{}
	}
	b.sums[name] = sum{made, hex.EncodeToString(h.Sum(nil))}
	return b.sums[name].sha256, nil
}

// serve hands out a build.
func (b *builds) serve(w http.ResponseWriter, r *http.Request) {
	name := filepath.Base(r.URL.Path)
	if !downloadName.MatchString(name) {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
	http.ServeFile(w, r, filepath.Join(b.folder, name))
}
