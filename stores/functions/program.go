package functions

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"time"

	"osprey/core/language"
	"osprey/core/store"
)

// A Func is a function of the program.
type Func struct {
	// Check reports whether the function takes and gives what a schema says.
	Check func(store.Signature) error
	// Call gives a result for each of the inputs, which are JSON objects as
	// [store.Input] has them.
	Call func(ctx context.Context, inputs [][]byte) ([]Result, error)
}

// A Program is a source of the program's own functions, by their names.
type Program struct {
	Functions map[string]Func
	Timeout   time.Duration // how long a function may take; default [store.DefaultTimeout]
}

// Catalogue returns that there are no record sets.
func (p *Program) Catalogue(context.Context) (*store.Catalogue, error) { return catalogue, nil }

// Capabilities says that the source is called.
func (p *Program) Capabilities() store.Capabilities { return store.Capabilities{CanCall: p.canCall} }

// canCall reports whether there is the function, and whether it is of this
// signature.
func (p *Program) canCall(name string, s store.Signature) error {
	f, ok := p.Functions[name]
	if !ok {
		return fmt.Errorf("the program has no function %q%s", name, language.DidYouMean(name, slices.Sorted(maps.Keys(p.Functions))))
	}
	return f.Check(s)
}

// Prepare makes a request of calls.
func (p *Program) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	return &request{p, reads, "call " + reads[0].Set}, nil
}

// Ping finds the program there.
func (p *Program) Ping(context.Context) error { return nil }

// Close does nothing.
func (p *Program) Close() error { return nil }

// call calls the function of the calls, which is one: a request is of one
// function. A function that does not end in time is left behind.
func (p *Program) call(ctx context.Context, caller *store.Caller, calls []call) ([]Result, error) {
	name := calls[0].function
	timeout := p.Timeout
	if timeout <= 0 {
		timeout = store.DefaultTimeout
	}
	ctx, cancel := context.WithTimeout(store.WithCaller(ctx, caller), timeout)
	defer cancel()
	inputs := make([][]byte, len(calls))
	for i, c := range calls {
		inputs[i] = c.input
	}
	type outcome struct {
		results []Result
		err     error
	}
	done := make(chan outcome, 1)
	go func() {
		defer func() {
			if v := recover(); v != nil {
				done <- outcome{nil, failure(name, "ended in a fault; the service's log has the details", fmt.Errorf("panic: %v\n%s", v, debug.Stack()))}
			}
		}()
		results, err := p.Functions[name].Call(ctx, inputs)
		done <- outcome{results, err}
	}()
	select {
	case <-ctx.Done():
		return nil, store.Fail(ctx, ctx.Err(), "")
	case o := <-done:
		var known *store.Error
		switch {
		case o.err != nil && errors.As(o.err, &known):
			return nil, o.err
		case o.err != nil:
			return nil, failure(name, "says: "+o.err.Error(), nil)
		case len(o.results) != len(calls):
			return nil, failure(name, fmt.Sprintf("gave %d results for %d calls", len(o.results), len(calls)), nil)
		}
		return o.results, nil
	}
}
