package rest

import (
	"bytes"

	"github.com/go-json-experiment/json/jsontext"

	"osprey/core/store"
)

// decode reads the first JSON value of an answer. Services are taken as they
// are: a key twice means the last one, and bytes that are no UTF-8 are replaced.
func decode(body []byte) (any, error) {
	return store.ReadJSON(jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)))
}
