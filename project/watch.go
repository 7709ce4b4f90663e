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
// osprey.yaml, what is in schema/ and operations/, and the JSON Schemas that osprey.yaml names. The error is that the folder cannot be
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
	described := follow(w, dir)
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
				if concerns(dir, e.Name, described) {
					timer.Reset(settled)
				}
			case <-w.Errors: // some events may be lost
				timer.Reset(settled)
			case <-timer.C:
				described = follow(w, dir) // folders may have come
				changed()
			}
		}
	}()
	return nil
}

// follow follows the folders of a project that are there, and returns the paths of the JSON Schemas
// that it names.
func follow(w *fsnotify.Watcher, dir string) (described []string) {
	for _, name := range textFolders {
		filepath.WalkDir(filepath.Join(dir, name), func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				w.Add(path) // again is no harm
			}
			return nil
		})
	}
	text, err := os.ReadFile(filepath.Join(dir, ConfigFile))
	if err != nil {
		return nil
	}
	described = Files{ConfigFile: string(text)}.gather(dir)
	for _, name := range described {
		w.Add(filepath.Join(dir, filepath.Dir(filepath.FromSlash(name)))) // one that is not there comes in one that is followed
	}
	return described
}

// concerns reports whether an event at a path can change what the project says.
func concerns(dir, path string, described []string) bool {
	within, err := filepath.Rel(dir, path)
	if err != nil {
		return false
	}
	if within == ConfigFile {
		return true
	}
	within = filepath.ToSlash(within)
	if slices.ContainsFunc(described, func(name string) bool { return name == within || strings.HasPrefix(name, within+"/") }) {
		return true
	}
	first, _, _ := strings.Cut(within, "/")
	if !slices.Contains(textFolders, first) {
		return false
	}
	// A folder, or one that is gone, may have had files in it.
	info, err := os.Stat(path)
	return strings.HasSuffix(path, ".graphql") || err != nil || info.IsDir()
}
