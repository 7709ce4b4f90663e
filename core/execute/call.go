package execute

import (
	"encoding/json"
	"errors"
	"fmt"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file calls functions: once for a wave, with all that they are needed
// for, and each different input once.

// calls is the calls of one step: for each row of its parent's table the number
// of its call, or -1 if it has none, since nobody asks for the row or what it
// needs could not be had.
type calls struct {
	of     []int32
	failed map[int]error // by row: why there is no call
}

// callInputs makes what the calls of a step are given: a JSON object for each
// different one. Of the fees of four calls, of which the second has lost its craft
// and the last needs the same as the first:
//
//	row  needed                              of   list
//	0    {"craft":{"lengthM":188.5},…}        0   {"record":{"craft":{"lengthM":188.5},…},"args":{"days":1}}
//	1    an error, since craft is required   –1   failed[1]
//	2    {"craft":{"lengthM":96},…}           1   {"record":{"craft":{"lengthM":96},…},"args":{"days":1}}
//	3    {"craft":{"lengthM":188.5},…}        0
func (r *run) callInputs(s *plan.Step) ([][]byte, error) {
	c := &calls{failed: map[int]error{}}
	if r.called == nil {
		r.called = map[*plan.Step]*calls{}
	}
	r.called[s] = c
	args, err := r.argsJSON(s.Call.Args)
	if err != nil {
		return nil, err
	}
	if s.Parent == nil {
		return r.rootInput(s.Call, c, args), nil
	}
	t := r.table(s.Parent)
	if t == nil {
		return nil, nil // told where the records are missing
	}
	shown := r.shown(s.Parent)
	if s.Call.Picked != nil {
		shown = r.pickedRows(s.Call.Picked)
	}
	c.of = make([]int32, t.Len)
	var list [][]byte
	bytes := int64(0)
	known := map[string]int32{}
	outside := r.aside(make([]sharedText, len(r.plan.Fields)))
	for row := range t.Len {
		c.of[row] = -1
		if shown != nil && !shown[row] || !isOnly(t, s.Call.Only, row) {
			continue
		}
		if bytes > r.opts.MaxAnswer && r.opts.MaxAnswer > 0 {
			r.writer = outside
			return nil, &store.Error{Code: Limit, Msg: fmt.Sprintf(msgAnswerTooLarge, store.Bytes(r.opts.MaxAnswer))}
		}
		text, err := r.needed(s.Call, t, row)
		if err != nil {
			c.failed[row] = err
			continue
		}
		input := fmt.Sprintf(`{"record":%s,"args":%s}`, text, args)
		n, ok := known[input]
		if !ok {
			n = int32(len(list))
			known[input] = n
			bytes += int64(len(input))
			list = append(list, []byte(input))
		}
		c.of[row] = n
	}
	r.writer = outside
	return list, nil
}

// rootInput makes what the one call at the root is given.
func (r *run) rootInput(call *plan.Call, c *calls, args []byte) [][]byte {
	c.of = []int32{0}
	if len(call.Needs) == 0 {
		return [][]byte{fmt.Appendf(nil, `{"args":%s}`, args)}
	}
	outside := r.aside(make([]sharedText, len(r.plan.Fields)))
	text, err := r.needed(call, nil, 0)
	var list [][]byte
	if c.failed[0] = err; err == nil {
		list = [][]byte{fmt.Appendf(nil, `{"record":%s,"args":%s}`, text, args)}
	}
	r.writer = outside
	return list
}

// aside begins to write something that is no part of the answer, and returns
// the state of the answer. Records are shared in texts, where any are written.
func (r *run) aside(texts []sharedText) writer {
	outside := r.writer
	r.writer = writer{texts: texts, sending: keepWhole}
	return outside
}

// needed writes what a call is given of a row. Whatever goes wrong in it costs
// the call.
func (r *run) needed(c *plan.Call, t *store.Table, row int) ([]byte, error) {
	start := len(r.buf)
	var ok bool
	if r.buf, ok = r.fields(r.buf, c.Needs, t, row); !ok || len(r.errs) > 0 {
		return nil, r.takeError()
	}
	return r.buf[start:], nil
}

// A told error is one whose code and source are known already.
type told struct{ code, source, msg string }

// Error returns the message for callers.
func (e *told) Error() string { return e.msg }

// takeError returns the first error that was told aside, and forgets all.
func (r *run) takeError() error {
	if len(r.errs) == 0 {
		return errors.New("a value could not be had, and nothing says why")
	}
	first := r.errs[0]
	r.errs, r.causes = nil, nil
	return &told{first.Code, first.Source, first.Msg}
}

// isOnly reports whether a row is of the type that a field is planned for.
func isOnly(t *store.Table, only plan.Only, row int) bool {
	if only.Kind < 0 {
		return true
	}
	kind := &t.Columns[only.Kind]
	return !kind.Null[row] && string(kind.Text(row)) == only.Stored
}

// call writes what a function gave for a row.
func (r *run) call(b []byte, f *plan.Field, row int) ([]byte, bool) {
	c, at, ok := r.callValue(f, f, row)
	return r.given(b, f, c, at, ok)
}

// given writes what a function or expression gave, if anything: a value, or an object
// or list of them.
func (r *run) given(b []byte, f *plan.Field, c *store.Column, at int, ok bool) ([]byte, bool) {
	switch {
	case !ok:
		return b, false
	case f.Object == nil:
		return r.leaf(b, f, c, at)
	}
	r.enter(f)
	b, ok = r.inner(b, f, &f.Null, c, at)
	r.leave()
	return b, ok
}

// callValue returns what a function gave for a row, as a value of a column;
// errors are those of the field named.
func (r *run) callValue(f, named *plan.Field, row int) (c *store.Column, at int, ok bool) {
	t, at, err := r.callRow(f.Step, row)
	if err != nil {
		r.enter(named)
		r.failed(named, f.Step, err)
		r.leave()
		return nil, 0, false
	}
	return &t.Columns[f.Column], at, true
}

// callRow returns the row that a function gave for a parent row.
func (r *run) callRow(s *plan.Step, row int) (*store.Table, int, error) {
	got := r.fetched[s.Read.Fetch.ID]
	switch {
	case r.badRead[s.Read] != nil:
		return nil, 0, r.badRead[s.Read]
	case got.err != nil:
		return nil, 0, got.err
	}
	c := r.called[s]
	if s.Parent == nil {
		row = 0
	}
	if err := c.failed[row]; err != nil {
		return nil, 0, err
	}
	t := got.answer.Tables[s.Read.Index]
	n := int(c.of[row])
	if n < 0 || n >= t.Len {
		return nil, 0, errors.New("a function was not called for a row that is shown")
	}
	return t, n, t.Failed[n]
}

// argsJSON writes the arguments that are given as a JSON object.
func (r *run) argsJSON(args []*plan.Arg) ([]byte, error) {
	object := map[string]any{}
	for _, a := range args {
		v, err := a.Resolve(r.vars)
		if err != nil {
			return nil, badArgument(a, msgDoesNotFit, err)
		}
		object[a.Name] = plainValue(v)
	}
	return json.Marshal(object)
}

// plainValue returns a value as JSON has it.
func plainValue(v schema.Value) any {
	switch v := v.(type) {
	case schema.Symbol:
		return string(v)
	case []schema.Value:
		list := make([]any, len(v))
		for i, item := range v {
			list[i] = plainValue(item)
		}
		return list
	case schema.InputFields:
		object := map[string]any{}
		for _, f := range v {
			object[f.Name] = plainValue(f.Value)
		}
		return object
	}
	return v
}
