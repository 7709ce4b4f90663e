package execute

import (
	"errors"
	"fmt"
	"slices"

	"osprey/core/plan"
	"osprey/core/store"
)

// A writer walks the shape of the answer and appends its bytes. Its methods
// take the buffer and return it: a buffer that is a field of the writer costs
// the collector a write barrier for each append. A method that returns false
// has met null where the schema forbids it, or nothing was there: what it wrote
// is cut back by the nearest caller whose place may be null (section 6.4.4).
type writer struct {
	buf      []byte
	path     []step
	errs     []*Error
	causes   map[any]*Error // the first error told of each cause
	failures int            // errors so far, those that are only counted too
	texts    []sharedText   // by Field.ID
	written  []sharedRow    // what texts has, in the order in which it was written
	sent     int            // bytes that are no longer in the buffer
	sending  sending
	broken   bool // what was sent should have been cut back
	look     int  // the place of the answer where the writer looks whether to go on
}

// A step of the path: a field by its ID, or a list position if that is below 0.
// It holds no pointer, so that keeping the path costs the collector nothing.
type step struct{ field, index int32 }

// sharedText has where in the answer the records of a field were written, by
// row, so that those that many parents share are written out once and copied.
// Places are those of the whole answer, with what was sent.
type sharedText struct{ from, to []int32 }

// A sharedRow is a row whose text is remembered for the field that has this ID.
type sharedRow struct{ field, row int32 }

func (w *writer) begin() {
	w.path, w.errs = w.path[:0], nil
	clear(w.causes)
	w.written = w.written[:0]
	w.failures, w.sent, w.sending, w.broken, w.look = 0, 0, undecided, false, lookEvery
}

// place returns where in the answer the end of the buffer is.
func (w *writer) place(b []byte) int { return w.sent + len(b) }

// null writes null in place of what was written from a place of the answer on.
// Texts that were remembered from there on are gone, too:
//
//	[{"author":{"name":"Oda"},"grade":   the author's text is remembered …
//	[null                                … and later notes must write it anew
func (w *writer) null(b []byte, place int) []byte {
	for n := len(w.written); n > 0; n-- {
		last := w.written[n-1]
		if text := &w.texts[last.field]; int(text.to[last.row]) > place {
			text.from[last.row] = -1
		} else {
			break
		}
		w.written = w.written[:n-1]
	}
	if place < w.sent {
		w.broken = true
		place = w.sent
	}
	return append(b[:place-w.sent], "null"...)
}

// pathNow returns the current path as callers read it.
func (r *run) pathNow() []any {
	path := make([]any, len(r.path))
	for i, s := range r.path {
		if s.field >= 0 {
			path[i] = r.plan.Fields[s.field].Name
		} else {
			path[i] = int(s.index)
		}
	}
	return path
}

func (w *writer) enter(f *plan.Field) { w.path = append(w.path, step{field: int32(f.ID)}) }
func (w *writer) leave()              { w.path = w.path[:len(w.path)-1] }

// data writes the whole answer.
func (r *run) data(b []byte, o *plan.Object) []byte {
	start := r.place(b)
	ok := false
	if r.stopped == nil {
		b, ok = r.fields(b, o.Cases[0].Fields, nil, 0)
	}
	if r.stopped != nil {
		r.errs = []*Error{r.stopped}
	}
	if !ok {
		return r.null(b, start)
	}
	return b
}

// fields writes an object of the fields for a row.
func (r *run) fields(b []byte, fields []*plan.Field, t *store.Table, row int) ([]byte, bool) {
	if len(fields) == 0 {
		return append(b, "{}"...), true
	}
	for _, f := range fields {
		b = append(b, f.Lead...)
		mark := r.place(b)
		var ok bool
		if f.Allow != nil && !r.allows(f.Allow, t, row) {
			r.deny(f)
			if b, ok = r.settle(b, f, mark, false); !ok {
				return b, false
			}
			continue
		}
		switch f.What {
		case plan.Denied:
			r.deny(f)
		case plan.Leaf:
			b, ok = r.leaf(b, f, &t.Columns[f.Column], row)
		case plan.Constant:
			b, ok = append(b, f.Text...), true
		case plan.Inner:
			r.enter(f)
			b, ok = r.inner(b, f, &f.Null, &t.Columns[f.Column], row)
			r.leave()
		case plan.Paged:
			r.enter(f)
			b, ok = r.connection(b, f, t, row)
			r.leave()
		case plan.Aggregate:
			b, ok = r.total(b, f, row)
		case plan.Expression:
			b, ok = r.express(b, f, t, row)
		case plan.Called:
			b, ok = r.call(b, f, row)
		case plan.Written, plan.WrittenKey, plan.Counted, plan.Answered:
			r.enter(f)
			b, ok = r.answered(b, f)
			r.leave()
		case plan.Grouped:
			r.enter(f)
			b, ok = r.fields(b, f.Object.Cases[0].Fields, t, row)
			r.leave()
		case plan.Picked:
			r.enter(f)
			b, ok = r.picked(b, f, t, row)
			r.leave()
		case plan.Merged:
			r.enter(f)
			b, ok = r.merged(b, f, t, row)
			r.leave()
		default:
			r.enter(f)
			b, ok = r.records(b, f, row)
			r.leave()
		}
		if !ok || r.place(b) >= r.look {
			if b, ok = r.settle(b, f, mark, ok); !ok {
				return b, false
			}
		}
	}
	return append(b, '}'), true
}

// settle ends a field whose value began at the mark. A value that could not be
// written becomes null where null is allowed; it reports false where it is not, or
// where the answer stops here.
func (r *run) settle(b []byte, f *plan.Field, mark int, ok bool) ([]byte, bool) {
	if !ok {
		if f.Null.NonNull {
			return b, false
		}
		b = r.null(b, mark)
	}
	return b, r.place(b) < r.look || r.goOn(b)
}

// missing tells of null where the schema promises a value.
func (r *run) missing(f *plan.Field) {
	r.fail(f, nil, Missing, "", fmt.Sprintf(msgRequiredNoValue, f.At))
}

// records writes the records that a field leads to.
func (r *run) records(b []byte, f *plan.Field, row int) ([]byte, bool) {
	if s := f.Step; s.Inner != nil && r.noList(f, &f.Null, &r.table(s.Parent).Columns[s.Inner.Path[len(s.Inner.Path)-1]], row) {
		return b, false
	}
	l, from, to, ok := r.linked(f, row)
	if !ok {
		return b, false
	}
	if f.What == plan.Many {
		return r.list(b, f, l, from, to)
	}
	return r.one(b, f, f, l, from, to)
}

// one writes the one record of a range of rows, as the field of is written, or
// tells that there is none or more than one; errors are those of the field f.
func (r *run) one(b []byte, f, of *plan.Field, l *link, from, to int32) ([]byte, bool) {
	switch {
	case from == to:
		if f.Null.NonNull {
			r.missing(f)
		}
		return b, false
	case to-from > 1:
		source := ""
		if of != nil {
			source = of.Step.Read.Fetch.Source
		}
		r.fail(f, nil, NotUnique, source, fmt.Sprintf(msgPromisesOneRecordWere, f.At, to-from))
		return b, false
	}
	return r.record(b, of, l, l.at(from))
}

// linked returns the rows that belong to a parent row, or tells why there are
// none.
func (r *run) linked(f *plan.Field, row int) (l *link, from, to int32, ok bool) {
	l = r.link(f.Step)
	if l.err != nil && !(l.keyed && r.keyless(f.Step, row)) {
		r.failed(f, f.Step, l.err)
		return l, 0, 0, false
	}
	if f.Step.Parent == nil {
		row = 0
	} else if why := r.badKey(f.Step, row); why != "" {
		r.fail(f, nil, BadResult, "", f.At+": "+why)
		return l, 0, 0, false
	}
	from, to = l.rows(row)
	return l, from, to, true
}

// keyless reports whether a parent row has no key by which its rows would be found:
// null, or a list without any.
func (r *run) keyless(s *plan.Step, row int) bool {
	t := r.table(s.Parent)
	return slices.ContainsFunc(s.Here, func(column int) bool {
		c := &t.Columns[column]
		if c.Null[row] || c.Kind != store.List {
			return c.Null[row]
		}
		from, to := c.Items(row)
		return !slices.Contains(c.Elem.Null[from:to], false)
	})
}

// badKey says why a key of a parent row cannot be read, or "".
func (r *run) badKey(s *plan.Step, row int) string {
	for _, column := range s.Here {
		if c := &r.table(s.Parent).Columns[column]; c.Bad != nil {
			if why, bad := c.Bad[row]; bad {
				return "the key is not what it is taken for: " + why
			}
		}
	}
	return ""
}

// failed tells that the records of a step could not be had.
func (r *run) failed(f *plan.Field, s *plan.Step, err error) {
	fetch := s.Read.Fetch
	code, msg := describe(fetch, err)
	source := fetch.Source
	var before *told
	if errors.As(err, &before) {
		source = before.source
	}
	var cause any = fetch
	if s.Call != nil {
		cause = nil // calls fail one by one
	}
	r.fail(f, cause, code, source, msg)
}

// list writes the records of a list.
func (r *run) list(b []byte, f *plan.Field, l *link, from, to int32) ([]byte, bool) {
	return r.items(b, f.Null.Item, int(to-from), func(b []byte, i int) ([]byte, bool) {
		row := l.at(from + int32(i))
		if l.items != nil && l.items.Null[row] {
			return b, !r.noList(f, f.Null.Item, l.items, row)
		}
		return r.record(b, f, l, row)
	})
}

// record writes one record of a step: a copy of what was written of it before,
// where parents share it.
func (r *run) record(b []byte, f *plan.Field, l *link, row int) ([]byte, bool) {
	if !l.shared {
		return r.object(b, f, l.table, row)
	}
	text := &r.texts[f.ID]
	if text.from == nil {
		text.from, text.to = r.ints.take(l.table.Len), r.ints.take(l.table.Len)
		for i := range text.from {
			text.from[i] = -1
		}
	}
	if from := int(text.from[row]) - r.sent; text.from[row] >= 0 && from >= 0 {
		return append(b, b[from:int(text.to[row])-r.sent]...), true
	}
	mark, sent, failures := r.place(b), r.sent, r.failures
	b, ok := r.object(b, f, l.table, row)
	if ok && r.failures == failures && r.sent == sent && r.place(b) < maxShared {
		text.from[row], text.to[row] = int32(mark), int32(r.place(b))
		r.written = append(r.written, sharedRow{int32(f.ID), int32(row)})
	}
	return b, ok
}

// maxShared bounds where in an answer a text may stand that is copied from.
const maxShared = 1 << 30

// object writes one record as its type wants it.
func (r *run) object(b []byte, f *plan.Field, t *store.Table, row int) ([]byte, bool) {
	o := f.Object
	if o.Kind < 0 {
		return r.fields(b, o.Cases[0].Fields, t, row)
	}
	kind := &t.Columns[o.Kind]
	if kind.Null[row] {
		r.fail(f, nil, BadResult, "", fmt.Sprintf(msgRecordHasNothingTells, o.Type))
		return b, false
	}
	stored := kind.Text(row)
	for i := range o.Cases {
		if o.Cases[i].Stored == string(stored) {
			return r.fields(b, o.Cases[i].Fields, t, row)
		}
	}
	r.fail(f, nil, BadResult, "", fmt.Sprintf(msgRecordKindNoType, o.Type, stored))
	return b, false
}

// noList reports whether there is no nested record or list of them, which it
// tells where there must be.
func (r *run) noList(f *plan.Field, null *plan.Nullness, c *store.Column, row int) bool {
	if !c.Null[row] {
		return false
	}
	if why, bad := c.Bad[row]; bad {
		r.fail(f, nil, BadResult, "", f.At+": "+why)
	} else if null.NonNull {
		r.missing(f)
	}
	return true
}

// inner writes a nested record, or a list of them, or of such lists.
func (r *run) inner(b []byte, f *plan.Field, null *plan.Nullness, c *store.Column, row int) ([]byte, bool) {
	switch {
	case r.noList(f, null, c, row):
		return b, false
	case c.Kind != store.List:
		return r.object(b, f, c.Rows, row)
	}
	start, end := c.Items(row)
	return r.items(b, null.Item, end-start, func(b []byte, i int) ([]byte, bool) {
		return r.inner(b, f, null.Item, c.Elem, start+i)
	})
}

// items writes a list of n items, each of which item writes.
func (r *run) items(b []byte, null *plan.Nullness, n int, item func(b []byte, i int) ([]byte, bool)) ([]byte, bool) {
	b = append(b, '[')
	r.path = append(r.path, step{field: -1})
	defer r.leave()
	last := len(r.path) - 1
	for i := range n {
		if i > 0 {
			b = append(b, ',')
		}
		r.path[last].index = int32(i)
		mark := r.place(b)
		var ok bool
		if b, ok = item(b, i); !ok {
			if null.NonNull {
				return b, false
			}
			b = r.null(b, mark)
		}
		if len(b) >= r.opts.Part {
			b = r.send(b)
		}
		if r.place(b) >= r.look && !r.goOn(b) {
			return b, false
		}
	}
	return append(b, ']'), true
}
