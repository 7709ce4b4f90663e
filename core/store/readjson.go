package store

import (
	"encoding/json"

	"github.com/go-json-experiment/json/jsontext"
)

// ReadJSON reads the next value as encoding/json does with UseNumber, in half
// its time: nil, bool, string, [json.Number], []any or map[string]any. What is
// an error beyond the grammar is for the decoder's options to say.
func ReadJSON(d *jsontext.Decoder) (any, error) {
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
			item, err := ReadJSON(d)
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
		if object[key], err = ReadJSON(d); err != nil {
			return nil, err
		}
	}
	_, err = d.ReadToken()
	return object, err
}
