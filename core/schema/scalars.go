package schema

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"osprey/core/scalar"
)

// parseScalar coerces a value given for a scalar: sections 3.5.1 to 3.5.5.
func parseScalar(t *Scalar, v any) (Value, error) {
	if known := scalar.Named(t.Name); known != nil {
		value, err := known.Parse(v)
		var misfit *scalar.Misfit
		if errors.As(err, &misfit) {
			return nil, mismatch(misfit.Want, v)
		}
		return value, err
	}
	if t.Coding != nil && t.Coding.Parse != nil {
		return t.Coding.Parse(v)
	}
	return v, nil
}

// mismatch says what was expected and what was found.
func mismatch(want string, found any) error {
	return fmt.Errorf(msgExpectedFound, want, show(found))
}

// show writes a given value for a message, cut to a readable length.
func show(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case Symbol:
		return clip(string(v))
	case []any, []Value:
		return "a list"
	case map[string]any, InputFields:
		return "an input object"
	case string:
		return strconv.Quote(clip(v))
	}
	return clip(fmt.Sprint(v))
}

func clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}
