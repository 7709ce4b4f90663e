package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"osprey/core/schema"
)

// A SavedOperation is a file of a project's folder operations/.
type SavedOperation struct {
	Name string // of the file, without its ending
	File string
	Text string
}

// readSchema reads every .graphql file below schema/.
func readSchema(dir string) ([]schema.Text, error) {
	root := filepath.Join(dir, "schema")
	var texts []schema.Text
	err := readDocuments(root, func(path, body string) {
		texts = append(texts, schema.Text{Name: path, Body: body})
	})
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s has no folder schema/ with .graphql files", dir)
	case err == nil && len(texts) == 0:
		return nil, fmt.Errorf("%s holds no .graphql files", root)
	}
	return texts, err
}

// readOperations reads every .graphql file below operations/, if there is one.
func readOperations(dir string) ([]SavedOperation, error) {
	var list []SavedOperation
	err := readDocuments(filepath.Join(dir, "operations"), func(path, body string) {
		list = append(list, SavedOperation{strings.TrimSuffix(filepath.Base(path), ".graphql"), path, body})
	})
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return list, err
}

// readDocuments reads the .graphql files below a folder.
func readDocuments(root string, add func(path, body string)) error {
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".graphql") {
			return err
		}
		body, err := os.ReadFile(path)
		add(path, string(body))
		return err
	})
}
