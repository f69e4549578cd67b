// Package console serves the console's files, which are embedded if they were
// built. Every address that is not a file gets the one page, so that every view
// has an address.
package console

import (
	"bytes"
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"
)

//go:embed all:dist
var built embed.FS

const unbuilt = `<!doctype html><meta charset="utf-8"><title>Gray Loft</title>
<body style="font:16px/1.5 system-ui;max-width:40em;margin:4em auto;padding:0 1em">
<h1>The console is not built</h1>
<p>This service was compiled without its console. The rest of it works. To have the console as well, run
<code>make build</code> in the repository, which needs Node and npm, and start the service again.</p>`

// Handler serves the console, or says how to build it.
func Handler() http.Handler {
	files, err := fs.Sub(built, "dist")
	if err != nil {
		panic(err) // the directory is embedded
	}
	page, err := fs.ReadFile(files, "index.html")
	if err != nil {
		page = []byte(unbuilt)
	}
	static := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "only GET is allowed here", http.StatusMethodNotAllowed)
			return
		}
		h := w.Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' "+
				"data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				h.Set("Cache-Control", "public, immutable, max-age=31536000")
			}
			static.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			http.NotFound(w, r)
			return
		}
		h.Set("Cache-Control", "no-cache")
		http.ServeContent(w, r, "index.html", time.Time{}, bytes.NewReader(page))
	})
}
