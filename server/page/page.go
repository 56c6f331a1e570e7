// Package page serves the front end that is built into the program.
package page

import (
	"embed"
	"io/fs"
	"net/http"
	"strings"
)

//go:embed all:dist
var built embed.FS

// Handler serves the built files, and the page itself for every other path,
// since the front end has addresses of its own.
func Handler() http.Handler {
	files, err := fs.Sub(built, "dist")
	if err != nil {
		panic(err) // the folder is compiled in
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			server.ServeHTTP(w, r)
			return
		}
		if info, err := fs.Stat(files, name); name != "" && err == nil && !info.IsDir() {
			server.ServeHTTP(w, r)
			return
		}
		index, err := fs.ReadFile(files, "index.html")
		if err != nil {
			http.Error(w, "The page is not built into this program. Run `make build`.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(index) // whoever asked may be gone
	})
}
