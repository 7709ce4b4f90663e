package scalar

import (
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// This file reads values that are given. A literal tells Int, Float and String
// apart; JSON does not tell 1.0 from 1, and both arrive as int64 if they are whole.

var (
	durationForm = regexp.MustCompile(`^-?P(-?\d+W|(-?\d+Y)?(-?\d+M)?(-?\d+D)?(T(-?\d+H)?(-?\d+M)?(-?\d+(\.\d+)?S)?)?)$`)
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

// texts makes the parse function of a scalar that is given as text.
func texts(want string, fits func(string) bool) func(any) (any, error) {
	return func(v any) (any, error) {
		s, ok := v.(string)
		if !ok || !fits(s) {
			return nil, &Misfit{want}
		}
		return s, nil
	}
}

func parseInt(v any) (any, error) {
	switch v := v.(type) {
	case int64:
		if v < math.MinInt32 || v > math.MaxInt32 {
			return nil, fmt.Errorf(msgBeyondInt, fmt.Sprint(v))
		}
		return v, nil
	case json.Number:
		return nil, fmt.Errorf(msgBeyondInt, clip(string(v)))
	}
	return nil, &Misfit{"a whole number"}
}

func parseFloat(v any) (any, error) {
	switch v := v.(type) {
	case int64:
		return float64(v), nil
	case float64:
		return v, nil
	case json.Number:
		if f, err := strconv.ParseFloat(string(v), 64); err == nil {
			return f, nil
		}
		return nil, fmt.Errorf(msgBeyondFloat, clip(string(v)))
	}
	return nil, &Misfit{"a number"}
}

func parseBoolean(v any) (any, error) {
	if b, ok := v.(bool); ok {
		return b, nil
	}
	return nil, &Misfit{"true or false"}
}

func parseID(v any) (any, error) {
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
	return nil, &Misfit{"an ID: a string or a whole number"}
}

func parseDecimal(v any) (any, error) {
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
		return nil, &Misfit{`an exact number such as "12.50"`}
	}
	return s, nil
}

func parseInt64(v any) (any, error) {
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
		return nil, &Misfit{"a whole number of at most 64 bits"}
	}
	return s, nil
}

// clip cuts a number's digits for a message.
func clip(s string) string {
	if len(s) > 40 {
		return s[:40] + "…"
	}
	return s
}
