package document

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// This file reads and asks for UUIDs that are stored as binary values: BSON, binary
// subtypes 3 and 4. Those of subtype 3 are in the byte order of the driver that wrote
// them, which only the address can tell.

// uuids is the byte order of subtype 3; "" if nothing tells, and such values are
// bytes.
type uuids string

// legacyOption is the option of an address that tells it.
const legacyOption = "uuidRepresentation"

// legacyOrders has, of each byte order, where each byte of the UUID stands.
var legacyOrders = map[uuids][]int{
	"standard":     nil,
	"pythonLegacy": {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15},
	"javaLegacy":   {7, 6, 5, 4, 3, 2, 1, 0, 15, 14, 13, 12, 11, 10, 9, 8},
	"csharpLegacy": {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15},
}

// of returns the bytes of the UUID that a binary value is, or nil.
func (u uuids) of(subtype byte, data []byte) []byte {
	order := legacyOrders[u]
	switch {
	case len(data) != 16:
		return nil
	case subtype == bson.TypeBinaryUUID:
		return data
	case subtype != bson.TypeBinaryUUIDOld || order == nil:
		return nil
	}
	return inOrder(data, order)
}

// asked returns the values as which a UUID may be stored. Each order is its own
// inverse.
func (u uuids) asked(id []byte) []any {
	list := []any{bson.Binary{Subtype: bson.TypeBinaryUUID, Data: slices.Clone(id)}}
	if order := legacyOrders[u]; order != nil {
		list = append(list, bson.Binary{Subtype: bson.TypeBinaryUUIDOld, Data: inOrder(id, order)})
	}
	return list
}

func inOrder(data []byte, order []int) []byte {
	list := make([]byte, len(order))
	for i, at := range order {
		list[i] = data[at]
	}
	return list
}
