// Package project loads a project folder into a [Revision]: configuration,
// sources, schema and bindings, checked as a whole, ready to be asked.
//
// A source whose store does not answer does not keep a project from opening:
// its fields are errors until the store answers, and [Project.Follow] tries
// again until it does.
package project

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/stores/guard"
)

// A Project is an open project folder.
type Project struct {
	Dir string
	// Own is what the osprey.yaml of the folder said when the project was opened: of what belongs to
	// the process, and is no matter of a revision.
	Own *Config
	// What was read last, of which the next revision is made. What is served is that of the
	// current revision.
	*content

	current atomic.Pointer[Revision]
	log     *slog.Logger
	failed  *failureLog
	changed chan string // sources that say that they have changed
	closed  atomic.Bool
	trouble atomic.Pointer[Findings]
	ofStore atomic.Bool // the trouble is that a store has changed, and not the files
	news    news
	hub     *hub
	with    *Additions
	making  sync.Mutex // held while a revision is made
	reading sync.Mutex // held while the files are read again, and served
	saving  sync.Mutex // held while one of the files is written
}

// A content is what the files of a project say, with the sources that are open for it.
type content struct {
	Config  *Config
	Sources map[string]*Source
	// Operations are the texts of operations/, which are checked with the schema.
	Operations []SavedOperation

	label atomic.Pointer[Label]
	// Files are what it was read from.
	Files Files

	config    *language.Source // osprey.yaml
	texts     []schema.Text
	described *described // types that JSON Schemas describe; nil if there are none
	// empty says that it has no types of its own yet.
	empty bool
}

// all returns the texts of all types.
func (c *content) all() []schema.Text { return append(slices.Clone(c.texts), c.described.texts()...) }

// Open loads the project in dir. The error is [Findings] if the project is at
// fault. A nil log means [slog.Default].
func Open(ctx context.Context, dir string, log *slog.Logger) (*Project, Findings, error) {
	return OpenWith(ctx, dir, log, &Additions{})
}

// ErrNoProject is the error of a folder that holds no project.
var ErrNoProject = errors.New("is no project: it has no " + ConfigFile)

// OpenWith is [Open] with what a program adds to the project.
func OpenWith(ctx context.Context, dir string, log *slog.Logger, with *Additions) (*Project, Findings, error) {
	p, problems, err := read(ctx, dir, log, with)
	return began(p, problems, err)
}

// OpenFiles is [OpenWith] of files that are not those of the folder; label says which revision they
// are. What belongs to the process is as own says, which is the configuration of the folder.
func OpenFiles(ctx context.Context, dir string, own *Config, files Files, label *Label, log *slog.Logger, with *Additions) (*Project, Findings, error) {
	p, problems, err := readFiles(ctx, dir, files, nil, log, with)
	if p != nil {
		p.Own = own
		p.label.Store(label)
	}
	return began(p, problems, err)
}

// ConfigOf reads the configuration of the project in a folder. The error is [Findings] if it is at
// fault.
func ConfigOf(dir string) (*Config, error) {
	files, err := ReadFiles(dir)
	if _, has := files[ConfigFile]; !has {
		return nil, err
	}
	src, config, problems, err := files.config(dir)
	if err == nil && problems.Failed() {
		err = placed(problems, inOne(src))
	}
	return config, err
}

// began makes the first revision of a project that was read.
func began(p *Project, problems language.Problems, err error) (*Project, Findings, error) {
	if p == nil || err != nil {
		var findings Findings
		errors.As(err, &findings)
		return nil, findings, err
	}
	findings, err := p.Load()
	if problems.Failed() { // the sources that are well were looked at, too
		findings = append(placed(problems, inOne(p.config)), findings...)
		err = findings
	}
	if err != nil {
		p.Close()
		return nil, findings, err
	}
	return p, findings, nil
}

// read reads a project, and what its stores tell, without binding its schema. The problems are
// those of osprey.yaml; the error is [Findings] if nothing can be made of that.
func read(ctx context.Context, dir string, log *slog.Logger, with *Additions) (*Project, language.Problems, error) {
	files, err := ReadFiles(dir)
	if _, has := files[ConfigFile]; !has {
		return nil, nil, err
	}
	return readFiles(ctx, dir, files, err, log, with)
}

// readFiles is [read] of files; err is why some of them could not be read.
func readFiles(ctx context.Context, dir string, files Files, err error, log *slog.Logger, with *Additions) (*Project, language.Problems, error) {
	if log == nil {
		log = slog.Default()
	}
	src, config, problems, wrong := files.config(dir)
	if wrong != nil {
		return nil, problems, wrong
	}
	p := &Project{Dir: dir, Own: config, content: &content{Config: config, Files: files, config: src}, log: log, failed: newFailureLog(log), changed: make(chan string, 16), with: with}
	p.hub = newHub(p)
	var more language.Problems
	p.Sources, more = openSources(config, src, nil)
	problems = append(problems, more...)
	p.described, more = files.describe(config, src, dir)
	problems = append(problems, more...)
	if err == nil {
		p.Operations = files.operations(dir)
		switch p.texts, err = files.types(dir); {
		case !errors.Is(err, errNoSchema):
		case with.Bare:
			err = nil
		case with.Begins:
			p.texts, p.empty, err = noTypes, true, nil
		}
	}
	if err == nil {
		err = p.add(with)
	}
	if err != nil && !problems.Failed() {
		p.Close()
		return nil, nil, err
	}
	done := p.whileWaiting(with.Waiting)
	p.readCatalogues(ctx)
	done()
	return p, problems, nil
}

// readSource is [read] for what is done with one source of a project, whose osprey.yaml must be
// sound.
func readSource(ctx context.Context, dir string, log *slog.Logger, name string, with *Additions) (*Project, *Source, error) {
	p, problems, err := read(ctx, dir, log, with)
	if err != nil {
		return nil, nil, err
	}
	source := p.Sources[name]
	switch {
	case problems.Failed():
		err = placed(problems, inOne(p.config))
	case source == nil:
		err = fmt.Errorf("osprey.yaml declares no source %q%s", name, language.DidYouMean(name, sortedNames(p.Sources)))
	default:
		return p, source, nil
	}
	p.Close()
	return nil, nil, err
}

// config reads the osprey.yaml of a project in dir. The error is [Findings] if nothing can be made of it.
func (f Files) config(dir string) (*language.Source, *Config, language.Problems, error) {
	src := language.NewSource(filepath.Join(dir, ConfigFile), f[ConfigFile])
	config, problems := readConfig(src, os.LookupEnv)
	if problems.Failed() && config.Sources == nil { // what else is wrong cannot be told without them
		return nil, nil, problems, placed(problems, inOne(src))
	}
	return src, config, problems, nil
}

// patience is how long catalogues are waited for in silence.
const patience = 500 * time.Millisecond

// whileWaiting tells, after a while, which sources have not told what they hold,
// until done is called.
func (p *Project) whileWaiting(tell func(sources []string)) (done func()) {
	if tell == nil {
		return func() {}
	}
	timer := time.AfterFunc(patience, func() {
		var names []string
		for _, name := range sortedNames(p.Sources) {
			if c, err := p.Sources[name].known(); c == nil && err == nil {
				names = append(names, name)
			}
		}
		if len(names) > 0 {
			tell(names)
		}
	})
	return func() { timer.Stop() }
}

// readCatalogues asks all stores whose catalogue is not known, at once, and
// returns those that answered.
func (p *Project) readCatalogues(ctx context.Context) []*Source {
	var answered []*Source
	var mu sync.Mutex
	var wait sync.WaitGroup
	for _, s := range p.known().Sources {
		if c, _ := s.known(); c != nil {
			continue
		}
		wait.Go(func() {
			if s.readCatalogue(ctx) == nil {
				mu.Lock()
				defer mu.Unlock()
				answered = append(answered, s)
			}
		})
	}
	wait.Wait()
	return answered
}

// known returns what was read last.
func (p *Project) known() *content {
	p.making.Lock()
	defer p.making.Unlock()
	return p.content
}

// Load builds a revision of the schema and, if it has no errors, makes it the
// current one. Requests that are under way finish on the one before.
func (p *Project) Load() (Findings, error) {
	p.making.Lock()
	defer p.making.Unlock()
	return p.load()
}

// load is [Project.Load] for who holds making.
func (p *Project) load() (Findings, error) {
	r, findings, err := p.make()
	if err == nil {
		p.serve(r)
	}
	return findings, err
}

// make makes a revision of what was read last. The caller holds making.
func (p *Project) make() (*Revision, Findings, error) {
	s, bound, findings := p.build()
	if bound == nil || findings.Failed() {
		return nil, findings, findings
	}
	saved, more := p.checkSaved(s)
	if findings = append(findings, more...); findings.Failed() {
		return nil, findings, findings
	}
	r := newRevision(p, s, bound, saved)
	r.Warnings = findings
	return r, findings, nil
}

// build builds the schema and binds it. What is bound can be used if no finding is an error.
func (p *Project) build() (*schema.Schema, *binding.Bound, Findings) {
	sources := map[string]*binding.Source{}
	for name, source := range p.Sources {
		sources[name] = source.bind()
	}
	s, bound, problems := binding.ResolveFor(p.Own.unruled(), p.all(), sources)
	findings := append(p.waiting(bound), placed(problems, s.Source)...)
	p.described.place(findings)
	if bound == nil || findings.Failed() {
		return s, bound, findings
	}
	bound.Together = p.Config.Transactions == "operation"
	return s, bound, append(findings, p.checkOnce(bound)...)
}

// checkSaved checks the saved operations, and returns their texts by name.
func (p *Project) checkSaved(s *schema.Schema) (map[string]string, Findings) {
	var findings Findings
	for _, op := range p.Operations {
		findings = append(findings, checkOperation(s, op)...)
	}
	saved, twice := savedByName(p.Operations)
	return saved, append(findings, twice...)
}

// lookAgain asks that the catalogue of a source be read again. It does not wait.
func (p *Project) lookAgain(source string) {
	select {
	case p.changed <- source:
	default: // enough is waiting
	}
}

// Follow tries the stores that did not answer again, until ctx ends. When one
// answers, its fields become available. It also reads the catalogue again of a
// store that has changed: of one that tells so, or where a request found it.
func (p *Project) Follow(ctx context.Context) {
	const pause = 2 * time.Second
	timer := time.NewTicker(pause)
	defer timer.Stop()
	changes := map[string]*change{}
	heard := map[*Source]context.CancelFunc{}
	for {
		p.hear(ctx, heard)
		select {
		case <-ctx.Done():
			return
		case name := <-p.changed:
			if changes[name] == nil {
				changes[name] = &change{}
			}
			changes[name].waits = true
		case <-timer.C:
			p.tryAgain(ctx)
		}
		for name, c := range changes {
			if c.waits && time.Since(c.looked) >= pause { // of many changes, each is seen by the last look
				p.readAgain(ctx, name, c)
			}
		}
	}
}

// tryAgain asks the stores that did not tell what they hold.
func (p *Project) tryAgain(ctx context.Context) {
	answered := p.readCatalogues(ctx)
	if len(answered) == 0 {
		return
	}
	if findings, err := p.Load(); err != nil {
		// The store may still be filled; it is looked at again.
		p.log.Error("a store came up, and the schema does not fit it", "problem", findings[0].Msg, "place", findings[0].At.String())
		for _, s := range answered {
			s.forget(fmt.Errorf("the schema does not fit it: %s", findings[0].Msg))
		}
		return
	}
	p.log.Info("a store came up, and its fields are available")
}

// hear begins to listen to the stores that tell when they change, and ends it of those that the
// project has no more.
func (p *Project) hear(ctx context.Context, heard map[*Source]context.CancelFunc) {
	sources := p.known().Sources
	for s, end := range heard {
		if sources[s.Name] != s {
			end()
			delete(heard, s)
		}
	}
	for _, s := range sources {
		teller, ok := s.Store.(store.Signaller)
		if c, _ := s.known(); !ok || c == nil || heard[s] != nil || ctx.Err() != nil {
			continue
		}
		listening, end := context.WithCancel(ctx)
		heard[s] = end
		go func() {
			for began := true; listening.Err() == nil; began = false {
				first, read := began, s.reads.wait()
				err := teller.Signal(listening, func() {
					if !first { // what is told at the beginning was read just now
						p.lookAgain(s.Name)
					}
					first = false
				})
				if errors.Is(err, store.ErrNoSignal) {
					select {
					case <-listening.Done():
					case <-read: // it may be set up by then
					}
					continue
				}
				select {
				case <-listening.Done():
				case <-time.After(5 * time.Second):
				}
			}
		}()
	}
}

// A change is what was last known of a source that has changed.
type change struct {
	waits  bool // to be looked at
	looked time.Time
	told   string // why the schema does not fit it
}

// readAgain reads the catalogue of a source again. If the schema fits it, it is
// served from then on; if not, what was served before is, and the fields that do
// not fit are errors.
func (p *Project) readAgain(ctx context.Context, name string, c *change) {
	c.looked, c.waits = time.Now(), false
	source := p.known().Sources[name]
	if source == nil {
		return // the configuration has it no more
	}
	if err := source.readCatalogue(ctx); err != nil {
		c.waits = true
		return // it is down, too
	}
	findings, err := p.Load()
	if err != nil || p.ofStore.Load() {
		p.tellTrouble(findings, err)
		p.ofStore.Store(err != nil)
	}
	switch {
	case err == nil:
		c.told = ""
		p.log.Info("a store has changed, and the schema fits it", "source", name)
	case findings[0].Msg != c.told:
		c.told = findings[0].Msg
		p.log.Error("a store has changed, and the schema does not fit it any more: what fits is served as before", "source", name, "problem", c.told, "place", findings[0].At.String())
	}
}

// Health tells, for each source, whether its store answers now; nil if so.
func (p *Project) Health(ctx context.Context) map[string]error {
	health := map[string]error{}
	r, release := p.Hold()
	defer release()
	bound := r.Bound.Sources
	var mu sync.Mutex
	var wait sync.WaitGroup
	for name, s := range r.Sources {
		wait.Go(func() {
			err := s.Store.Ping(ctx)
			if err == nil && bound[name].Catalogue == nil {
				_, why := s.known()
				err = store.NotReady(why)
			}
			mu.Lock()
			defer mu.Unlock()
			health[name] = err
		})
	}
	wait.Wait()
	return health
}

// A SourceState is how a source is now, as far as is known without asking it.
type SourceState struct {
	Kind  string       `json:"kind"`
	Known bool         `json:"known"`          // its catalogue is known, and its fields can be asked
	Asks  *guard.State `json:"asks,omitempty"` // of a source with a guard
}

// States tells how all sources are.
func (p *Project) States() map[string]SourceState {
	states := map[string]SourceState{}
	r := p.Revision()
	for name, s := range r.Sources {
		state := SourceState{Kind: s.Kind, Known: r.Bound.Sources[name].Catalogue != nil}
		if g, ok := s.Store.(*guard.Source); ok {
			now := g.State()
			state.Asks = &now
		}
		states[name] = state
	}
	return states
}
