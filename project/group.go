package project

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"osprey/core/execute"
	"osprey/core/plan"
	"osprey/core/store"
)

// This file answers those who are told of changes: all who ask the same, and are answered the same, are a group.

// A group is streams that are told the same. Its fields are guarded by hub.mu, but for those that do not change.
type group struct {
	hub      *hub
	key      string
	revision *Revision
	asked    *asked
	request  *Request
	release  func() // of the revision
	from     []watchedFrom
	live     bool          // it is a query that is asked again
	every    time.Duration // of such: at most so often

	streams map[*Stream]bool
	pending []store.Event
	changed bool   // of a live query: something that it has read has changed
	at      string // where it stands behind pending
	running bool
	timer   *time.Timer
	ran     time.Time
	over    bool

	// Of one that goes on where another stream has stood: the group that it becomes a part of when it has caught up.
	shared  string
	behind  bool           // it has not caught up
	seen    map[int64]bool // what it has caught up with, which the feed may tell, too
	batches int            // that the feed has told since
}

// busy reports whether there is something that is not told yet. It needs hub.mu.
func (g *group) busy() bool { return g.behind || g.running || len(g.pending) > 0 || g.changed }

// take takes what a store has told. It needs hub.mu.
func (g *group) take(f *feed, b store.Batch) {
	for _, of := range g.from {
		if of.feed != f {
			continue
		}
		if slices.Contains(b.Lost, of.name) {
			if g.live {
				g.took(of, []store.Event{{Set: of.name}})
				continue
			}
			g.hub.end(g, &Fault{Message: "all records were removed at once, and not told one by one", Code: CodeLost, Fix: "ask for what there is, and subscribe again"})
			return
		}
		g.took(of, g.unseen(b.Events))
	}
	g.at = b.At
}

// unseen leaves out of events what the group has caught up with. What was committed before that is told by the feed at
// the latest with the second batch: one may have been read before. It needs hub.mu.
func (g *group) unseen(events []store.Event) []store.Event {
	if g.seen == nil {
		return events
	}
	events = slices.DeleteFunc(slices.Clone(events), func(e store.Event) bool { return g.seen[e.ID] })
	if g.batches++; g.batches == 2 && !g.behind {
		g.seen = nil
	}
	return events
}

// took takes events of a set. It needs hub.mu.
func (g *group) took(of watchedFrom, events []store.Event) {
	before := g.busy()
	for _, e := range events {
		if e.Set == of.name {
			if g.live {
				g.changed = true
				break
			}
			g.pending = append(g.pending, e)
		}
	}
	if !before && g.busy() {
		g.soon()
	}
}

// soon has the group answer in a moment. It needs hub.mu.
func (g *group) soon() {
	wait := time.Until(g.ran.Add(moment)) // the first is told at once, and those that follow close together
	if g.live {
		wait = max(moment, time.Until(g.ran.Add(g.every)))
	}
	g.timer = time.AfterFunc(max(wait, 0), g.run)
}

// stop stops what is about to run. It needs hub.mu.
func (g *group) stop() {
	if g.timer != nil {
		g.timer.Stop()
	}
}

// run answers what has come.
func (g *group) run() {
	h := g.hub
	h.mu.Lock()
	if g.over || g.running || g.behind || !g.busy() {
		h.mu.Unlock()
		return
	}
	g.running = true
	events, at := g.pending, g.at
	g.pending, g.changed = nil, false
	h.mu.Unlock()
	end := g.answerAll(events, at)
	h.mu.Lock()
	defer h.mu.Unlock()
	g.running, g.ran = false, time.Now()
	switch {
	case g.over:
		g.release()
	case end != nil:
		h.end(g, end)
	case len(g.pending) > 0 || g.changed:
		g.soon()
	case g.shared != "" && g.seen == nil:
		h.merge(g)
	}
}

// answerAll answers events, or a live query again, and tells the streams. It returns why these must end, if they must.
func (g *group) answerAll(events []store.Event, at string) (end *Fault) {
	defer func() {
		if p := recover(); p != nil {
			end = &Fault{Message: "a fault of the service has ended the stream", Code: CodeLost, Fix: "subscribe again"}
			g.revision.project.log.Error("a fault has ended streams", "operation", g.asked.plan.Name, "error", fmt.Sprint(p), "stack", string(debug.Stack()))
		}
	}()
	if g.live {
		if due := g.due(); len(due) > 0 {
			g.tellAnew(g.again(), due)
		}
		return nil
	}
	events = coalesced(g.asked.plan.Watch, events)
	for n := 0; n < len(events); n += atOnce {
		list := events[n:min(n+atOnce, len(events))]
		messages, failed := g.answers(list)
		if failed != nil {
			return failed
		}
		if last := len(messages) - 1; last >= 0 && n+atOnce >= len(events) {
			messages[last].At = at
		}
		g.tell(messages)
	}
	return nil
}

// due returns the streams of a live query whose callers may cost another answer; the first came with the stream. For the
// others it is asked again when they may.
func (g *group) due() (list []*Stream) {
	g.hub.mu.Lock()
	defer g.hub.mu.Unlock()
	for s := range g.streams {
		if s.last == nil || s.charge == nil || s.charge() {
			list = append(list, s)
		} else {
			g.changed = true
		}
	}
	return list
}

// tellAnew tells streams the answer of a live query, where it is another than before.
func (g *group) tellAnew(m Message, due []*Stream) {
	g.hub.mu.Lock()
	defer g.hub.mu.Unlock()
	for _, s := range due {
		if !bytes.Equal(s.last, m.Data) {
			s.last = m.Data
			s.tell(m)
		}
	}
}

// tell tells messages to all streams. Of many that come at once, it waits for those who read: but for a slow one not
// long, which is ended.
func (g *group) tell(messages []Message) {
	for until := time.Now().Add(slowest); !g.hasRoom(len(messages)) && time.Now().Before(until); {
		time.Sleep(2 * time.Millisecond)
	}
	g.hub.mu.Lock()
	defer g.hub.mu.Unlock()
	for s := range g.streams {
		for _, m := range messages {
			s.tell(m)
		}
	}
}

// slowest is how long those who read are waited for.
const slowest = 2 * time.Second

// hasRoom reports whether all streams have room for more messages.
func (g *group) hasRoom(n int) bool {
	g.hub.mu.Lock()
	defer g.hub.mu.Unlock()
	for s := range g.streams {
		if !s.hasRoom(n) {
			return false
		}
	}
	return true
}

// atOnce is how many events are answered in one run.
const atOnce = 250

// answers answers some events.
func (g *group) answers(events []store.Event) (messages []Message, end *Fault) {
	h, x := g.hub, g.asked
	h.slots <- struct{}{}
	defer func() { <-h.slots }()
	ctx, options, cancel := g.options()
	defer cancel()
	began := time.Now()
	result := execute.RunEvents(ctx, x.plan, x.vars, events, options)
	took := time.Since(began)
	g.spent(result.Requests)
	g.revision.tellOperator(ctx, g.request, x.plan, result.Requests, result.Rules)
	if result.Failed != nil {
		fault := g.revision.faults([]*execute.Error{result.Failed}, nil)[0]
		fault.Fix = "subscribe again in a moment: with Last-Event-ID, what has happened since is told"
		return nil, &fault
	}
	for _, told := range result.Told {
		a := &Answer{Data: told.Data, Faults: g.revision.faults(told.Errors, x.source), asked: x, by: g.revision}
		messages = append(messages, Message{Data: a.AppendJSON(nil, false), Requests: result.Requests, Cost: x.cost(g.revision.allowed(nil)), Took: took, answer: a})
		a.Data = nil // which the message has
	}
	return messages, nil
}

// options returns how a run is made.
func (g *group) options() (context.Context, execute.Options, context.CancelFunc) {
	options := g.revision.allowed(g.request.who()).options(g.request, time.Now())
	ctx, cancel := context.WithDeadline(store.WithFresh(context.Background()), options.Until)
	return ctx, options, cancel
}

// again asks a live query again.
func (g *group) again() Message {
	h := g.hub
	h.slots <- struct{}{}
	defer func() { <-h.slots }()
	ctx, _, cancel := g.options()
	defer cancel()
	began := time.Now()
	a := g.revision.Ask(ctx, g.request)
	defer a.Free()
	took := time.Since(began)
	g.spent(a.Requests)
	told := &Answer{Faults: a.Faults, asked: g.asked, by: g.revision}
	return Message{Data: a.AppendJSON(nil, false), Requests: slices.Clone(a.Requests), Cost: g.asked.cost(g.revision.allowed(nil)), Took: took, answer: told}
}

// spent tells what stores were asked.
func (g *group) spent(requests []execute.StoreRequest) {
	g.hub.mu.Lock()
	tell := g.hub.spends
	g.hub.mu.Unlock()
	if tell != nil && len(requests) > 0 {
		tell(&Answer{Requests: requests, asked: g.asked, by: g.revision}, g.request.Client)
	}
}

// coalesced returns events with one for each record: what has happened to it since the first of them, which knows how
// it was.
func coalesced(w *plan.Watch, events []store.Event) []store.Event {
	var list []store.Event
	known := map[string]int{}
	for _, e := range rekeyed(w, events) {
		key := keyText(w, e.Key)
		if key == "" {
			continue // of whose record nobody knows the key
		}
		i, ok := known[key]
		if !ok {
			known[key] = len(list)
			list = append(list, e)
			continue
		}
		first := &list[i]
		if first.Fields == nil || e.Fields == nil {
			first.Fields = nil
			continue
		}
		for _, f := range e.Fields {
			if !slices.Contains(first.Fields, f) {
				first.Fields = append(slices.Clip(first.Fields), f)
			}
		}
	}
	return list
}

// keyText returns the key of a record as text; "" if it is not known.
func keyText(w *plan.Watch, record map[string]any) string {
	key := make([]any, len(w.Key))
	for i, path := range w.Key {
		key[i] = store.JSONPath(record, path)
	}
	text, err := json.Marshal(key)
	if err != nil || slices.Contains(key, nil) {
		return ""
	}
	return string(text)
}

// rekeyed returns events in which a record whose key has changed is one that was removed, and one that was added.
func rekeyed(w *plan.Watch, events []store.Event) (list []store.Event) {
	for _, e := range events {
		if e.What == store.WasChanged && e.Before != nil {
			if was := keyText(w, e.Before); was != "" && was != keyText(w, e.Key) {
				list = append(list, store.Event{ID: e.ID, Set: e.Set, What: store.WasRemoved, Key: e.Before, Before: e.Before})
				e = store.Event{ID: e.ID, Set: e.Set, What: store.WasAdded, Key: e.Key}
			}
		}
		list = append(list, e)
	}
	return list
}
