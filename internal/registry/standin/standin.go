// Package standin answers as a Go module proxy and an npm registry would, from a table
// of versions: for tests and the demonstration. It has no packages, only their
// versions.
package standin

import (
	"encoding/json"
	"net/http"
	"strings"

	"golang.org/x/mod/module"
)

// Handler answers for versions by ecosystem ("go" or "npm") and package.
type Handler map[string]map[string][]string

// ServeHTTP answers lists of versions below /go/, and package documents below /npm/.
func (h Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if rest, ok := strings.CutPrefix(r.URL.Path, "/go/"); ok {
		name, isList := strings.CutSuffix(rest, "/@v/list")
		path, err := module.UnescapePath(name)
		if list, known := h["go"][path]; isList && err == nil && known {
			_, _ = w.Write([]byte(strings.Join(list, "\n") + "\n"))
			return
		}
	}
	if name, ok := strings.CutPrefix(r.URL.Path, "/npm/"); ok {
		if list, known := h["npm"][name]; known {
			versions := map[string]any{}
			for _, v := range list {
				versions[v] = map[string]string{"name": name, "version": v}
			}
			w.Header().Set("Content-Type", "application/vnd.npm.install-v1+json")
			_ = json.NewEncoder(w).Encode(map[string]any{"name": name, "versions": versions})
			return
		}
	}
	http.NotFound(w, r)
}
