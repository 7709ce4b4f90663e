package osprey

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"osprey/core/store"
	"osprey/stores/functions"
)

// A Function computes the fields whose @computed(by:) names it.
type Function struct {
	name string
	run  functions.Func
}

// A Call is one call of a function: what "needs" selects of the record, and
// the arguments of the field. Fields of root types have no record.
type Call[Record, Args any] struct {
	Record Record
	Args   Args
}

// None is the record or the arguments of a function that has none.
type None = struct{}

// Errors are the errors of some calls of a function, by their position. A
// function returns them beside the results; the other calls keep theirs.
type Errors map[int]error

// Error tells the first of the errors.
func (e Errors) Error() string {
	if len(e) == 0 {
		return "no errors"
	}
	first := slices.Min(slices.Collect(maps.Keys(e)))
	return fmt.Sprintf("call %d: %v (%d in all)", first, e[first], len(e))
}

// A Caller is who asks, as far as the service has found out: see docs/access.md.
type Caller struct {
	ID, Name string // "" of nobody
	Roles    []string
	Claims   map[string]any // of a token, as decoded JSON
}

// CallerOf returns who asks, in a function of the program, by its context.
func CallerOf(ctx context.Context) Caller {
	c := store.CallerOf(ctx)
	if c == nil || c.Who == nil {
		return Caller{}
	}
	return Caller{ID: c.Who.ID, Name: c.Who.Name, Roles: slices.Clone(c.Who.Roles), Claims: maps.Clone(c.Who.Claims)}
}

// Func makes a function for fields with @computed(by: name), where name is a
// source and a name with a dot between, such as harbour.label. It is always
// given all calls that there are, each different one once, and returns a result
// for each in the same order. If it returns [Errors], only those calls fail; any
// other error is that of all. The message of an error is shown to callers, but
// for errors of the context.
//
// Record, Args and Result are read and written as package encoding/json does,
// and checked against the schema when the project opens: fields that do not
// exist, of other types, or that may be null and are no pointers.
//
// The context ends after five seconds, or the timeout that osprey.yaml has for
// the source (with the kind program), and when the caller has gone. A function
// that does not end then is left to itself, and its fields are errors. So are
// those of a function that panics.
func Func[Record, Args, Result any](name string, f func(ctx context.Context, calls []Call[Record, Args]) ([]Result, error)) Function {
	return Function{name, functions.Func{
		Check: func(s store.Signature) error {
			if s.Within {
				return errors.New("it takes part in no transaction: make it with osprey.Within")
			}
			return checkSignature(s, reflect.TypeFor[Record](), reflect.TypeFor[Args](), reflect.TypeFor[Result]())
		},
		Call: func(ctx context.Context, inputs [][]byte) ([]functions.Result, error) {
			calls, err := callsOf[Record, Args](inputs)
			if err != nil {
				return nil, err
			}
			results, err := f(ctx, calls)
			return written(len(inputs), results, err)
		},
	}}
}

// callsOf reads the calls of a function.
func callsOf[Record, Args any](inputs [][]byte) ([]Call[Record, Args], error) {
	calls := make([]Call[Record, Args], len(inputs))
	for i, input := range inputs {
		if err := json.Unmarshal(input, &calls[i]); err != nil {
			return nil, unread(err)
		}
	}
	return calls, nil
}

// unread is the error of a call that does not fit the Go types of a function.
func unread(err error) error {
	var wrong *json.UnmarshalTypeError
	if errors.As(err, &wrong) {
		return fmt.Errorf("it cannot read %s of its call, which is a %s, into %s", wrong.Field, wrong.Value, wrong.Type)
	}
	return fmt.Errorf("it cannot read its call: %w", err) // in the words of its own UnmarshalJSON
}

// unwritten is the error of a result that is no JSON.
func unwritten(err error) error {
	var value *json.UnsupportedValueError
	var kind *json.UnsupportedTypeError
	switch {
	case errors.As(err, &value):
		return fmt.Errorf("it gave %s, which JSON cannot write", value.Str)
	case errors.As(err, &kind):
		return fmt.Errorf("it gave a value of the type %s, which JSON cannot write", kind.Type)
	}
	return fmt.Errorf("what it gave cannot be written as JSON: %w", err)
}

// written returns the results of a function as JSON.
func written[Result any](calls int, results []Result, err error) ([]functions.Result, error) {
	var some Errors
	if err != nil && !errors.As(err, &some) {
		return nil, err
	}
	list := make([]functions.Result, len(results))
	for i := range results {
		if list[i].JSON, list[i].Err = json.Marshal(results[i]); list[i].Err != nil {
			list[i].Err = unwritten(list[i].Err)
		}
	}
	for i, failed := range some {
		for i >= len(list) && i < calls { // a function may stop where one failed
			list = append(list, functions.Result{Err: errors.New("it gave no result for this call")})
		}
		if i >= 0 && i < len(list) {
			list[i] = functions.Result{Err: failed}
		}
	}
	return list, nil
}
