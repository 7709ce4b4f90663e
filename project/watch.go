package project

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// settled is how long nothing must happen to a project's files before they are read: editors write
// one in several steps, and a person saves several.
const settled = 120 * time.Millisecond

// Watch calls changed whenever files of the project in a folder may have changed, until ctx ends:
// osprey.yaml, and what is in schema/ and operations/. The error is that the folder cannot be
// followed.
func Watch(ctx context.Context, dir string, changed func()) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	if err := w.Add(dir); err != nil {
		w.Close()
		return err
	}
	follow(w, dir)
	go func() {
		defer w.Close()
		timer := time.NewTimer(time.Hour)
		timer.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case e, ok := <-w.Events:
				if !ok {
					return
				}
				if concerns(dir, e.Name) {
					timer.Reset(settled)
				}
			case <-w.Errors: // some events may be lost
				timer.Reset(settled)
			case <-timer.C:
				follow(w, dir) // folders may have come
				changed()
			}
		}
	}()
	return nil
}

// follow follows the folders of a project that are there.
func follow(w *fsnotify.Watcher, dir string) {
	for _, name := range textFolders {
		filepath.WalkDir(filepath.Join(dir, name), func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				w.Add(path) // again is no harm
			}
			return nil
		})
	}
}

// concerns reports whether an event at a path can change what the project says.
func concerns(dir, path string) bool {
	within, err := filepath.Rel(dir, path)
	if err != nil {
		return false
	}
	if within == ConfigFile {
		return true
	}
	first, _, _ := strings.Cut(filepath.ToSlash(within), "/")
	if !slices.Contains(textFolders, first) {
		return false
	}
	// A folder, or one that is gone, may have had files in it.
	info, err := os.Stat(path)
	return strings.HasSuffix(path, ".graphql") || err != nil || info.IsDir()
}
