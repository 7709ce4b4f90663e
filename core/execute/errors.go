package execute

import (
	"errors"
	"fmt"

	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/store"
)

// The codes of field errors beyond those of the stores.
const (
	NotUnique = "NOT_UNIQUE" // several records where one was promised
	BadResult = "BAD_VALUE"  // a stored value does not fit the field's type
	Missing   = "NOT_FOUND"  // nothing where the schema promises a value
	Internal  = "INTERNAL"   // a fault of Osprey
	Limit     = "LIMIT"      // more than one operation may cost
)

// An Error is a field error: section 7.1.
type Error struct {
	Msg    string
	Code   string
	Source string // the store concerned, or ""
	Path   []any  // response names (string) and list positions (int)
	Pos    language.Pos
	More   int // how many further fields have the same error for the same reason
}

// sameErrors is how many errors of one cause are told each by itself.
const sameErrors = 10

// describe turns the failure of a request into what a caller may know.
func describe(f *plan.Fetch, err error) (code, msg string) {
	var before *told
	if errors.As(err, &before) {
		return before.code, before.msg
	}
	var known *store.Error
	if errors.As(err, &known) {
		if known.Code == store.BadValue {
			return string(known.Code), known.Msg
		}
		return string(known.Code), fmt.Sprintf(msgSource, f.Source, known.Msg)
	}
	return Internal, fmt.Sprintf(msgSourceFailed, f.Source)
}

// fail records an error at the current path, for the field f. Errors with the
// same cause are told one by one only up to a number.
func (r *run) fail(f *plan.Field, cause any, code, source, msg string) {
	r.failures++
	key := cause
	if key == nil {
		key = msg
	}
	if first := r.causes[key]; first != nil && r.counts[key] >= sameErrors {
		first.More++
		return
	}
	e := &Error{Msg: msg, Code: code, Source: source, Pos: f.Pos, Path: r.pathNow()}
	if r.causes == nil {
		r.causes, r.counts = map[any]*Error{}, map[any]int{}
	}
	r.causes[key] = e
	r.counts[key]++
	r.errs = append(r.errs, e)
}
