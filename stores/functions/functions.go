// Package functions calls functions: those of a remote service, by JSON-RPC 2.0,
// and those of the program itself. A function is called once for a wave, with
// all the calls that there are.
package functions

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"osprey/core/store"
)

// Kind is the kind of sources of remote functions, and Local that of the
// program's own.
const (
	Kind  = "functions"
	Local = "program"
)

// A Result is what came of one call.
type Result struct {
	JSON []byte // nil if Err says why there is no value
	Err  error  // its message is for callers
}

// A target makes calls of several functions at once. It returns a result for
// each, or an error that holds for all.
type target interface {
	call(ctx context.Context, from *store.Caller, calls []call) ([]Result, error)
}

// A call is one call of a function.
type call struct {
	function string
	input    []byte // a JSON object
}

// catalogue is that of all sources of functions: they have no record sets.
var catalogue = &store.Catalogue{Sets: map[string]*store.Set{}}

// A request is calls that are made together.
type request struct {
	target target
	reads  []*store.Read
	about  string // the statement, for operators
}

// Describe tells which function is called.
func (r *request) Describe() store.Description {
	return store.Description{Asks: r.reads[0].Set, Statement: r.about}
}

// Run makes all calls at once.
func (r *request) Run(ctx context.Context, from *store.Caller, in []store.Input) (*store.Answer, error) {
	var calls []call
	known := map[string]int{} // two fields may need the same call
	of := make([][]int, len(r.reads))
	for i, read := range r.reads {
		for _, input := range in[i].Calls {
			n, ok := known[string(input)]
			if !ok {
				n = len(calls)
				known[string(input)] = n
				calls = append(calls, call{read.Set, input})
			}
			of[i] = append(of[i], n)
		}
	}
	results, err := r.target.call(ctx, from, calls)
	if err != nil {
		return nil, err
	}
	a := &store.Answer{Requests: 1}
	for i, read := range r.reads {
		own := make([]Result, len(of[i]))
		for row, n := range of[i] {
			own[row] = results[n]
		}
		a.Tables = append(a.Tables, table(read, own))
	}
	return a, nil
}

// table returns the results as rows.
func table(read *store.Read, results []Result) *store.Table {
	t := store.NewTable(read.Columns)
	for row, result := range results {
		t.Len++
		var v any
		err := result.Err
		if err == nil {
			d := json.NewDecoder(bytes.NewReader(result.JSON))
			d.UseNumber()
			if bad := d.Decode(&v); bad != nil {
				err = failure(read.Set, "gave something for this call that is not JSON", bad)
			}
		}
		var known *store.Error
		if err != nil && !errors.As(err, &known) {
			err = failure(read.Set, "says: "+err.Error(), nil)
		}
		if err != nil {
			if t.Failed == nil {
				t.Failed = map[int]error{}
			}
			t.Failed[row] = err
			v = nil
		}
		for i := range read.Columns {
			t.Columns[i].AppendJSON(&read.Columns[i], v)
		}
	}
	return t
}

// failure makes the error of a call.
func failure(function, what string, cause error) error {
	return &store.Error{Code: store.Function, Msg: fmt.Sprintf("failed in %s: it %s", function, what), Err: cause}
}
