package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/store"
)

// String returns the plan as text: its waves, their store requests, and what
// each asks.
func (p *Plan) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, %s\n", Count(p.Requests(), "store request"), Count(p.Waves, "wave"))
	wave := 0
	for _, f := range p.Fetches {
		if f.Given() {
			fmt.Fprintf(&b, "\ngiven\n  %s\n    %s\n", f.Source, f.Reads[0])
			continue
		}
		if f.Wave != wave {
			wave = f.Wave
			fmt.Fprintf(&b, "\nwave %d\n", wave)
		}
		fmt.Fprintf(&b, "  %s", f.Source)
		if f.Unit != nil {
			b.WriteString(map[bool]string{false: ", in the transaction of ", true: ", a part of "}[f.Unit.Writing.Apart || f.Unit.Others[f.ID] != nil] + f.Unit.Name())
		}
		b.WriteString("\n")
		for _, r := range f.Reads {
			indent := strings.Repeat("  ", r.Depth())
			fmt.Fprintf(&b, "    %s%s\n", indent, r)
			fmt.Fprintf(&b, "    %s  for %s\n", indent, strings.Join(r.Covers, ", "))
		}
	}
	return b.String()
}

// Requests returns how many requests are made of stores, each a statement where it is
// one, if none has to be split.
func (p *Plan) Requests() int {
	n := 0
	for _, f := range p.Fetches {
		if !f.Given() {
			n += max(1, f.Statements)
		}
	}
	return n
}

// Left returns what the engine does with the rows of a read, since its store
// does not: a line for each place of the answer.
func (p *Plan) Left(r *Read) []string {
	var list []string
	for _, s := range p.Steps {
		if s.Read != r {
			continue
		}
		var parts []string
		if len(s.Where) > 0 {
			parts = append(parts, "filtered by "+s.filterText())
		}
		var orders []store.Order
		for _, o := range s.Sort {
			orders = append(orders, o.By)
		}
		if text := sortText(orders); text != "" {
			parts = append(parts, strings.TrimPrefix(text, ", "))
		}
		for _, a := range []*Arg{s.Behind, s.Ahead} {
			if a != nil {
				parts = append(parts, a.Name+" "+language.PrintValue(a.Literal))
			}
		}
		if s.Limit != nil {
			parts = append(parts, "limit "+language.PrintValue(s.Limit.Literal))
		}
		if s.Offset != nil {
			parts = append(parts, "offset "+language.PrintValue(s.Offset.Literal))
		}
		if s.Merged != "" {
			parts = append(parts, s.Merged)
		}
		if len(parts) > 0 {
			list = append(list, s.Field+" "+strings.Join(parts, ", "))
		}
	}
	return list
}

// Depth returns how many reads of its request r is folded into.
func (r *Read) Depth() int {
	n := 0
	for p := r.Store.Parent; p >= 0; p = r.Fetch.Reads[p].Store.Parent {
		n++
	}
	return n
}

// Count writes a number and its noun, in the plural where it must be.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// String returns what a read asks, on one line.
func (r *Read) String() string {
	var b strings.Builder
	s := r.Store
	if r.Call != nil {
		return s.Set + "(" + r.Call.Call.String() + ")"
	}
	if r.Write != nil {
		return r.Write.Store.String()
	}
	b.WriteString(s.Set)
	var links []string
	for _, k := range s.Keys {
		links = append(links, s.Columns[k].Path)
	}
	if len(links) > 0 {
		b.WriteString(" by " + strings.Join(links, ", ") + " ← " + r.feedNames())
	}
	if s.Parent >= 0 {
		b.WriteString(" where " + strings.Join(s.There, ", ") + " = " + strings.Join(s.Here, ", "))
		if s.JoinTable != nil {
			fmt.Fprintf(&b, " through %s (%s, %s)", s.JoinTable.Set, strings.Join(s.JoinTable.Here, ", "), strings.Join(s.JoinTable.There, ", "))
		}
		if s.Single {
			b.WriteString(", one")
		}
	}
	for i := range s.Where {
		b.WriteString(", " + predicateText(&s.Where[i], r.Where))
	}
	b.WriteString(sortText(s.Sort))
	if r.Store.Lock {
		b.WriteString(", locked")
	}
	switch {
	case r.Limit == nil:
	case r.Limit.Written:
		b.WriteString(", at most as many as may be written")
	default:
		b.WriteString(", limit " + language.PrintValue(r.Limit.Literal))
		if r.Limit.More > 0 {
			b.WriteString(" and one more")
		}
	}
	if r.Offset != nil {
		b.WriteString(", offset " + language.PrintValue(r.Offset.Literal))
	}
	if len(s.Columns) == 0 { // records that are only counted
		return b.String() + ": no fields"
	}
	return b.String() + ": " + strings.Join(columnNames(s.Columns), " ")
}

func sortText(orders []store.Order) string {
	var list []string
	for _, o := range orders {
		word := ""
		for _, l := range o.Via {
			word += l.Set + "."
		}
		word += o.Path
		if o.Desc {
			word += " desc"
		}
		if o.Nulls == store.NullsGreatest && o.Desc {
			word += " nulls first"
		} else if o.Nulls == store.NullsGreatest {
			word += " nulls last"
		}
		list = append(list, word)
	}
	if len(list) == 0 {
		return ""
	}
	return ", sorted by " + strings.Join(list, ", ")
}

func columnNames(columns []store.Wanted) []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Path
		for n := range c.Via {
			names[i] = c.Via[len(c.Via)-1-n].Set + "." + names[i]
		}
		if c.Aggregate != store.NoAggregate {
			names[i] = c.Aggregate.String() + "(" + c.Path + ")"
		}
		if fields := c.Innermost().Fields; len(fields) > 0 {
			names[i] += "{" + strings.Join(columnNames(fields), " ") + "}"
		}
	}
	return names
}

// feedNames says whose columns are the keys of a read.
func (r *Read) feedNames() string {
	var list []string
	for _, f := range r.Feeds {
		when := f.when()
		columns := f.Rows.Step.Read.Store.Columns
		prefix := f.Rows.Step.Read.Store.Set + "."
		for _, c := range f.Rows.Path {
			prefix += columns[c].Path + "."
			columns = columns[c].Innermost().Fields
		}
		for _, c := range f.Columns {
			list = append(list, prefix+columns[c].Path+when)
		}
	}
	return strings.Join(list, ", ")
}

// when says which rows of a feed are meant.
func (f *Feed) when() string {
	if f.Is == nil {
		return ""
	}
	columns := f.Rows.Step.Read.Store.Columns
	for _, c := range f.Rows.Path {
		columns = columns[c].Innermost().Fields
	}
	return " where " + columns[f.By].Path + " is " + strings.Join(slices.Sorted(maps.Keys(f.Is)), " or ")
}
