package files

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// readers read each form of file, by its extension.
var readers = map[string]func(text []byte) ([]any, error){
	".json":  readJSON,
	".jsonl": readLines,
	".csv":   readCSV,
}

// readJSON reads a list of objects: RFC 8259.
func readJSON(text []byte) ([]any, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var list []any
	if err := d.Decode(&list); err != nil {
		at := d.InputOffset()
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			at = syntax.Offset
		}
		return nil, fmt.Errorf("line %d: %w", lineOf(text, at), err)
	}
	for i, v := range list {
		if _, ok := v.(map[string]any); !ok {
			return nil, fmt.Errorf("item %d is no object", i+1)
		}
	}
	return list, nil
}

func lineOf(text []byte, offset int64) int {
	return 1 + bytes.Count(text[:min(int(offset), len(text))], []byte("\n"))
}

// readLines reads an object on each line.
func readLines(text []byte) ([]any, error) {
	var list []any
	for n, line := range bytes.Split(text, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(line))
		d.UseNumber()
		var object map[string]any
		if err := d.Decode(&object); err != nil {
			return nil, fmt.Errorf("line %d: %w", n+1, err)
		}
		list = append(list, object)
	}
	return list, nil
}

// readCSV reads a table whose first line names its columns: RFC 4180. An empty
// cell is no value. A column all of whose values are numbers, or true and
// false, holds those; any other holds text.
func readCSV(text []byte) ([]any, error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	header, err := r.Read()
	if errors.Is(err, io.EOF) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	rows, err := r.ReadAll()
	if err != nil {
		return nil, err
	}
	list := make([]any, len(rows))
	for i := range list {
		list[i] = map[string]any{}
	}
	for c, name := range header {
		value := cellReader(rows, c)
		for i, row := range rows {
			if row[c] != "" {
				list[i].(map[string]any)[strings.TrimSpace(name)] = value(row[c])
			}
		}
	}
	return list, nil
}

// cellReader returns what the cells of a column are.
func cellReader(rows [][]string, column int) func(string) any {
	numbers, truths := true, true
	for _, row := range rows {
		cell := row[column]
		if cell == "" {
			continue
		}
		numbers = numbers && isNumber(cell)
		truths = truths && (cell == "true" || cell == "false")
	}
	switch {
	case numbers:
		return func(s string) any { return json.Number(s) }
	case truths:
		return func(s string) any { return s == "true" }
	}
	return func(s string) any { return s }
}

// isNumber reports whether a cell is a number as JSON writes it; 007 is a text.
func isNumber(s string) bool {
	_, err := strconv.ParseFloat(s, 64)
	return err == nil && json.Valid([]byte(s))
}
