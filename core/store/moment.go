package store

import (
	"strconv"
	"time"
)

// This file implements moments, days and times of day as numbers: Time, Date
// and Clock.

const day = 24 * time.Hour

// FormatTime writes a Time as RFC 3339 does, in UTC, with as many digits of the
// second as it has.
func FormatTime(micros int64) string { return string(AppendTime(nil, micros)) }

// AppendTime appends what [FormatTime] returns.
func AppendTime(buf []byte, micros int64) []byte {
	return time.UnixMicro(micros).UTC().AppendFormat(buf, "2006-01-02T15:04:05.999999Z")
}

// FormatDate writes a Date as 2006-01-02.
func FormatDate(days int64) string { return string(AppendDate(nil, days)) }

// AppendDate appends what [FormatDate] returns.
func AppendDate(buf []byte, days int64) []byte {
	return time.Unix(days*int64(day/time.Second), 0).UTC().AppendFormat(buf, time.DateOnly)
}

// AppendClock appends a Clock as 15:04:05.
func AppendClock(buf []byte, micros int64) []byte {
	return time.UnixMicro(micros).UTC().AppendFormat(buf, "15:04:05.999999")
}

// ParseMoment reads a Time, Date, Clock, Bool or Int from text.
func ParseMoment(kind Kind, s string) (int64, bool) {
	switch kind {
	case Time:
		for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", time.DateOnly} {
			if t, err := time.Parse(layout, s); err == nil {
				return t.UnixMicro(), true
			}
		}
	case Date:
		if len(s) > len(time.DateOnly) {
			if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
				return DateOf(t), true
			}
			return 0, false
		}
		if t, err := time.Parse(time.DateOnly, s); err == nil {
			return DateOf(t), true
		}
	case Clock:
		if t, err := time.Parse("15:04:05.999999999", s); err == nil {
			return int64(t.Hour())*3600e6 + int64(t.Minute())*60e6 + int64(t.Second())*1e6 + int64(t.Nanosecond())/1000, true
		}
	case Int:
		n, err := strconv.ParseInt(s, 10, 64)
		return n, err == nil
	case Bool:
		b, err := strconv.ParseBool(s)
		if b {
			return 1, err == nil
		}
		return 0, err == nil
	}
	return 0, false
}

// DateOf returns the day of t in UTC.
func DateOf(t time.Time) int64 {
	t = t.UTC()
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).Unix() / int64(day/time.Second)
}
