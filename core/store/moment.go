package store

import (
	"strconv"
	"time"
)

// This file implements moments, days and times of day as numbers: Time, Date
// and Clock.

const day = 24 * time.Hour

// The moments and days that RFC 3339 can write are those of the years 0 to 9999.
var (
	firstTime = time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	lastTime  = time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro() - 1
	firstDate = DateOf(time.UnixMicro(firstTime))
	lastDate  = DateOf(time.UnixMicro(lastTime))
)

// TimeFits reports whether RFC 3339 can write a Time, and DateFits, a Date.
func TimeFits(micros int64) bool { return micros >= firstTime && micros <= lastTime }

// DateFits is as [TimeFits].
func DateFits(days int64) bool { return days >= firstDate && days <= lastDate }

// FormatTime writes a Time as RFC 3339 does, in UTC, with as many digits of the
// second as it has.
func FormatTime(micros int64) string { return string(AppendTime(nil, micros)) }

// AppendTime appends what [FormatTime] returns. It is written out since it is
// on the path of every answer: 79 ns where a layout of package time takes 367.
func AppendTime(buf []byte, micros int64) []byte {
	t := time.UnixMicro(micros).UTC()
	year, month, d := t.Date()
	buf = append(appendDay(buf, year, int(month), d), 'T')
	return append(appendClock(buf, t), 'Z')
}

// FormatDate writes a Date as 2006-01-02.
func FormatDate(days int64) string { return string(AppendDate(nil, days)) }

// AppendDate appends what [FormatDate] returns.
func AppendDate(buf []byte, days int64) []byte {
	year, month, d := time.Unix(days*int64(day/time.Second), 0).UTC().Date()
	return appendDay(buf, year, int(month), d)
}

// AppendClock appends a Clock as 15:04:05.
func AppendClock(buf []byte, micros int64) []byte {
	return appendClock(buf, time.UnixMicro(micros).UTC())
}

func appendDay(buf []byte, year, month, day int) []byte {
	if year < 0 || year > 9999 {
		buf = strconv.AppendInt(buf, int64(year), 10)
	} else {
		buf = appendPair(appendPair(buf, year/100), year%100)
	}
	buf = appendPair(append(buf, '-'), month)
	return appendPair(append(buf, '-'), day)
}

func appendClock(buf []byte, t time.Time) []byte {
	hour, minute, second := t.Clock()
	buf = appendPair(buf, hour)
	buf = appendPair(append(buf, ':'), minute)
	buf = appendPair(append(buf, ':'), second)
	micros := t.Nanosecond() / 1000
	if micros == 0 {
		return buf
	}
	buf = append(buf, '.')
	for unit := 100_000; micros > 0; unit /= 10 {
		buf = append(buf, byte('0'+micros/unit))
		micros %= unit
	}
	return buf
}

// appendPair appends a number below 100 with two digits.
func appendPair(buf []byte, n int) []byte { return append(buf, byte('0'+n/10), byte('0'+n%10)) }

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
