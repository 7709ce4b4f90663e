package expression

import (
	"github.com/google/uuid"
	"go.mongodb.org/mongo-driver/v2/bson"
)

// A Function makes a text that nobody else has, each time that it is called.
type Function struct {
	Name string
	Make func() string
}

// Functions that make keys.
var (
	// UUID makes UUIDs of version 7: RFC 9562, section 5.7.
	UUID = Function{"uuid", func() string { return uuid.Must(uuid.NewV7()).String() }}
	// ObjectID makes the object ids of document stores, in hexadecimal.
	ObjectID = Function{"objectId", func() string { return bson.NewObjectID().Hex() }}
)
