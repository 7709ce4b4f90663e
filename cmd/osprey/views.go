package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"unicode/utf8"

	"osprey/core/plan"
)

// views are the forms in which an answer is shown.
var views = map[string]func(w io.Writer, r *response, body []byte) error{
	"json":  showJSON,
	"tree":  showTree,
	"table": showTable,
}

func showJSON(w io.Writer, _ *response, body []byte) error {
	var b bytes.Buffer
	if err := json.Indent(&b, body, "", "  "); err != nil {
		return err
	}
	b.WriteByte('\n')
	_, err := b.WriteTo(w)
	return err
}

// A node is a JSON value with its fields in their order, which maps lose.
type node struct {
	text   string // of a leaf
	names  []string
	items  []*node
	isList bool
	isLeaf bool
}

// parseNode reads the next value of a decoder.
func parseNode(d *json.Decoder) (*node, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	delim, ok := t.(json.Delim)
	if !ok {
		n := &node{isLeaf: true}
		switch v := t.(type) {
		case nil:
			n.text = "–"
		default:
			n.text = fmt.Sprint(v)
		}
		return n, nil
	}
	n := &node{isList: delim == '['}
	for d.More() {
		if !n.isList {
			name, err := d.Token()
			if err != nil {
				return nil, err
			}
			n.names = append(n.names, fmt.Sprint(name))
		}
		item, err := parseNode(d)
		if err != nil {
			return nil, err
		}
		n.items = append(n.items, item)
	}
	_, err = d.Token()
	return n, err
}

func dataNode(r *response) (*node, error) {
	if r.Data == nil {
		return &node{isLeaf: true, text: "–"}, nil
	}
	d := json.NewDecoder(bytes.NewReader(r.Data))
	d.UseNumber()
	return parseNode(d)
}

func showTree(w io.Writer, r *response, _ []byte) error {
	if r.Data == nil {
		return nil
	}
	n, err := dataNode(r)
	if err != nil {
		return err
	}
	printTree(w, n, "")
	return nil
}

// printTree writes a value below its name: leaves beside their names, the
// items of a list behind a bullet.
func printTree(w io.Writer, n *node, indent string) {
	for i, item := range n.items {
		switch {
		case n.isList && item.isLeaf:
			fmt.Fprintf(w, "%s• %s\n", indent, item.text)
		case n.isList:
			var b strings.Builder
			printTree(&b, item, indent+"  ")
			text := b.String()
			fmt.Fprint(w, indent, "• ", strings.TrimPrefix(text, indent+"  "))
		case item.isLeaf:
			fmt.Fprintf(w, "%s%s  %s\n", indent, n.names[i], item.text)
		case item.isList && len(item.items) == 0:
			fmt.Fprintf(w, "%s%s  (none)\n", indent, n.names[i])
		default:
			fmt.Fprintf(w, "%s%s\n", indent, n.names[i])
			printTree(w, item, indent+"  ")
		}
	}
}

// showTable writes a table for each root field: a row for each record, with
// the leaves of nested records as further columns; lists below are joined.
func showTable(w io.Writer, r *response, _ []byte) error {
	n, err := dataNode(r)
	if err != nil {
		return err
	}
	for i, root := range n.items {
		if i > 0 {
			fmt.Fprintln(w)
		}
		rows := []*node{root}
		edges := root.item("edges")
		switch {
		case root.isList:
			rows = root.items
		case edges != nil && edges.isList: // of a page, its records are the rows
			rows = nil
			for _, edge := range edges.items {
				if record := edge.item("node"); record != nil {
					edge = record
				}
				rows = append(rows, edge)
			}
		}
		if err := printTable(w, n.names[i], rows); err != nil {
			return err
		}
		if edges != nil {
			printPage(w, root)
		}
	}
	return nil
}

// item returns what an object has under a name, or nil.
func (n *node) item(name string) *node {
	for i := range n.names {
		if n.names[i] == name {
			return n.items[i]
		}
	}
	return nil
}

// printPage writes what a page says of itself.
func printPage(w io.Writer, page *node) {
	for i, item := range page.items {
		if page.names[i] == "edges" {
			continue
		}
		flatten(item, page.names[i], func(name, text string) {
			fmt.Fprintf(w, "%s  %s\n", strings.TrimPrefix(name, "pageInfo."), text)
		})
	}
}

func printTable(w io.Writer, name string, rows []*node) error {
	var columns []string
	index := map[string]int{}
	cells := make([]map[string]string, len(rows))
	for i, row := range rows {
		cells[i] = map[string]string{}
		flatten(row, "", func(column, text string) {
			if _, ok := index[column]; !ok {
				index[column] = len(columns)
				columns = append(columns, column)
			}
			cells[i][column] = text
		})
	}
	if len(rows) == 0 {
		_, err := fmt.Fprintf(w, "%s: none\n", name)
		return err
	}
	t := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
	fmt.Fprintln(t, strings.Join(columns, "\t"))
	for _, row := range cells {
		for i, column := range columns {
			if i > 0 {
				fmt.Fprint(t, "\t")
			}
			fmt.Fprint(t, shorten(row[column]))
		}
		fmt.Fprintln(t)
	}
	return t.Flush()
}

// flatten tells every leaf with its path.
func flatten(n *node, path string, leaf func(column, text string)) {
	switch {
	case n.isLeaf:
		if path == "" {
			path = "value"
		}
		leaf(path, n.text)
	case n.isList:
		var texts []string
		for _, item := range n.items {
			var parts []string
			flatten(item, "", func(_, text string) { parts = append(parts, text) })
			texts = append(texts, strings.Join(parts, " "))
		}
		leaf(path, strings.Join(texts, "; "))
	default:
		for i, item := range n.items {
			inner := n.names[i]
			if path != "" {
				inner = path + "." + inner
			}
			flatten(item, inner, leaf)
		}
	}
}

// shorten cuts a cell to a readable width.
func shorten(s string) string {
	const width = 36
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	return string([]rune(s)[:width-1]) + "…"
}

// printCalls writes the store requests of an answer, wave by wave, and what it was estimated to cost.
func printCalls(w io.Writer, calls []call, cost int64) {
	requests, waves := 0, 0
	for _, c := range calls {
		requests += c.Requests
		waves = max(waves, c.Wave)
	}
	fmt.Fprintf(w, "\n%s in %s, at a cost of %d\n", plan.Count(requests, "store request"), plan.Count(waves, "wave"), cost)
	t := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
	for _, c := range calls {
		state := plan.Count(c.Records, "record")
		if c.Failed {
			state = "failed"
		}
		keys := ""
		if c.Keys > 0 {
			keys = plan.Count(c.Keys, "key")
		}
		if c.Calls > 0 {
			keys, state = plan.Count(c.Calls, "call"), strings.Replace(state, "record", "result", 1)
		}
		times := ""
		if c.Requests != 1 {
			times = fmt.Sprintf("%d ×", c.Requests)
		}
		fmt.Fprintf(t, "  wave %d\t%s\t%s\t%s\t%s\t%s\t%.1f ms\n", c.Wave, c.Source, times, c.Asks, keys, state, c.Millis)
	}
	t.Flush()
}
