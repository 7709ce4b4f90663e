package project

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync"
	"time"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file leads events from where they come to those who asked for them:
//
//	registry ──► feed ──►  group: the same operation, variables and rights ──► stream
//	                       group ──► stream, stream, stream, …
//	inspections (own writes) ──► group ──► stream
//
// A feed is a connection to a store that tells its changes, for all who want them. A group collects the events of a
// moment, and answers them in one run, whose answers go to all of its streams.

// A hub is where events meet those who want them.
type hub struct {
	project *Project
	slots   chan struct{} // of groups that answer

	mu      sync.Mutex // guards what follows
	groups  map[string]*group
	feeds   map[string]*feed // by the names of their sources
	follows bool             // it looks for new revisions
	relay   func(source string, events []store.Event)
	spends  func(a *Answer, client string)
}

func newHub(p *Project) *hub {
	return &hub{project: p, slots: make(chan struct{}, 2*runtime.GOMAXPROCS(0)), groups: map[string]*group{}, feeds: map[string]*feed{}}
}

// A feed is what a store tells of its changes.
type feed struct {
	name   string
	source *Source
	look   *looker // of records that are looked at; nil of a store that tells
	end    context.CancelFunc
	began  chan struct{} // closed when it is known where it begins
	failed error         // why it has never begun

	at      string // guarded by hub.mu, as what follows
	groups  map[*group]bool
	waiting int // how many wait until it begins
}

// watchedFrom says how changes of a set come to be known.
type watchedFrom struct {
	source, name string
	feed         *feed // nil where only what is written here is told
}

// beginning is how long it may take until a store tells where its changes begin.
const beginning = 5 * time.Second

// join makes a stream one of a group, which is made if there is none.
func (h *hub) join(ctx context.Context, r *Revision, key string, sets []plan.ReadSet, s *Stream, made func() *group) (source string, err error) {
	var from []watchedFrom
	for again := true; again; {
		from = from[:0]
		for _, of := range sets {
			f, err := h.feedOf(ctx, r, of)
			if err != nil {
				h.mu.Lock()
				h.drop(from)
				h.mu.Unlock()
				return of.Source, err
			}
			from = append(from, watchedFrom{of.Source, of.Set, f})
		}
		h.mu.Lock()
		if again = slices.ContainsFunc(from, h.isGone); again { // it was given up just now, when the last who wanted it left
			h.drop(from)
			h.mu.Unlock()
		}
	}
	defer h.mu.Unlock()
	if !h.follows {
		h.follows = true
		go h.follow()
	}
	g := h.groups[key]
	if g == nil {
		g = made()
		g.hub, g.key, g.from, g.streams = h, key, from, map[*Stream]bool{}
		h.groups[key] = g
		for _, f := range from {
			if f.feed != nil {
				f.feed.groups[g] = true
				g.at = f.feed.at
			}
		}
	} else {
		h.drop(from)
	}
	s.group = g
	g.streams[s] = true
	if now := h.project.Revision(); g.revision != now { // it was replaced meanwhile, which was told already
		h.end(g, replaced)
	} else if g.live { // the first answer
		before := g.busy()
		if g.changed = true; !before {
			g.soon()
		}
	}
	return "", nil
}

// replaced is why streams end when another revision is served.
var replaced = &Fault{Message: "another revision of the schema is served now", Code: CodeReplaced, Fix: "subscribe again"}

// catchUp tells a stream, which is a group by itself, what has happened since another one has stood at last.
func (h *hub) catchUp(ctx context.Context, s *Stream, last string) error {
	h.mu.Lock()
	g := s.group
	h.mu.Unlock()
	if g == nil {
		return nil // it has ended already, which is told
	}
	of := g.from[0]
	if of.feed == nil || of.feed.look != nil {
		return store.ErrTooOld // nobody keeps it
	}
	var events []store.Event
	seen := map[int64]bool{}
	err := of.feed.source.Store.(store.Watcher).Since(ctx, last, func(b store.Batch) error {
		if slices.Contains(b.Lost, of.name) {
			return store.ErrTooOld
		}
		for _, e := range b.Events {
			if e.Set == of.name {
				events, seen[e.ID] = append(events, e), true
			}
		}
		return nil
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	if err != nil || g.over {
		return err
	}
	later := slices.DeleteFunc(g.pending, func(e store.Event) bool { return seen[e.ID] })
	g.pending, g.seen, g.behind, g.batches = append(events, later...), seen, false, 0
	if g.busy() {
		g.soon()
	}
	return nil
}

// merge makes the stream of a group that has caught up one of those that are told the same. It needs mu.
func (h *hub) merge(g *group) {
	into := h.groups[g.shared]
	if into == nil || into.over {
		delete(h.groups, g.key)
		g.key, g.shared = g.shared, ""
		h.groups[g.key] = g
		return
	}
	if into.busy() || !into.hearsAs(g) {
		return // which has been told more, or less, than this one; at the next occasion
	}
	for s := range g.streams {
		delete(g.streams, s)
		s.group, into.streams[s] = into, true
	}
	h.end(g, nil)
}

// hearsAs reports whether two groups are told of changes by the same feeds, and so in the same moments.
func (g *group) hearsAs(other *group) bool {
	return slices.EqualFunc(g.from, other.from, func(a, b watchedFrom) bool { return a.feed == b.feed })
}

// isGone reports whether a feed was given up. It needs mu.
func (h *hub) isGone(of watchedFrom) bool { return of.feed != nil && h.feeds[of.feed.name] != of.feed }

// drop gives feeds up that were begun and are not needed. It needs mu.
func (h *hub) drop(from []watchedFrom) {
	for _, f := range from {
		if f.feed != nil && len(f.feed.groups) == 0 {
			h.stop(f.feed)
		}
	}
}

// feedOf returns what tells the changes of a set, when it has begun: its store, or who looks at it; nil where only what
// is written here is told.
func (h *hub) feedOf(ctx context.Context, r *Revision, of plan.ReadSet) (*feed, error) {
	source, bound := r.Sources[of.Source], r.Bound.Sources[of.Source]
	if source == nil || bound == nil {
		return nil, nil
	}
	var f *feed
	h.mu.Lock()
	switch look := r.Bound.Looks(of.Source, of.Set); {
	case bound.Tells[of.Set] != nil:
		if f = h.feeds[of.Source]; f == nil || f.source != source {
			f = h.begin(&feed{name: of.Source, source: source})
		}
	case look != nil:
		name := of.Source + "\x00" + of.Set
		if f = h.feeds[name]; f == nil || f.source != source || f.look.Look != look {
			f = h.begin(&feed{name: name, source: source, look: newLooker(r, of, look)})
		}
	}
	if f == nil {
		h.mu.Unlock()
		return nil, nil
	}
	f.waiting++
	h.mu.Unlock()
	var gone error
	select {
	case <-f.began:
	case <-ctx.Done():
		gone = ctx.Err()
	case <-time.After(beginning):
		gone = &store.Error{Code: store.Timeout, Msg: "did not say where its changes begin"}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if f.waiting--; gone == nil {
		return f, f.failed
	}
	if f.waiting == 0 && len(f.groups) == 0 {
		h.stop(f)
	}
	return nil, gone
}

// begin begins a feed. It needs mu.
func (h *hub) begin(f *feed) *feed {
	ctx, end := context.WithCancel(context.Background())
	f.end, f.began, f.groups = end, make(chan struct{}), map[*group]bool{}
	h.feeds[f.name] = f
	go func() {
		defer h.forget(f)
		for ctx.Err() == nil {
			h.mu.Lock()
			at := f.at
			h.mu.Unlock()
			tell := func(b store.Batch) error {
				h.deliver(f, b)
				return nil
			}
			var err error
			if f.look != nil {
				err = f.look.watch(ctx, tell)
			} else {
				err = f.source.Store.(store.Watcher).Watch(ctx, at, tell)
			}
			switch {
			case ctx.Err() != nil:
				return
			case !f.isBegun():
				h.project.failed.tell(ctx, f.source.Name, "a source does not begin to tell its changes", "error", err)
				f.failed = err
				close(f.began)
				return
			case errors.Is(err, store.ErrTooOld):
				h.endOf(f, &Fault{Message: "the source " + f.source.Name + " does not know any more what has changed", Code: CodeLost, Fix: "ask for what there is, and subscribe again", Source: f.source.Name})
				return
			}
			h.project.failed.tell(ctx, f.source.Name, "a source has stopped to tell its changes, and is asked again", "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}()
	return f
}

// isBegun reports whether a feed has begun.
func (f *feed) isBegun() bool {
	select {
	case <-f.began:
		return true
	default:
		return false
	}
}

// forget forgets a feed that has ended.
func (h *hub) forget(f *feed) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.feeds[f.name] == f {
		delete(h.feeds, f.name)
	}
}

// stop ends a feed that nobody needs. It needs mu.
func (h *hub) stop(f *feed) {
	f.end()
	if h.feeds[f.name] == f {
		delete(h.feeds, f.name)
	}
}

// deliver gives what a store has told to those who want it.
func (h *hub) deliver(f *feed, b store.Batch) {
	h.mu.Lock()
	defer h.mu.Unlock()
	f.at = b.At
	if !f.isBegun() {
		close(f.began)
	}
	for g := range f.groups {
		g.take(f, b)
	}
}

// Relay has what is written here told to other instances: of sets whose store does not tell it to them. It must not wait.
func (p *Project) Relay(tell func(source string, events []store.Event)) {
	p.hub.mu.Lock()
	defer p.hub.mu.Unlock()
	p.hub.relay = tell
}

// Spends has it told what stores were asked for what streams tell, with the program that has asked first: once, however
// many streams it is told to.
func (p *Project) Spends(tell func(a *Answer, client string)) {
	p.hub.mu.Lock()
	defer p.hub.mu.Unlock()
	p.hub.spends = tell
}

// WroteElsewhere tells what another instance has written.
func (p *Project) WroteElsewhere(source string, events []store.Event) { p.hub.happened(source, events) }

// LostElsewhere says that another instance has written more than it could tell.
func (p *Project) LostElsewhere() {
	h := p.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.groups {
		for _, of := range g.from {
			if of.feed == nil && !g.over {
				h.end(g, &Fault{Message: "more has changed elsewhere than could be told", Code: CodeLost, Fix: "ask for what there is, and subscribe again"})
			}
		}
	}
}

// wrote tells what was written here, of sets whose store does not tell it.
func (h *hub) wrote(r *Revision, source string, events []store.Event) {
	if bound := r.Bound.Sources[source]; bound != nil && bound.Tells != nil {
		events = slices.DeleteFunc(events, func(e store.Event) bool { return bound.Tells[e.Set] != nil })
	}
	if len(events) == 0 {
		return
	}
	h.mu.Lock()
	relay := h.relay
	h.mu.Unlock()
	if relay != nil {
		relay(source, events)
	}
	h.happened(source, events)
}

// happened gives events to those who are told what is written.
func (h *hub) happened(source string, events []store.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.groups {
		for _, of := range g.from {
			switch {
			case of.source != source:
			case of.feed == nil:
				g.took(of, events)
			case of.feed.look != nil:
				of.feed.look.soon()
			}
		}
	}
}

// leave takes a stream out of its group; a group without streams ends.
func (h *hub) leave(s *Stream) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := s.group
	if g == nil {
		return
	}
	s.group = nil
	if delete(g.streams, s); len(g.streams) == 0 {
		h.end(g, nil)
	}
}

// end ends a group and its streams. It needs mu.
func (h *hub) end(g *group, why *Fault) {
	if g.over {
		return
	}
	g.over = true
	if h.groups[g.key] == g {
		delete(h.groups, g.key)
	}
	for s := range g.streams {
		s.group = nil
		s.end(why)
	}
	for _, of := range g.from {
		if of.feed == nil {
			continue
		}
		if delete(of.feed.groups, g); len(of.feed.groups) == 0 {
			h.stop(of.feed)
		}
	}
	g.stop()
	if !g.running {
		g.release()
	}
}

// endOf ends all streams that hear of a store's changes.
func (h *hub) endOf(f *feed, why *Fault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for g := range f.groups {
		h.end(g, why)
	}
}

// follow ends streams when another revision is served, which may answer otherwise.
func (h *hub) follow() {
	for !h.project.closed.Load() {
		news := h.project.News()
		h.endOthers(h.project.Revision())
		<-news
	}
	h.endOthers(nil)
}

// endOthers ends the streams of all revisions but one.
func (h *hub) endOthers(but *Revision) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.groups {
		switch {
		case but == nil:
			h.end(g, &Fault{Message: "the service stops", Code: CodeReplaced, Fix: "subscribe again in a moment"})
		case g.revision != but:
			h.end(g, replaced)
		}
	}
}
