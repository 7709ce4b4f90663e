package peers

import (
	"encoding/binary"
	"math"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"
)

// This file has what the two fastest peers share: raw values of PostgreSQL's
// binary form, appended as JSON to a buffer that is used again.

var buffers = sync.Pool{New: func() any { return &buffer{} }}

type buffer struct{ b, more []byte }

func int8Of(v []byte) int64 { return int64(binary.BigEndian.Uint64(v)) }
func int4Of(v []byte) int32 { return int32(binary.BigEndian.Uint32(v)) }

func appendID(b []byte, id int64) []byte {
	b = append(b, '"')
	b = strconv.AppendInt(b, id, 10)
	return append(b, '"')
}

func appendFloat8(b, v []byte) []byte {
	return strconv.AppendFloat(b, math.Float64frombits(binary.BigEndian.Uint64(v)), 'f', -1, 64)
}

// appendMoment appends microseconds since 2000 as an RFC 3339 text.
func appendMoment(b, v []byte) []byte {
	if v == nil {
		return append(b, "null"...)
	}
	const to2000 = 946_684_800_000_000
	t := time.UnixMicro(int8Of(v) + to2000).UTC()
	b = append(b, '"')
	b = t.AppendFormat(b, time.RFC3339Nano)
	return append(b, '"')
}

func appendText(b, v []byte) []byte {
	b = append(b, '"')
	for i, c := range v {
		if c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			quoted := strconv.AppendQuote(nil, string(v[i:])) // rare: names are plain
			return append(b, quoted[1:]...)
		}
		b = append(b, c)
	}
	return append(b, '"')
}

func appendNullableText(b, v []byte) []byte {
	if v == nil {
		return append(b, "null"...)
	}
	return appendText(b, v)
}

func appendCall(b []byte, id, arrived, departed, purpose, cargo []byte) []byte {
	b = append(b, `{"id":`...)
	b = appendID(b, int8Of(id))
	b = append(b, `,"arrivedAt":`...)
	b = appendMoment(b, arrived)
	b = append(b, `,"departedAt":`...)
	b = appendMoment(b, departed)
	b = append(b, `,"purpose":"`...)
	b = append(b, purposes[string(purpose)]...)
	b = append(b, `","cargoT":`...)
	return appendNullableText(b, cargo)
}

// appendCraft appends a craft up to its operator.
func appendCraft(b []byte, typ, imo, name, length []byte) []byte {
	b = append(b, `{"__typename":"`...)
	b = append(b, craftTypes[string(typ)]...)
	b = append(b, `","imo":`...)
	b = appendID(b, int64(int4Of(imo)))
	b = append(b, `,"name":`...)
	b = appendText(b, name)
	b = append(b, `,"lengthM":`...)
	b = appendFloat8(b, length)
	return append(b, `,"operator":`...)
}

func appendOperator(b []byte, id, name, country []byte) []byte {
	b = append(b, `{"id":`...)
	b = appendID(b, int64(int4Of(id)))
	b = append(b, `,"name":`...)
	b = appendText(b, name)
	b = append(b, `,"country":`...)
	b = appendText(b, country)
	return append(b, '}')
}

func appendBerth(b []byte, number, name, length []byte) []byte {
	b = append(b, `{"number":`...)
	b = strconv.AppendInt(b, int64(int4Of(number)), 10)
	b = append(b, `,"name":`...)
	b = appendText(b, name)
	b = append(b, `,"lengthM":`...)
	b = appendFloat8(b, length)
	return append(b, '}')
}

func appendPilot(b []byte, id, name, licence []byte) []byte {
	b = append(b, `{"id":`...)
	b = appendID(b, int64(int4Of(id)))
	b = append(b, `,"name":`...)
	b = appendText(b, name)
	b = append(b, `,"licence":`...)
	b = appendText(b, licence)
	return append(b, '}')
}
