package files

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
)

// This file writes values and files in the forms in which they are read.

// nothing stands for a value that is taken out of a record.
var nothing = new(struct{})

// without returns a value without what is nothing.
func without(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, inner := range v {
			if inner == nothing {
				delete(v, name)
			} else {
				without(inner)
			}
		}
	case []any:
		for _, inner := range v {
			without(inner)
		}
	}
	return v
}

// deepCopy returns a copy of decoded JSON.
func deepCopy(v any) any {
	switch v := v.(type) {
	case map[string]any:
		object := make(map[string]any, len(v))
		for name, inner := range v {
			object[name] = deepCopy(inner)
		}
		return object
	case []any:
		list := make([]any, len(v))
		for i := range v {
			list[i] = deepCopy(v[i])
		}
		return list
	}
	return v
}

// added returns the sum of a stored number, or of none, and another; false if what is stored
// is no number.
func added(stored, more any) (any, bool) {
	sum, ok := new(big.Rat).SetString(fmt.Sprint(more))
	if !ok {
		return nil, false
	}
	if stored != nil {
		n, isNumber := stored.(json.Number)
		is, ok := new(big.Rat).SetString(string(n))
		if !isNumber || !ok {
			return nil, false
		}
		sum.Add(sum, is)
	}
	if sum.IsInt() {
		return json.Number(sum.Num().String()), true
	}
	digits, _ := sum.FloatPrec()
	return json.Number(sum.FloatString(digits)), true
}

// writers write each form of file, by its extension: fields in the order that the old file has
// them, and new ones behind.
var writers = map[string]func(records []any, old []byte) ([]byte, error){
	".json":  writeJSON,
	".jsonl": writeLines,
	".csv":   writeCSV,
}

// writeJSON writes a list with an object on each line.
func writeJSON(records []any, old []byte) ([]byte, error) {
	order := namesIn(old)
	var b bytes.Buffer
	for i, r := range records {
		b.WriteString(map[bool]string{true: "[\n  ", false: ",\n  "}[i == 0])
		if err := writeObject(&b, r, order); err != nil {
			return nil, err
		}
	}
	if len(records) == 0 {
		b.WriteString("[")
	}
	b.WriteString("\n]\n")
	return b.Bytes(), nil
}

// writeLines writes an object on each line.
func writeLines(records []any, old []byte) ([]byte, error) {
	order := namesIn(old)
	var b bytes.Buffer
	for _, r := range records {
		if err := writeObject(&b, r, order); err != nil {
			return nil, err
		}
		b.WriteByte('\n')
	}
	return b.Bytes(), nil
}

// writeObject writes an object on one line.
func writeObject(b *bytes.Buffer, v any, order []string) error {
	object := v.(map[string]any)
	names := make([]string, 0, len(object))
	for name := range object {
		names = append(names, name)
	}
	slices.SortFunc(names, func(x, y string) int {
		i, j := slices.Index(order, x), slices.Index(order, y)
		switch {
		case i >= 0 && j >= 0:
			return i - j
		case i >= 0:
			return -1
		case j >= 0:
			return 1
		}
		return strings.Compare(x, y)
	})
	b.WriteByte('{')
	for i, name := range names {
		if i > 0 {
			b.WriteString(", ")
		}
		text, err := encoded(object[name])
		if err != nil {
			return err
		}
		key, _ := encoded(name)
		b.Write(key)
		b.WriteString(": ")
		b.Write(text)
	}
	b.WriteByte('}')
	return nil
}

// encoded returns a value as JSON, with texts as they are.
func encoded(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimRight(b.Bytes(), "\n"), err
}

// namesIn returns the names of the objects of a file in the order in which they come first:
// those of a list, or of lines.
func namesIn(text []byte) []string {
	var order []string
	d := json.NewDecoder(bytes.NewReader(text))
	depth, list, isName := 0, 0, false
	for {
		token, err := d.Token()
		if err != nil {
			return order
		}
		switch token := token.(type) {
		case json.Delim:
			switch token {
			case '[':
				if depth == 0 {
					list++
				} else {
					depth++
				}
			case ']':
				if depth > 0 {
					depth--
				}
			case '{':
				depth++
			case '}':
				depth--
			}
			isName = depth == 1
			continue
		case string:
			if depth == 1 && isName {
				if !slices.Contains(order, token) {
					order = append(order, token)
				}
				isName = false
				continue
			}
		}
		isName = depth == 1
	}
}

// writeCSV writes a table. A text that has nothing in it cannot be told from none.
func writeCSV(records []any, old []byte) ([]byte, error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(old, []byte("\xef\xbb\xbf"))))
	header, err := r.Read()
	if err != nil {
		header = nil
	}
	for i := range header {
		header[i] = strings.TrimSpace(header[i])
	}
	for _, record := range records {
		var more []string
		for name := range record.(map[string]any) {
			if !slices.Contains(header, name) {
				more = append(more, name)
			}
		}
		slices.Sort(more)
		header = append(header, more...)
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	if err := w.Write(header); err != nil {
		return nil, err
	}
	for _, record := range records {
		row := make([]string, len(header))
		for i, name := range header {
			switch v := record.(map[string]any)[name].(type) {
			case nil:
			case string:
				if row[i] = v; v == "" {
					return nil, errors.New("a table of this form cannot tell an empty text from none")
				}
			case bool, json.Number:
				row[i] = fmt.Sprint(v)
			default:
				return nil, errors.New("a table of this form holds single values only")
			}
		}
		if err := w.Write(row); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return b.Bytes(), w.Error()
}
