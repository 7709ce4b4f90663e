package schema

import (
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// A standardScalar is supplied when a schema refers to its name without
// defining it; one that the schema defines under the same name means the same.
type standardScalar struct {
	specifiedBy string
	description string
	// parse checks a value that was given: a string, int64, float64, bool or
	// the text of a number too large for those (json.Number).
	parse func(v any) (Value, error)
}

// standardScalars has the scalars that Osprey knows beyond the predeclared ones.
var standardScalars = map[string]standardScalar{
	"DateTime": {"https://www.rfc-editor.org/rfc/rfc3339", "A moment: date, time and offset, as in 2026-03-01T08:30:00Z.",
		textScalar("a moment such as \"2026-03-01T08:30:00Z\"", isTime(time.RFC3339Nano))},
	"Date": {"https://www.rfc-editor.org/rfc/rfc3339", "A day, as in 2026-03-01.",
		textScalar("a day such as \"2026-03-01\"", isTime(time.DateOnly))},
	"Time": {"https://www.rfc-editor.org/rfc/rfc3339", "A time of day, as in 08:30:00.",
		textScalar("a time of day such as \"08:30:00\"", isTime("15:04:05.999999999"))},
	"Duration": {"https://www.rfc-editor.org/rfc/rfc3339#appendix-A", "A length of time, as in PT36H or P3D.",
		textScalar("a length of time such as \"PT36H\"", matches(durationForm))},
	"UUID": {"https://www.rfc-editor.org/rfc/rfc9562", "A universally unique identifier.",
		textScalar("a UUID such as \"0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f\"", matches(uuidForm))},
	"URL": {"https://url.spec.whatwg.org/", "An absolute address.",
		textScalar("an address such as \"https://example.org/a\"", func(s string) bool {
			u, err := url.Parse(s)
			return err == nil && u.Scheme != ""
		})},
	"JSON":    {"https://www.rfc-editor.org/rfc/rfc8259", "Any JSON value.", func(v any) (Value, error) { return v, nil }},
	"Decimal": {"https://www.rfc-editor.org/rfc/rfc8259#section-6", "An exact number of any size, written as text, as in \"12.50\".", parseDecimal},
	"Int64":   {"https://www.rfc-editor.org/rfc/rfc8259#section-6", "A signed whole number of at most 64 bits, written as text.", parseInt64},
}

var (
	durationForm = regexp.MustCompile(`^-?P(\d+W|(\d+Y)?(\d+M)?(\d+D)?(T(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?)$`)
	uuidForm     = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
	decimalForm  = regexp.MustCompile(`^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d{1,4})?$`)
)

func isTime(layout string) func(string) bool {
	return func(s string) bool {
		_, err := time.Parse(layout, s)
		return err == nil
	}
}

func matches(form *regexp.Regexp) func(string) bool {
	return func(s string) bool {
		return form.MatchString(s) && !strings.HasSuffix(s, "T") && s != "P" && s != "-P"
	}
}

// textScalar makes the parse function of a scalar that is given as text.
func textScalar(want string, fits func(string) bool) func(any) (Value, error) {
	return func(v any) (Value, error) {
		s, ok := v.(string)
		if !ok || !fits(s) {
			return nil, mismatch(want, v)
		}
		return s, nil
	}
}

func parseDecimal(v any) (Value, error) {
	s := ""
	switch v := v.(type) {
	case string:
		s = v
	case int64:
		s = strconv.FormatInt(v, 10)
	case float64:
		s = strconv.FormatFloat(v, 'f', -1, 64)
	case json.Number:
		s = string(v)
	}
	if !decimalForm.MatchString(s) {
		return nil, mismatch(`an exact number such as "12.50"`, v)
	}
	return s, nil
}

func parseInt64(v any) (Value, error) {
	s := ""
	switch v := v.(type) {
	case string:
		s = v
	case int64:
		s = strconv.FormatInt(v, 10)
	case json.Number:
		s = string(v)
	}
	if _, err := strconv.ParseInt(s, 10, 64); err != nil {
		return nil, mismatch("a whole number of at most 64 bits", v)
	}
	return s, nil
}

// parseScalar coerces a value given for a scalar: sections 3.5.1 to 3.5.5.
// A literal tells Int, Float and String apart; JSON does not tell 1.0 from 1,
// and both arrive as int64 if they are whole.
func parseScalar(t *Scalar, v any) (Value, error) {
	switch t.Name {
	case "Int":
		switch v := v.(type) {
		case int64:
			if v < math.MinInt32 || v > math.MaxInt32 {
				return nil, fmt.Errorf(msgFoundIntHoldsWhole, v)
			}
			return v, nil
		case json.Number:
			return nil, fmt.Errorf(msgFoundIntHoldsWhole2, clip(string(v)))
		}
		return nil, mismatch("a whole number", v)
	case "Float":
		switch v := v.(type) {
		case int64:
			return float64(v), nil
		case float64:
			return v, nil
		case json.Number:
			if f, err := strconv.ParseFloat(string(v), 64); err == nil {
				return f, nil
			}
			return nil, fmt.Errorf(msgNumberTooLargeFloat, clip(string(v)))
		}
		return nil, mismatch("a number", v)
	case "String":
		if s, ok := v.(string); ok {
			return s, nil
		}
		return nil, mismatch("a string", v)
	case "Boolean":
		if b, ok := v.(bool); ok {
			return b, nil
		}
		return nil, mismatch("true or false", v)
	case "ID":
		switch v := v.(type) {
		case string:
			return v, nil
		case int64:
			return strconv.FormatInt(v, 10), nil
		case json.Number:
			if _, ok := new(big.Int).SetString(string(v), 10); ok {
				return string(v), nil
			}
		}
		return nil, mismatch("an ID: a string or a whole number", v)
	}
	if s, ok := standardScalars[t.Name]; ok {
		return s.parse(v)
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
