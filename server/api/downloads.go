package api

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"sort"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/disk"
)

// Download is a build of the capture command.
type Download struct {
	Name   string `json:"name"`
	System string `json:"system" enum:"linux,windows"`
	Arch   string `json:"arch" enum:"amd64,arm64"`
	Size   string `json:"size"`
}

// downloadName is how scripts/downloads names the builds.
var downloadName = regexp.MustCompile(`^latchkey-capture-(linux|windows)-(amd64|arm64)(\.exe)?$`)

type downloadsOutput struct{ Body []Download }

func (a *API) registerDownloads(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-downloads", Method: http.MethodGet, Path: "/downloads", Summary: "List the builds of the capture command"}, a.listDownloads)
}

// listDownloads lists the builds that are ready; one that is still being built is
// not among them.
func (a *API) listDownloads(_ context.Context, _ *struct{}) (*downloadsOutput, error) {
	out := &downloadsOutput{Body: []Download{}}
	entries, err := os.ReadDir(a.downloads)
	if err != nil && !os.IsNotExist(err) {
		return nil, problem(err)
	}
	for _, e := range entries {
		m := downloadName.FindStringSubmatch(e.Name())
		info, err := e.Info()
		if m == nil || err != nil || !info.Mode().IsRegular() {
			continue
		}
		out.Body = append(out.Body, Download{e.Name(), m[1], m[2], disk.Label(info.Size())})
	}
	sort.Slice(out.Body, func(i, j int) bool { return out.Body[i].Arch+out.Body[i].System < out.Body[j].Arch+out.Body[j].System })
	return out, nil
}

// serveDownload hands out a build.
func serveDownload(folder string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		name := filepath.Base(r.URL.Path)
		if !downloadName.MatchString(name) {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
		http.ServeFile(w, r, filepath.Join(folder, name))
	}
}
