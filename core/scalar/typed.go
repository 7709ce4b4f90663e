package scalar

import (
	"strconv"
	"time"
)

// This file makes of decoded JSON what an expression has. What cannot be made is
// left as it is.

func wholeOf(v any) any {
	switch v := v.(type) {
	case string:
		if n, err := strconv.ParseInt(v, 10, 64); err == nil {
			return n
		}
	case float64:
		return int64(v)
	}
	return v
}

func numberOf(v any) any {
	if s, ok := v.(string); ok {
		if n, err := strconv.ParseFloat(s, 64); err == nil {
			return n
		}
	}
	return v
}

func momentOf(v any) any {
	if s, ok := v.(string); ok {
		for _, layout := range []string{time.RFC3339Nano, time.DateOnly} {
			if m, err := time.Parse(layout, s); err == nil {
				return m
			}
		}
	}
	return v
}
