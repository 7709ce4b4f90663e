package project

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"osprey/core/assist"
	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/stores/relational"
)

// CheckTypes checks the types of a project, a folder of schema files or one
// file, without any store. If the types are sound, it checks operations too:
// those of the project, and those below the folder or in the file operations,
// if that is not empty. Each file of operations stands for itself.
func CheckTypes(path, operations string) (Findings, error) {
	texts, saved, err := readTypes(path)
	if err != nil {
		return nil, err
	}
	if operations != "" {
		more, err := readOperationFiles(operations)
		if err != nil {
			return nil, err
		}
		saved = append(saved, more...)
	}
	s, problems := binding.Build(texts, foldingSources(path))
	findings := placed(problems, s.Source)
	for i := range findings {
		if findings[i].At.Line == 0 { // what is missing has no place; it belongs into some file
			findings[i].At = language.Position{Name: texts[0].Name, Line: 1, Column: 1}
		}
	}
	if findings.Failed() {
		return findings, nil
	}
	for _, op := range saved {
		findings = append(findings, checkOperation(s, op)...)
	}
	return findings, nil
}

// foldingSources tells, as osprey.yaml says, which sources are relational; nil if
// nothing says so, and any may be.
func foldingSources(path string) func(string) bool {
	text, err := os.ReadFile(filepath.Join(path, ConfigFile))
	if err != nil {
		return nil
	}
	config, problems := readConfig(language.NewSource(path, string(text)), os.LookupEnv)
	if problems.Failed() {
		return nil
	}
	return func(source string) bool {
		c := config.Sources[source]
		return c != nil && slices.Contains(relational.Kinds(), c.Kind)
	}
}

// readTypes reads the schema files of a project, a folder or one file, and the
// operations of a project.
func readTypes(path string) ([]schema.Text, []SavedOperation, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, nil, unreadable(err)
	}
	if !info.IsDir() {
		body, err := os.ReadFile(path)
		return []schema.Text{{Name: path, Body: string(body)}}, nil, err
	}
	if _, err := os.Stat(filepath.Join(path, "schema")); err == nil {
		files, err := ReadFiles(path)
		if err != nil && !errors.Is(err, ErrNoProject) {
			return nil, nil, err
		}
		texts, err := files.types(path)
		if src, config, _, err := files.config(path); err == nil {
			described, _ := files.describe(config, src, path)
			texts = append(texts, described.texts()...)
		}
		return texts, files.operations(path), err
	}
	var texts []schema.Text
	err = readDocuments(path, func(file, body string) { texts = append(texts, schema.Text{Name: file, Body: body}) })
	if err == nil && len(texts) == 0 {
		err = fmt.Errorf("%s holds no .graphql files", path)
	}
	return texts, nil, err
}

// readOperationFiles reads a folder of operations, or one file.
func readOperationFiles(path string) ([]SavedOperation, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, unreadable(err)
	}
	if !info.IsDir() {
		body, err := os.ReadFile(path)
		return []SavedOperation{savedOperation(path, string(body))}, err
	}
	var list []SavedOperation
	err = readDocuments(path, func(file, body string) {
		list = append(list, savedOperation(file, body))
	})
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("%s holds no .graphql files", path)
	}
	return list, err
}

// CheckOperations checks the operations in a folder or file against the
// revision's schema.
func (r *Revision) CheckOperations(path string) (Findings, error) {
	list, err := readOperationFiles(path)
	if err != nil {
		return nil, err
	}
	var findings Findings
	for _, op := range list {
		findings = append(findings, checkOperation(r.Schema, op)...)
	}
	return findings, nil
}

// checkOperation checks a saved operation against the schema.
func checkOperation(s *schema.Schema, op SavedOperation) Findings {
	src := language.NewSource(op.File, op.Text)
	problems, _ := assist.Problems(context.Background(), s, src)
	return placed(problems, inOne(src))
}

// ruleLayout is the rule of files that are not tidy.
const ruleLayout = "layout"

// Tidy formats the text of a file. Its findings are the faults of syntax, which
// keep it from being formatted, or one of the rule "layout" if the text was not
// tidy.
func Tidy(file, text string) (string, Findings) {
	src := language.NewSource(file, text)
	doc, problems := language.Parse(src)
	if problems.Failed() {
		return text, placed(problems, inOne(src))
	}
	tidy := language.Tidy(doc)
	if tidy == text {
		return text, nil
	}
	at := 0
	for at < len(text) && at < len(tidy) && text[at] == tidy[at] {
		at++
	}
	untidy := problems.Add(ruleLayout, src.Pos(at), "the file is not tidy from here on")
	untidy.Severity, untidy.Fix = language.Warning, "run osprey tidy"
	return tidy, placed(problems, inOne(src))
}

// unreadable is the error of a file or folder that cannot be read.
func unreadable(err error) error {
	var file *fs.PathError
	if errors.As(err, &file) {
		return fmt.Errorf("%s cannot be read: %w", file.Path, file.Err)
	}
	return err
}

// Documents returns the paths of the .graphql files below a folder, or the path
// itself if it is a file.
func Documents(path string) ([]string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, unreadable(err)
	}
	if !info.IsDir() {
		return []string{path}, nil
	}
	var files []string
	err = readDocuments(path, func(file, _ string) { files = append(files, file) })
	return files, err
}
