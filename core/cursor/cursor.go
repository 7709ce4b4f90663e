// Package cursor writes and reads cursors (GraphQL Cursor Connections): the values
// of a record by which its list is sorted, the last of which tell records apart. So
// a cursor keeps its place when records are added or removed.
//
// A cursor is these bytes in base64 (RFC 4648, section 5, without padding):
//
//	checksum  4 bytes, of what the list is of and all that follows
//	part      1 byte, in a merged list only: of which part the record is
//	values    for each key a tag, and what the tag says
//
// The checksum tells a cursor of another list from one of this. It is no secret:
// the values only compare.
package cursor

import (
	"encoding/base64"
	"encoding/binary"
	"hash/crc32"
	"math"

	"osprey/core/store"
)

const sumSize = 4

// The tags of values.
const (
	tagNull byte = iota
	tagInt
	tagFloat
	tagBytes
)

// Append appends the cursor of a row as a JSON string: its values of some columns,
// in a list of something; part is that of a merged list to which the row belongs,
// or -1.
func Append(b []byte, list string, part int, columns []*store.Column, row int) []byte {
	var room [128]byte
	raw := room[:sumSize]
	if part >= 0 {
		raw = append(raw, byte(part))
	}
	for _, c := range columns {
		switch {
		case c.Null[row]:
			raw = append(raw, tagNull)
		case len(c.Ints) > 0:
			raw = binary.AppendVarint(append(raw, tagInt), c.Ints[row])
		case c.Kind == store.Float:
			raw = binary.BigEndian.AppendUint64(append(raw, tagFloat), math.Float64bits(c.Floats[row]))
		default:
			raw = binary.AppendUvarint(append(raw, tagBytes), uint64(len(c.At(row))))
			raw = append(raw, c.At(row)...)
		}
	}
	binary.BigEndian.PutUint32(raw, checksum(list, raw[sumSize:]))
	b = append(b, '"')
	return append(base64.RawURLEncoding.AppendEncode(b, raw), '"')
}

func checksum(list string, values []byte) uint32 {
	return crc32.Update(crc32.ChecksumIEEE([]byte(list)), crc32.IEEETable, values)
}

// Part returns the part of a merged list of whose record a cursor is, or -1 if it
// is no cursor of a merged list.
func Part(text string) int {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(raw) <= sumSize {
		return -1
	}
	return int(raw[sumSize])
}

// A Wanted is what a cursor must be to be used.
type Wanted struct {
	List   string // of which list
	Merged bool   // that list is merged
	Kinds  []store.Kind
	// Some says that only the first values are wanted: the record is of another part
	// of the list, whose other keys say nothing here.
	Some bool
}

// Read fills a column for each kind with the values of a cursor. It returns false
// if the cursor is none of the list.
func Read(text string, want *Wanted, into []store.Column) bool {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(raw) < sumSize || binary.BigEndian.Uint32(raw) != checksum(want.List, raw[sumSize:]) {
		return false
	}
	raw = raw[sumSize:]
	if want.Merged {
		if len(raw) == 0 {
			return false
		}
		raw = raw[1:] // the plan was made for this part
	}
	for i := range into {
		c := &into[i]
		c.Reset()
		c.Kind = want.Kinds[i]
		var ok bool
		if raw, ok = readValue(raw, c); !ok {
			return false
		}
	}
	return len(raw) == 0 || want.Some
}

// readValue adds the first value of some bytes to a column, and returns what
// follows it.
func readValue(raw []byte, c *store.Column) ([]byte, bool) {
	if len(raw) == 0 {
		return nil, false
	}
	tag := raw[0]
	raw = raw[1:]
	one := store.Column{}
	switch tag {
	case tagNull:
		c.AppendNull()
		return raw, true
	case tagInt:
		v, n := binary.Varint(raw)
		if n <= 0 {
			return nil, false
		}
		one.Kind, raw = c.Kind, raw[n:]
		if c.Kind == store.Float || c.Kind == store.Text {
			one.Kind = store.Int
		}
		one.AppendInt(v)
	case tagFloat:
		if len(raw) < 8 {
			return nil, false
		}
		one.Kind = store.Float
		one.AppendFloat(math.Float64frombits(binary.BigEndian.Uint64(raw)))
		raw = raw[8:]
	case tagBytes:
		size, n := binary.Uvarint(raw)
		if n <= 0 || size > uint64(len(raw)-n) {
			return nil, false
		}
		one.Kind = store.Text
		one.AppendBytes(raw[n : n+int(size)])
		raw = raw[n+int(size):]
	default:
		return nil, false
	}
	return raw, c.AppendAs(&one, 0)
}
