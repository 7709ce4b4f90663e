// Package console serves the web console, whose built files are part of the
// program. They are made by "make console" and are not kept with the sources.
package console

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var built embed.FS

// Handler serves the console. Paths that are no file are pages of the console,
// which finds its way itself. Without built files it says how to make them.
func Handler() http.Handler {
	dist, err := fs.Sub(built, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	files := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean("/"+r.URL.Path), "/")
		page, err := fs.ReadFile(dist, "index.html")
		if err != nil {
			http.Error(w, "the console is not built into this program; build it with: make console build", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		if info, err := fs.Stat(dist, name); name == "" || name == "index.html" || err != nil || info.IsDir() {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Cache-Control", "no-cache")
			w.Write(page)
			return
		}
		if strings.HasPrefix(name, "assets/") { // their names change with their content
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		files.ServeHTTP(w, r)
	})
}
