package execute

import (
	"fmt"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file ends what has become too much, or what nobody waits for any more:
// an answer with too many bytes, an operation with too many records, a caller
// who has hung up, a time that is over.

// lookEvery is after how many bytes the writer looks whether to go on.
const lookEvery = 64 << 10

// goOn reports whether writing may go on, at the end of what is written. It is
// asked where the writer has passed the place that it gave; once it is false it
// stays so, and every caller returns until the whole answer is cut back.
func (r *run) goOn(b []byte) bool {
	if r.stopped != nil {
		return false
	}
	place := r.place(b)
	r.look = place + lookEvery
	switch {
	case r.opts.MaxAnswer > 0 && int64(place) > r.opts.MaxAnswer:
		r.stop(Limit, fmt.Sprintf(msgAnswerTooLarge, store.Bytes(r.opts.MaxAnswer)))
	case r.ctx.Err() != nil:
		r.stop(store.Cancelled, msgNobodyWaits)
	case !r.opts.Until.IsZero() && r.opts.Now().After(r.opts.Until):
		r.stop(Limit, msgTookTooLong)
	}
	return r.stopped == nil
}

// stop ends the run: its answer is this one error.
func (r *run) stop(code store.Code, msg string) {
	if r.stopped == nil {
		r.stopped = &Error{Msg: msg, Code: string(code)}
		r.look = 0
	}
}

// countRecords adds what a request has brought, and stops the run if that is too
// much.
func (r *run) countRecords(n int64) {
	r.taken += n
	if most := r.opts.MaxRecords; most > 0 && r.taken > most {
		r.stop(Limit, fmt.Sprintf(msgTooManyRecords, most))
	}
}

// countRequests adds store requests, and stops the run if they are too many: the ones
// that would be are not made.
func (r *run) countRequests(n int) bool {
	r.asked += n
	if most := r.opts.MaxRequests; most > 0 && r.asked > most {
		r.stop(Limit, fmt.Sprintf(msgTooManyRequests, most))
	}
	return r.stopped == nil
}

// leastRequests returns how many requests a fetch is with the keys that have come: of a
// store that takes one key at a time, one for each, and of one that takes so many, one
// for each such part.
//
//	250 keys of a store that takes 100   →   3
func leastRequests(f *plan.Fetch, inputs []store.Input) int {
	n := max(1, f.Statements)
	for i, read := range f.Reads {
		if len(read.Store.Keys) == 0 {
			continue
		}
		switch keys := inputs[i].Keys[0].Len(); {
		case f.EachKey:
			n = max(n, keys)
		case f.MaxKeys > 0:
			n = max(n, (keys+f.MaxKeys-1)/f.MaxKeys)
		}
	}
	return n
}

// fitsAnswer reports whether an answer that is sent in parts will stay within
// its limit, as far as the columns tell: what is sent cannot be called back. It
// is asked for once a part is full, so short answers are spared it.
//
// Records that many parents share count for each of them. How often each row is
// written is found from the top:
//
//	craft   rows  0 1 2      written 1 1 1 times
//	owner   of    0 0 1  →   rows 0 1 written 2 1 times
func (r *run) fitsAnswer() bool {
	if r.opts.MaxAnswer <= 0 {
		return true
	}
	m := measure{r, r.opts.MaxAnswer}
	m.object(r.plan.Data, nil, []int64{1})
	return m.left >= 0
}

// A measure is how many bytes are left of what an answer may have.
type measure struct {
	*run
	left int64
}

// take takes a number of texts of some bytes, and reports whether they fit.
func (m *measure) take(times, bytes int64) bool {
	if m.left < 0 || bytes > 0 && times > m.left/bytes {
		m.left = -1
		return false
	}
	m.left -= times * bytes
	return true
}

// object takes the records of a table, each as often as it is written.
func (m *measure) object(o *plan.Object, t *store.Table, times []int64) {
	for _, c := range o.Cases {
		own, all := times, int64(0)
		if o.Kind >= 0 {
			own = make([]int64, len(times))
			for row, n := range times {
				if isOnly(t, plan.Only{Kind: o.Kind, Stored: c.Stored}, row) {
					own[row] = n
				}
			}
		}
		for _, n := range own {
			all += n
		}
		if !m.take(all, 2) {
			return
		}
		for _, f := range c.Fields {
			if !m.take(all, int64(len(f.Lead))) || !m.field(f, t, own, all) {
				return
			}
		}
	}
}

func (m *measure) field(f *plan.Field, t *store.Table, times []int64, all int64) bool {
	switch f.What {
	case plan.Constant, plan.Denied:
		return m.take(all, int64(len(f.Text)))
	case plan.Leaf:
		c := &t.Columns[f.Column]
		for row, n := range times {
			if n > 0 && !m.take(n, widthOf(c, row)) {
				return false
			}
		}
	case plan.Grouped:
		m.object(f.Object, t, times)
	case plan.Inner:
		c := &t.Columns[f.Column]
		items := c.Innermost()
		below := make([]int64, items.Len())
		for row, n := range times {
			for i, end := c.Range(row); i < end; i++ {
				if !items.Null[i] {
					below[i] = n
				}
			}
		}
		m.object(f.Object, items.Rows, below)
	case plan.One, plan.Many:
		l := m.link(f.Step)
		if l.err != nil {
			return m.take(all, 4)
		}
		// The number of records is looked at before they are counted one by one.
		for parent, n := range times {
			if from, to := l.rows(parent); !m.take(n, int64(to-from)) {
				return false
			}
		}
		below := make([]int64, l.table.Len)
		for parent, n := range times {
			from, to := l.rows(parent)
			for i := from; i < to && n > 0; i++ {
				below[l.at(i)] += n
			}
		}
		m.object(f.Object, l.table, below)
	}
	return m.left >= 0
}

// widthOf returns about how many bytes a value takes.
func widthOf(c *store.Column, row int) int64 {
	switch {
	case c.Null[row]:
		return 4
	case c.Kind == store.List:
		start, end := c.Items(row)
		width := int64(2)
		for i := start; i < end; i++ {
			width += widthOf(c.Elem, i) + 1
		}
		return width
	case len(c.Ends) > 0:
		return int64(len(c.At(row))) + 2
	}
	return 8
}
