package execute

import (
	"fmt"

	"osprey/core/plan"
	"osprey/core/scalar"
	"osprey/core/store"
)

// This file sends the beginning of a long answer while the rest is being
// written. What is sent cannot be cut back any more, and null in a place that
// the schema forbids cuts back to the nearest place where it may stand, which
// can be far above. So an answer is sent in parts only if no such place has
// null, which the columns tell before they are written.

// partSize is how much of an answer is written before a part of it is sent, if
// the options do not say.
const partSize = 256 << 10

// sending is what was decided about a long answer.
type sending uint8

const (
	undecided sending = iota
	sendParts
	keepWhole
)

// send sends what was written if that can be, and returns the buffer for more.
func (r *run) send(b []byte) []byte {
	if r.sending == undecided {
		r.sending = keepWhole
		if r.opts.Send != nil && r.soundObject(r.plan.Data, nil) {
			if !r.fitsAnswer() {
				r.stop(Limit, fmt.Sprintf(msgAnswerTooLarge, store.Bytes(r.opts.MaxAnswer)))
				return b
			}
			r.sending = sendParts
		}
	}
	if r.sending == keepWhole {
		return b
	}
	if err := r.opts.Send(b); err != nil {
		r.stop(store.Cancelled, msgNobodyWaits)
	}
	r.sent += len(b)
	return b[:0]
}

// soundObject reports whether every record of a table can be written without
// null where the schema forbids it.
func (r *run) soundObject(o *plan.Object, t *store.Table) bool {
	if o.Kind >= 0 {
		known := map[string]bool{}
		for _, c := range o.Cases {
			known[c.Stored] = true
		}
		kind := &t.Columns[o.Kind]
		for row := range t.Len {
			if kind.Null[row] || !known[string(kind.Text(row))] {
				return false
			}
		}
	}
	for _, c := range o.Cases {
		for _, f := range c.Fields {
			if !r.soundField(f, t) {
				return false
			}
		}
	}
	return true
}

func (r *run) soundField(f *plan.Field, t *store.Table) bool {
	if f.Null.NonNull && (f.Allow != nil || f.What == plan.Denied) {
		return false
	}
	switch f.What {
	case plan.Constant, plan.Denied:
		return true
	case plan.Leaf:
		return soundLeaf(f, &f.Null, &t.Columns[f.Column])
	case plan.Expression, plan.Called, plan.Merged, plan.Picked, plan.Written, plan.WrittenKey, plan.Counted, plan.Answered:
		return false // what they may lack is not looked into
	case plan.Grouped:
		return r.soundObject(f.Object, t)
	case plan.Inner:
		c := &t.Columns[f.Column]
		return soundGaps(&f.Null, c) && r.soundObject(f.Object, c.Innermost().Rows)
	}
	if f.What == plan.Paged || f.What == plan.Aggregate || f.Step.Inner != nil {
		return false // what they may lack is not looked into
	}
	l := r.link(f.Step)
	if l.err != nil {
		return !f.Null.NonNull
	}
	if f.What == plan.One && f.Null.NonNull {
		parents := 1
		if f.Step.Parent != nil {
			parents = t.Len
		}
		for p := range parents {
			if from, to := l.rows(p); to-from != 1 {
				return false
			}
		}
	}
	return r.soundObject(f.Object, l.table)
}

// soundGaps reports whether no nested record, or list of them, is missing where
// the schema forbids it.
func soundGaps(null *plan.Nullness, c *store.Column) bool {
	if null.NonNull && c.Gaps {
		return false
	}
	return null.Item == nil || soundGaps(null.Item, c.Elem)
}

// soundLeaf reports whether no value of a column is null, or does not fit,
// where the schema forbids null.
func soundLeaf(f *plan.Field, null *plan.Nullness, c *store.Column) bool {
	if null.NonNull && c.Gaps {
		return false
	}
	if null.Item != nil {
		return soundLeaf(f, null.Item, c.Elem)
	}
	if !null.NonNull {
		return true
	}
	if f.Format != nil {
		return false
	}
	switch f.Codec {
	case scalar.Quoted, scalar.Number, scalar.Truth, scalar.QuotedInt, scalar.NumberAsFloat,
		scalar.ClockText, scalar.RawJSON, scalar.Base64:
		return true
	}
	var text []byte
	for row := range c.Len() {
		var why string
		if text, why = appendValue(text[:0], f, c, row); why != "" {
			return false
		}
	}
	return true
}
