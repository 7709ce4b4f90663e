package project

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// This file saves operations in the project's folder, and removes them there.

// Errors of [Project.SaveOperation] and [Project.RemoveOperation].
var (
	ErrOperationName    = errors.New("is no name of an operation's file: letters, digits and _ are")
	ErrOperationChanged = errors.New("is there already, or was changed in the meantime")
	ErrNoOperation      = errors.New("is none of the project")
	ErrNotWritable      = errors.New("the folder of the project cannot be written")
)

var operationName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,99}$`)

// SaveOperation writes a text of operations into operations/, where its file has this name, and serves it. before is the
// SHA-256 of the text that it replaces, "" for a new one. The error is [Findings] if the text is not sound.
func (p *Project) SaveOperation(ctx context.Context, name, text, before string) error {
	p.saving.Lock()
	defer p.saving.Unlock()
	if !operationName.MatchString(name) {
		return fmt.Errorf("%.100q %w", name, ErrOperationName)
	}
	revision, release := p.Hold()
	defer release()
	own := SavedOperation{Name: name, File: filepath.Join(p.Dir, "operations", name+".graphql"), Text: text}
	all := slices.Clone(revision.Operations)
	at := slices.IndexFunc(all, func(op SavedOperation) bool { return op.Name == name })
	if at >= 0 {
		own.File = all[at].File
		all[at] = own
	} else {
		all = append(all, own)
	}
	if findings := checkOperation(revision.Schema, own); findings.Failed() {
		return findings.Errors()
	}
	_, had := savedByName(revision.Operations)
	if _, twice := savedByName(all); len(twice) > len(had) { // it has the name of another
		return twice[len(twice)-1:]
	}
	switch now, err := os.ReadFile(own.File); {
	case errors.Is(err, fs.ErrNotExist) && before == "":
	case err == nil && before != "" && strings.EqualFold(before, HashOf(string(now))):
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: %w", ErrNotWritable, err)
	default:
		return fmt.Errorf("the operation %s %w", name, ErrOperationChanged)
	}
	err := os.MkdirAll(filepath.Dir(own.File), 0o755)
	if err == nil {
		err = writeWhole(own.File, text)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNotWritable, err)
	}
	return p.reloadFor(ctx)
}

// RemoveOperation removes the file of an operation whose text has a SHA-256, and serves it no more.
func (p *Project) RemoveOperation(ctx context.Context, name, sha256 string) error {
	p.saving.Lock()
	defer p.saving.Unlock()
	revision, release := p.Hold()
	defer release()
	at := slices.IndexFunc(revision.Operations, func(op SavedOperation) bool { return op.Name == name })
	if at < 0 {
		return fmt.Errorf("%.100q %w", name, ErrNoOperation)
	}
	file := revision.Operations[at].File
	now, err := os.ReadFile(file)
	if err == nil && !strings.EqualFold(sha256, HashOf(string(now))) {
		return fmt.Errorf("the operation %s %w", name, ErrOperationChanged)
	}
	if err == nil {
		err = os.Remove(file)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // which somebody has removed already
		return fmt.Errorf("%w: %w", ErrNotWritable, err)
	}
	return p.reloadFor(ctx)
}

// reloadFor serves a folder in which a file was written, or removed: what is wrong with others is told of them.
func (p *Project) reloadFor(ctx context.Context) error {
	if _, err := p.Reload(ctx); ctx.Err() != nil {
		return err
	}
	return nil
}
