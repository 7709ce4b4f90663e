package project

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"strings"
	"sync"

	"osprey/core/language"
	"osprey/stores/functions"
)

// Reload reads the project's files again, and serves what they say from then on, if it is sound;
// if not, what is served stays. Sources whose entry in osprey.yaml is the same keep what they have
// open. Several may call it at once: one after the other reads the files. The error is [Findings]
// if the project is at fault.
func (p *Project) Reload(ctx context.Context) (findings Findings, err error) {
	findings, err = p.replace(ctx, func() (Files, error) { return ReadFiles(p.Dir) }, nil, nil)
	if err == nil || ctx.Err() == nil {
		p.tellTrouble(findings, err)
		p.ofStore.Store(false)
	}
	return findings, err
}

// Take serves files that are not those of the folder, as Reload does; label says which revision
// they are. Before it is served, admit is shown the revision, and can refuse it by an error; it may
// be nil. What a running service cannot change stays as the folder has it.
func (p *Project) Take(ctx context.Context, files Files, label *Label, admit func(next *Revision) error) (Findings, error) {
	return p.replace(ctx, func() (Files, error) { return files, nil }, label, admit)
}

// replace serves other files from now on, if they are sound.
func (p *Project) replace(ctx context.Context, read func() (Files, error), label *Label, admit func(*Revision) error) (findings Findings, err error) {
	p.reading.Lock()
	defer p.reading.Unlock()
	files, err := read()
	if err != nil {
		return nil, err
	}
	next, problems, err := p.readAnew(files)
	if err != nil {
		errors.As(err, &findings)
		return findings, err
	}
	next.label.Store(label)
	// Stores that are new tell what they hold before anything waits for them.
	aside := &Project{Dir: p.Dir, content: next, log: p.log, failed: p.failed, changed: p.changed, with: p.with, hub: p.hub}
	aside.readCatalogues(ctx)
	if findings, err = p.swap(ctx, next, problems, admit); err != nil && slices.ContainsFunc(findings, ofStores) {
		aside.refresh(ctx) // a store may have got what the files speak of
		findings, err = p.swap(ctx, next, problems, admit)
	}
	if err != nil {
		p.giveUp(next)
	}
	return findings, err
}

// swap serves a content, if it is sound, and admitted.
func (p *Project) swap(ctx context.Context, next *content, problems language.Problems, admit func(*Revision) error) (findings Findings, err error) {
	p.making.Lock()
	defer p.making.Unlock()
	if p.closed.Load() || ctx.Err() != nil {
		return nil, errEnded
	}
	before := p.content
	p.content = next
	var r *Revision
	if problems.Failed() { // nothing of it is served; what else is wrong is told
		_, _, findings = p.build()
		findings = append(placed(problems, inOne(next.config)), findings...)
		err = findings
	} else {
		r, findings, err = p.make()
	}
	if err == nil && admit != nil {
		if err = admit(r); err != nil {
			r.release()
		}
	}
	if err != nil {
		p.content = before
		return findings, err
	}
	p.serve(r)
	p.giveUp(before)
	return append(findings, p.fixedInPlace(next)...), nil
}

// errEnded is why nothing is served anew.
var errEnded = errors.New("the service ends")

// ofStores reports whether a finding may be one because a store's catalogue is not known as it is now.
func ofStores(f Finding) bool {
	return f.Severity == language.Error && slices.Contains([]string{"column", "kind", "nullable", "type-fits", "unique", "relationship", "argument", "filter", "write", "page"}, f.Rule)
}

// refresh asks all stores again what they hold.
func (p *Project) refresh(ctx context.Context) {
	var wait sync.WaitGroup
	for _, s := range p.known().Sources {
		wait.Go(func() { s.readCatalogue(ctx) })
	}
	wait.Wait()
}

// Refresh reads again what all stores hold, and the project's files, as [Project.Reload] does. A
// revision that was published stays, and is held against the stores again.
func (p *Project) Refresh(ctx context.Context) (Findings, error) {
	p.refresh(ctx)
	if l := p.Revision().Label(); l != nil && l.Origin != FromFiles {
		return p.Load()
	}
	return p.Reload(ctx)
}

// tellTrouble keeps what is wrong with what should be served, or that nothing is.
func (p *Project) tellTrouble(findings Findings, err error) {
	had := p.trouble.Load() != nil
	switch {
	case err == nil:
		p.trouble.Store(nil)
	case findings == nil:
		findings = Findings{{Problem: &language.Problem{Rule: ruleConfig, Msg: err.Error()}}}
		fallthrough
	default:
		p.trouble.Store(&findings)
	}
	if had || err != nil {
		p.news.tell()
	}
}

// Trouble returns what is wrong with the files as they were read last, so that what was served
// before is served still; nil if nothing is.
func (p *Project) Trouble() Findings {
	if t := p.trouble.Load(); t != nil {
		return *t
	}
	return nil
}

// readAnew makes a content of files, and opens the sources that are new.
func (p *Project) readAnew(files Files) (*content, language.Problems, error) {
	src, config, problems, err := files.config(p.Dir)
	if err != nil {
		return nil, nil, err
	}
	next := &content{Config: config, Files: files, config: src}
	before := p.known()
	sources, more := openSources(config, src, func(name string, c *SourceConfig) *Source {
		known := before.Sources[name]
		if known == nil || !reflect.DeepEqual(before.Config.Sources[name], c) {
			return nil
		}
		if _, wrong := known.Store.(*broken); wrong {
			return nil
		}
		return known
	})
	next.Sources = sources
	for name, s := range before.Sources { // what a program brings stays
		if _, isAbsent := s.Store.(*absent); s.Kind == functions.Local && !isAbsent && (next.Sources[name] == nil || next.Sources[name] != s) {
			s.users.Add(1)
			next.Sources[name] = s
		}
	}
	problems = append(problems, more...)
	next.described, more = files.describe(config, src, p.Dir)
	problems = append(problems, more...)
	next.texts, err = files.types(p.Dir)
	if before.empty && errors.Is(err, errNoSchema) { // the first are still to come
		next.texts, next.empty, err = noTypes, true, nil
	}
	if err != nil && len(p.with.Texts) == 0 {
		p.giveUp(next)
		return nil, nil, err
	}
	next.Operations = files.operations(p.Dir)
	next.texts = append(next.texts, p.with.Texts...)
	return next, problems, nil
}

// ruleRestart is the rule under which it is told what a running service cannot change.
const ruleRestart = "restart"

const msgRestart = "%s is changed, and a running service goes on as it was\n→ start it again"

// fixedInPlace tells what is changed in the configuration and holds from the next start only.
func (p *Project) fixedInPlace(next *content) Findings {
	var problems language.Problems
	tell := func(key string, changed bool) {
		if changed {
			f := problems.Add(ruleRestart, findText(next.config, key), msgRestart, strings.TrimSuffix(key, ":"))
			f.Severity = language.Warning
		}
	}
	tell("listen:", p.Own.Listen != next.Config.Listen)
	tell("body:", p.Own.Limits.Body != next.Config.Limits.Body)
	tell("records:", !reflect.DeepEqual(p.Own.Records, next.Config.Records))
	tell("access:", !reflect.DeepEqual(p.Own.Access, next.Config.Access))
	tell("administration:", p.Own.Administration != next.Config.Administration)
	tell("drain:", !reflect.DeepEqual(p.Own.Drain, next.Config.Drain))
	return placed(slices.Clone(problems), inOne(next.config))
}
