package execute

import (
	"encoding/base64"
	"encoding/binary"
	"hash/crc32"
	"math"

	"osprey/core/plan"
	"osprey/core/store"
)

// This file writes and reads cursors: the values of a record by which its list
// is sorted, the last of which tell records apart. So a cursor keeps its place
// when records are added or removed. A checksum over the values and what the
// list is of tells a cursor of another list from one of this.

const (
	cursorNull byte = iota
	cursorInt
	cursorFloat
	cursorBytes
)

// appendCursor appends the cursor of a row as a JSON string; part is that of a
// merged list to which the row belongs, or -1.
func appendCursor(b []byte, p *plan.Page, part int, t *store.Table, row int) []byte {
	var room [128]byte
	raw := room[:4]
	if part >= 0 {
		raw = append(raw, byte(part))
	}
	for _, o := range p.Order {
		c := &t.Columns[o.Column]
		switch {
		case c.Null[row]:
			raw = append(raw, cursorNull)
		case len(c.Ints) > 0:
			raw = binary.AppendVarint(append(raw, cursorInt), c.Ints[row])
		case c.Kind == store.Float:
			raw = binary.BigEndian.AppendUint64(append(raw, cursorFloat), math.Float64bits(c.Floats[row]))
		default:
			raw = binary.AppendUvarint(append(raw, cursorBytes), uint64(len(c.At(row))))
			raw = append(raw, c.At(row)...)
		}
	}
	binary.BigEndian.PutUint32(raw, checksum(p.List, raw[4:]))
	b = append(b, '"')
	return append(base64.RawURLEncoding.AppendEncode(b, raw), '"')
}

func checksum(list string, values []byte) uint32 {
	return crc32.Update(crc32.ChecksumIEEE([]byte(list)), crc32.IEEETable, values)
}

// readCursor fills a column for each sort key with the values of a cursor. It
// returns false if the cursor is none of the list.
func readCursor(text string, a *plan.Arg, into []store.Column) bool {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(raw) < 4 || binary.BigEndian.Uint32(raw) != checksum(a.List, raw[4:]) {
		return false
	}
	raw = raw[4:]
	if a.Merged {
		if len(raw) == 0 {
			return false
		}
		raw = raw[1:] // the plan was made for this part
	}
	for i := range into {
		c := &into[i]
		c.Reset()
		c.Kind = a.Kinds[i]
		if len(raw) == 0 {
			return false
		}
		tag := raw[0]
		raw = raw[1:]
		one := store.Column{}
		switch tag {
		case cursorNull:
			c.AppendNull()
			continue
		case cursorInt:
			v, n := binary.Varint(raw)
			if n <= 0 {
				return false
			}
			one.Kind, raw = c.Kind, raw[n:]
			if c.Kind == store.Float || c.Kind == store.Text {
				one.Kind = store.Int
			}
			one.AppendInt(v)
		case cursorFloat:
			if len(raw) < 8 {
				return false
			}
			one.Kind = store.Float
			one.AppendFloat(math.Float64frombits(binary.BigEndian.Uint64(raw)))
			raw = raw[8:]
		case cursorBytes:
			size, n := binary.Uvarint(raw)
			if n <= 0 || size > uint64(len(raw)-n) {
				return false
			}
			one.Kind = store.Text
			one.AppendBytes(raw[n : n+int(size)])
			raw = raw[n+int(size):]
		default:
			return false
		}
		if !c.AppendAs(&one, 0) {
			return false
		}
	}
	return len(raw) == 0 || a.Other
}
