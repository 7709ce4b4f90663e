package project

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"osprey/core/language"
	"osprey/core/schema"
)

// A SavedOperation is a file of a project's folder operations/.
type SavedOperation struct {
	Name string // of the file, without its ending
	File string
	Text string
}

// Files are the texts that make a project, by their paths in its folder, with slashes:
// osprey.yaml, what is in schema/ and operations/, and the JSON Schemas that osprey.yaml names.
type Files map[string]string

// ReadFiles reads the texts of the project in a folder. What could be read is returned beside an
// error, too.
func ReadFiles(dir string) (Files, error) {
	files := Files{}
	text, wrong := os.ReadFile(filepath.Join(dir, ConfigFile))
	switch {
	case errors.Is(wrong, fs.ErrNotExist) || errors.Is(wrong, syscall.ENOTDIR):
		wrong = fmt.Errorf("%s %w", dir, ErrNoProject)
	case wrong == nil:
		files[ConfigFile] = string(text)
	}
	for _, folder := range textFolders {
		err := readDocuments(filepath.Join(dir, folder), func(path, body string) {
			if within, err := filepath.Rel(dir, path); err == nil {
				files[filepath.ToSlash(within)] = body
			}
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) && wrong == nil {
			wrong = err
		}
	}
	files.gather(dir)
	return files, wrong
}

// ReadOperations reads the operations of a folder, or of the folder operations/ in it, as texts of a project.
func ReadOperations(dir string) (Files, error) {
	if info, err := os.Stat(filepath.Join(dir, "operations")); err == nil && info.IsDir() {
		dir = filepath.Join(dir, "operations")
	}
	files := Files{}
	err := readDocuments(dir, func(path, body string) {
		if within, err := filepath.Rel(dir, path); err == nil {
			files["operations/"+filepath.ToSlash(within)] = body
		}
	})
	return files, err
}

// textFolders are the folders that hold a project's .graphql files.
var textFolders = []string{"schema", "operations"}

// IsText reports whether a path is one of the texts of a project.
func IsText(path string) bool {
	if path == ConfigFile {
		return true
	}
	folder, name, nested := strings.Cut(path, "/")
	return nested && slices.Contains(textFolders, folder) && strings.HasSuffix(name, ".graphql") && filepath.IsLocal(filepath.FromSlash(name)) && !strings.ContainsRune(name, 0)
}

// IsPart reports whether a path is one that [Files] can have.
func IsPart(path string) bool { return IsText(path) || isDescription(path) }

// errNoSchema is the error of a project that has no types.
var errNoSchema = errors.New("has no folder schema/ with .graphql files")

// noTypes is what a project has that is only begun, since a schema has at least one field.
var noTypes = []schema.Text{{Name: "(no types yet)", Body: `type Query {
  "There are no types yet: they go into files of schema/."
  nothing: Boolean @computed(expr: "null")
}
`}}

// types returns the texts of schema/. dir stands before their names.
func (f Files) types(dir string) ([]schema.Text, error) {
	var texts []schema.Text
	for _, path := range f.below("schema") {
		texts = append(texts, schema.Text{Name: filepath.Join(dir, path), Body: f[path]})
	}
	if len(texts) == 0 {
		return nil, fmt.Errorf("%s %w", dir, errNoSchema)
	}
	return texts, nil
}

// operations returns the texts of operations/. dir stands before their names.
func (f Files) operations(dir string) (list []SavedOperation) {
	for _, path := range f.below("operations") {
		list = append(list, savedOperation(filepath.Join(dir, path), f[path]))
	}
	return list
}

func savedOperation(path, text string) SavedOperation {
	return SavedOperation{strings.TrimSuffix(filepath.Base(path), ".graphql"), path, text}
}

// below returns the paths in a folder, in their order.
func (f Files) below(folder string) (paths []string) {
	for _, path := range sortedNames(f) {
		if strings.HasPrefix(path, folder+"/") {
			paths = append(paths, path)
		}
	}
	return paths
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
