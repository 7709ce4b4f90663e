package tables

import (
	"cmp"
	"fmt"
	"html"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file shows tables and how they lead to each other.

// Drawn shows tables and how they lead to each other, as text: a join table is told as one.
func Drawn(tables []*Table) string {
	var b strings.Builder
	for _, t := range tables {
		b.WriteString(t.Name)
		if t.Pairs {
			b.WriteString("  (a join table)")
		}
		b.WriteString("\n")
		for i, f := range t.Foreign {
			corner := "├─"
			if i == len(t.Foreign)-1 {
				corner = "└─"
			}
			fmt.Fprintf(&b, "  %s %s → %s (%s)\n", corner, strings.Join(f.Columns, ", "), f.Table, strings.Join(f.There, ", "))
		}
	}
	return b.String()
}

// Sizes of the drawing, in its pixels.
const (
	boxWidth   = 240
	gap        = 76 // between the boxes of two columns, for the lines
	rowHeight  = 18
	boxHead    = 28
	margin     = 28
	top        = 64 // the title
	characters = 30 // of a line in a box
)

// A box is where a table is drawn: its left upper corner.
type box struct {
	*Table
	depth, x, y int
}

func (b *box) height() int { return boxHead + len(b.Columns)*rowHeight + 8 }

// row returns the middle of a column's line.
func (b *box) row(column string) int {
	i := slices.IndexFunc(b.Columns, func(c *Column) bool { return c.Name == column })
	return b.y + boxHead + i*rowHeight + rowHeight/2 + 2
}

// SVG draws tables and how they lead to each other: Scalable Vector Graphics 1.1. A table stands to
// the right of those that it leads to; what the catalogue does not have is drawn as new.
//
//	┌────────┐      ┌─────────────┐      ┌─────────┐
//	│ people │ ←──┬─│ memberships │      │ letters │
//	└────────┘    │ └ ─ ─ ─ ─ ─ ─ ┘      └─────────┘
func SVG(tables []*Table, catalogue *store.Catalogue) string {
	boxes, width, height := laidOut(tables)
	isNew := func(table, column string) bool {
		set := catalogue.Sets[table]
		return set == nil || column != "" && set.Field(column) == nil
	}
	var s strings.Builder
	fmt.Fprintf(&s, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="ui-sans-serif, system-ui, sans-serif" font-size="13">`+"\n", width, height, width, height)
	fmt.Fprintf(&s, `<rect width="100%%" height="100%%" fill="#fbfaf7"/>`+"\n")
	fmt.Fprintf(&s, `<text x="%d" y="34" fill="#1d2a33"><tspan font-size="16" font-weight="600">%s</tspan><tspan dx="14" fill="%s">+ is new</tspan><tspan dx="14" fill="#5b6870">dashed is a join table</tspan></text>`+"\n", margin, counted(len(tables)), newColour)
	for _, b := range boxes {
		for _, f := range b.Foreign {
			b.line(&s, boxes, f)
		}
	}
	for _, b := range boxes {
		b.draw(&s, isNew)
	}
	s.WriteString("</svg>\n")
	return s.String()
}

const (
	newColour = "#3d7a4a"
	oldColour = "#5b6870"
	keyColour = "#8a5a1f"
)

func counted(n int) string {
	if n == 1 {
		return "1 table"
	}
	return fmt.Sprintf("%d tables", n)
}

// laidOut returns the boxes of tables, and the size of the drawing.
func laidOut(tables []*Table) (boxes []*box, width, height int) {
	of := map[string]*box{}
	for _, t := range tables {
		of[t.Name] = &box{Table: t, depth: -1}
	}
	var depth func(b *box, under []*box) int
	depth = func(b *box, under []*box) int {
		if b.depth >= 0 {
			return b.depth
		}
		deepest := 0
		for _, f := range b.Foreign { // but for those in a circle
			if to := of[f.Table]; to != nil && to != b && !slices.Contains(under, to) {
				deepest = max(deepest, depth(to, append(under, b))+1)
			}
		}
		b.depth = deepest
		return deepest
	}
	for _, t := range tables {
		depth(of[t.Name], nil)
		boxes = append(boxes, of[t.Name])
	}
	slices.SortStableFunc(boxes, func(a, b *box) int { return cmp.Compare(a.depth, b.depth) })
	for from := 0; from < len(boxes); {
		to := from
		for to < len(boxes) && boxes[to].depth == boxes[from].depth {
			to++
		}
		column := boxes[from:to]
		slices.SortStableFunc(column, func(a, b *box) int { return cmp.Compare(a.wanted(of), b.wanted(of)) })
		y := top
		for _, b := range column {
			b.x, b.y = margin+b.depth*(boxWidth+gap), y
			y += b.height() + 24
		}
		width, height = max(width, column[0].x+boxWidth+gap/2+margin), max(height, y)
		from = to
	}
	return boxes, max(width, 440), height
}

// wanted is how far down a box is wanted: where those are that it leads to.
func (b *box) wanted(of map[string]*box) int {
	sum, n := 0, 0
	for _, f := range b.Foreign {
		if to := of[f.Table]; to != nil && to.depth < b.depth {
			sum, n = sum+to.y, n+1
		}
	}
	if n == 0 {
		return 0
	}
	return sum / n
}

// line draws a foreign key, from its first column to the head of the table that it leads to.
func (b *box) line(s *strings.Builder, boxes []*box, f Foreign) {
	i := slices.IndexFunc(boxes, func(to *box) bool { return to.Name == f.Table })
	if i < 0 {
		return
	}
	to := boxes[i]
	x1, y1, x2, y2 := b.x, b.row(f.Columns[0]), to.x+boxWidth, to.y+boxHead/2
	out, in := -1, 1 // to which side the line leaves, and from which it comes: to the left, from the right
	if to.depth >= b.depth {
		x1, out = b.x+boxWidth, 1
	}
	if to.depth > b.depth {
		x2, in = to.x, -1
	}
	path := fmt.Sprintf("C %d %d %d %d %d %d", x1+out*gap/2, y1, x2+in*gap/2, y2, x2+in*6, y2)
	if to.depth < b.depth-1 || to.depth > b.depth+1 { // not behind the boxes between, but above them
		path = fmt.Sprintf("H %d V %d H %d V %d H %d", x1+out*(gap/2-10), top-14, x2+in*(gap/2-10), y2, x2+in*6)
	}
	fmt.Fprintf(s, `<path d="M %d %d %s" fill="none" stroke="%s" stroke-width="1.5" stroke-linejoin="round"/>`+"\n", x1, y1, path, oldColour)
	fmt.Fprintf(s, `<path d="M %d %d l %d -4 v 8 z" fill="%s"/>`+"\n", x2, y2, in*8, oldColour)
}

func (b *box) draw(s *strings.Builder, isNew func(table, column string) bool) {
	colour, dashes, plus := oldColour, "", ""
	if isNew(b.Name, "") {
		colour, plus = newColour, "+ "
	}
	if b.Pairs {
		dashes = ` stroke-dasharray="6 4"`
	}
	fmt.Fprintf(s, `<g><title>%s</title><rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="#ffffff" stroke="%s" stroke-width="1.5"%s/>`+"\n", html.EscapeString(cmp.Or(b.About, b.Name)), b.x, b.y, boxWidth, b.height(), colour, dashes)
	fmt.Fprintf(s, `<text x="%d" y="%d" font-weight="600" fill="%s">%s</text>`+"\n", b.x+12, b.y+19, colour, html.EscapeString(clipped(plus+b.Name, characters)))
	for _, c := range b.Columns {
		own, mark := "#26333b", "  "
		if isNew(b.Name, c.Name) {
			own, mark = newColour, "+ "
		}
		weight := ""
		if slices.Contains(b.Key, c.Name) {
			weight = ` font-weight="700"`
		}
		what := cmp.Or(c.Type.Scalar, c.Type.Enum)
		if c.Type.List {
			what = "[" + what + "]"
		}
		if c.NotNull {
			what += "!"
		}
		fmt.Fprintf(s, `<text x="%d" y="%d" font-size="11.5" font-family="ui-monospace, monospace" fill="%s"%s xml:space="preserve">%s<tspan fill="%s" font-weight="400"> %s</tspan></text>`+"\n",
			b.x+12, b.row(c.Name)+4, own, weight, html.EscapeString(clipped(mark+c.Name, characters-1-len(what))), keyColour, html.EscapeString(what))
	}
	s.WriteString("</g>\n")
}

func clipped(line string, most int) string {
	if r := []rune(line); len(r) > max(most, 8) {
		return string(r[:max(most, 8)-1]) + "…"
	}
	return line
}
