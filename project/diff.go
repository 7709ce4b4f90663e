package project

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"osprey/core/binding"
	"osprey/core/compare"
	"osprey/core/language"
	"osprey/core/schema"
)

// SchemaAt returns the schema of a project, whose stores are asked what they hold, or else that
// of a file or folder of types, without any store. The error is [Findings] if it is at fault.
func SchemaAt(ctx context.Context, path string, typesOnly bool, waiting func([]string)) (*schema.Schema, error) {
	if _, err := os.Stat(filepath.Join(path, ConfigFile)); err == nil && !typesOnly {
		p, _, err := OpenWith(ctx, path, slog.New(slog.DiscardHandler), &Additions{Waiting: waiting})
		if err != nil {
			return nil, err
		}
		defer p.Close()
		for _, name := range sortedNames(p.Sources) {
			if why := p.Sources[name].Unknown(); why != nil {
				return nil, fmt.Errorf("the source %s of %s has not told what it holds: %s; compare the types alone by --types-only", name, path, told(why))
			}
		}
		return p.Revision().Schema, nil
	}
	texts, _, err := readTypes(path)
	if err != nil {
		return nil, err
	}
	s, problems := binding.Build(texts, foldingSources(path))
	if findings := placed(problems, s.Source); findings.Failed() {
		return nil, findings
	}
	return s, nil
}

// SchemaOf returns the schema that a text is, as a service shows it.
func SchemaOf(name, text string) (*schema.Schema, error) {
	s, problems := binding.Build([]schema.Text{{Name: name, Body: text}}, nil)
	if findings := placed(problems, s.Source); findings.Failed() {
		return nil, findings
	}
	return s, nil
}

// UsedBy returns what the operations of a folder or file use of a schema. Operations that do not
// fit it are an error.
func UsedBy(s *schema.Schema, path string) (*compare.Used, error) {
	list, err := readOperationFiles(path)
	if err != nil {
		return nil, err
	}
	used := compare.NewUsed(s)
	for _, op := range list {
		if findings := checkOperation(s, op); findings.Failed() {
			return nil, findings
		}
		doc, problems := language.Parse(language.NewSource(op.File, op.Text))
		if problems.Failed() {
			return nil, errors.New(op.File + " cannot be read")
		}
		used.Add(doc)
	}
	return used, nil
}
