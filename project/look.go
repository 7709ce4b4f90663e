package project

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"osprey/core/binding"
	"osprey/core/plan"
	"osprey/core/store"
)

// This file finds what has changed in stores that do not tell it, by looking at the records now and then:
//
//	looked at    1 {name: Auk}  2 {name: Bittern}
//	again        1 {name: Auk}  2 {name: Crane}  3 {name: Dove}    2 has changed, 3 was added
//
// Of records with a field that grows with each change, only those are looked at that are not below the greatest: what
// was removed is not seen, and what is new is told as changed.

// A looker looks at the records of a set.
type looker struct {
	*binding.Look
	revision *Revision
	of       plan.ReadSet
	kick     chan struct{}

	known    map[string]seen // by key
	greatest store.Column    // of the field that grows: one value, or none
	looked   bool
}

// seen is a record that was looked at: what was shown of it, as JSON, or, of one with a field that grows, that.
type seen struct {
	text string
	here bool // in this look
}

// mostLooked is how many records are looked at: they are kept, to be compared.
const mostLooked = 200_000

func newLooker(r *Revision, of plan.ReadSet, look *binding.Look) *looker {
	return &looker{Look: look, revision: r, of: of, kick: make(chan struct{}, 1), known: map[string]seen{}}
}

// soon has the records looked at now.
func (l *looker) soon() {
	select {
	case l.kick <- struct{}{}:
	default:
	}
}

// watch tells what has changed, until ctx ends or the store fails.
func (l *looker) watch(ctx context.Context, tell func(store.Batch) error) error {
	timer := time.NewTicker(l.Every)
	defer timer.Stop()
	for {
		events, err := l.again(ctx)
		if err != nil {
			return err
		}
		if err := tell(store.Batch{Events: events}); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-timer.C:
		case <-l.kick:
		}
	}
}

// again looks at the records once.
func (l *looker) again(ctx context.Context) ([]store.Event, error) {
	columns := append([]store.Wanted{}, l.Key...)
	read := &store.Read{Set: l.of.Set, Parent: -1}
	in := store.Input{}
	if l.Grows != nil {
		columns = append(columns, *l.Grows)
		if l.greatest.Len() > 0 {
			read.Where = []store.Predicate{{Op: store.AtLeast, Path: l.Grows.Path, Kind: l.Grows.Kind}}
			read.Values = 1
			in.Where = []store.Column{l.greatest}
		}
	} else {
		columns = append(columns, l.Shown...)
	}
	read.Columns = columns
	request, err := l.revision.prepare(l.of.Source, []*store.Read{read})
	if err != nil {
		return nil, err
	}
	asking, cancel := context.WithTimeout(store.WithFresh(ctx), time.Duration(l.revision.Config.Limits.Timeout))
	defer cancel()
	answer, err := request.Run(asking, nil, []store.Input{in})
	if err != nil {
		return nil, err
	}
	if answer.Release != nil {
		defer answer.Release()
	}
	if err := answer.Check([]*store.Read{read}); err != nil {
		return nil, err
	}
	t := answer.Tables[0]
	if l.Grows == nil && t.Len > mostLooked {
		return nil, fmt.Errorf("%s has %d records, and %d is how many are looked at: name a field with grows", l.of.Set, t.Len, mostLooked)
	}
	return l.compared(t, columns), nil
}

// compared returns what is otherwise than it was.
func (l *looker) compared(t *store.Table, columns []store.Wanted) (events []store.Event) {
	for key, s := range l.known {
		s.here = false
		l.known[key] = s
	}
	var greatest store.Column
	for row := range t.Len {
		key, shown := map[string]any{}, map[string]any{}
		for i := range columns {
			into := shown
			if i < len(l.Key) {
				into = key
			}
			store.PutPath(into, columns[i].Path, t.Columns[i].JSON(row))
		}
		id, text := textOf(key), textOf(shown)
		was, known := l.known[id]
		l.known[id] = seen{text, true}
		if l.Grows != nil {
			c := &t.Columns[len(l.Key)]
			if c.Null[row] {
				continue
			}
			if greatest.Len() == 0 || store.Compare(c, row, &greatest, 0) > 0 {
				greatest = store.Column{Kind: c.Kind}
				greatest.AppendAs(c, row)
			}
		}
		switch {
		case !l.looked || known && was.text == text:
		case known || l.Grows != nil:
			events = append(events, store.Event{Set: l.of.Set, What: store.WasChanged, Key: key, Before: l.before(was, key), Fields: changedIn(was.text, shown)})
		default:
			events = append(events, store.Event{Set: l.of.Set, What: store.WasAdded, Key: key})
		}
	}
	for id, s := range l.known {
		switch {
		case s.here:
		case l.Grows != nil:
			if greatest.Len() > 0 {
				delete(l.known, id) // it is below the greatest now, and not looked at any more
			}
		default:
			delete(l.known, id)
			key := objectIn(id)
			events = append(events, store.Event{Set: l.of.Set, What: store.WasRemoved, Key: key, Before: l.before(s, key)})
		}
	}
	if greatest.Len() > 0 {
		l.greatest = greatest
	}
	l.looked = true
	return events
}

// before returns a record as it was; nil if that is not known.
func (l *looker) before(was seen, key map[string]any) map[string]any {
	if l.Grows != nil || was.text == "" {
		return nil
	}
	object := objectIn(was.text)
	for path, v := range key {
		object[path] = v
	}
	return object
}

// changedIn returns the fields that have other values than they had; nil if that is not known.
func changedIn(was string, now map[string]any) (fields []string) {
	if was == "" {
		return nil
	}
	before := objectIn(was)
	for path, v := range now {
		if textOf(map[string]any{"": v}) != textOf(map[string]any{"": before[path]}) {
			fields = append(fields, path)
		}
	}
	return fields
}

// textOf writes an object, with its names in order.
func textOf(object map[string]any) string {
	text, err := json.Marshal(object)
	if err != nil {
		return fmt.Sprint(object) // of what JSON has no form for
	}
	return string(text)
}

// objectIn reads what textOf has written.
func objectIn(text string) map[string]any {
	object := map[string]any{}
	if err := decodeNumbers(text, &object); err != nil {
		return map[string]any{}
	}
	return object
}

// decodeNumbers decodes JSON, and keeps all digits of its numbers.
func decodeNumbers(text string, into any) error {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	return d.Decode(into)
}
