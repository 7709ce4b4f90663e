package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// A SavedOperation is a file of a project's folder operations/.
type SavedOperation struct {
	Name string // of the file, without its ending
	File string
	Text string
}

// errNoSchema and errNoFiles are the errors of a project that has no types.
var (
	errNoSchema = errors.New("has no folder schema/ with .graphql files")
	errNoFiles  = errors.New("holds no .graphql files")
)

// readSchema reads every .graphql file below schema/.
func readSchema(dir string) ([]schema.Text, error) {
	root := filepath.Join(dir, "schema")
	var texts []schema.Text
	err := readDocuments(root, func(path, body string) {
		texts = append(texts, schema.Text{Name: path, Body: body})
	})
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s %w", dir, errNoSchema)
	case err == nil && len(texts) == 0:
		return nil, fmt.Errorf("%s %w", root, errNoFiles)
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

// readDocuments reads the .graphql files below a folder. Names that begin with a dot are what
// editors, and who mounts folders, leave beside the files.
func readDocuments(root string, add func(path, body string)) error {
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && path != root && strings.HasPrefix(d.Name(), ".") {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".graphql") {
			return err
		}
		body, err := os.ReadFile(path)
		add(path, string(body))
		return err
	})
}

// ruleSaved is the rule of operations that are saved twice.
const ruleSaved = "saved-twice"

// savedByName returns the texts of saved operations by the names of the
// operations in them. A name that is used twice means the first.
func savedByName(list []SavedOperation) (map[string]string, Findings) {
	saved, files := map[string]string{}, map[string]string{}
	var findings Findings
	for _, op := range list {
		src := language.NewSource(op.File, op.Text)
		doc, problems := language.Parse(src)
		if problems.Failed() {
			continue // which is told of the file itself
		}
		for _, d := range doc.Definitions {
			o, ok := d.(*language.Operation)
			if !ok || o.Name.Text == "" {
				continue
			}
			name := o.Name.Text
			if files[name] != "" {
				p := problems.Add(ruleSaved, o.Name.Pos, "the operation %s is saved in %s too, and who asks for it by name gets that one", name, files[name])
				p.Severity, p.Fix = language.Warning, "give one of them another name"
				continue
			}
			saved[name], files[name] = op.Text, op.File
		}
		findings = append(findings, placed(problems, inOne(src))...)
	}
	return saved, findings
}
