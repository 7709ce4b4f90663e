package relational

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"osprey/core/store"
)

// Prepare lays the reads out as one statement.
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (store.Request, error) {
	layout, err := layOut(catalogue, reads)
	if err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "does not have what the schema says", Err: err}
	}
	r := &request{source: s, layout: layout, texts: map[string]string{}}
	_, r.params = layout.text(make([]int64, len(reads)))
	for _, b := range layout.branches {
		plan := branchPlan{read: b.read}
		for _, read := range append([]int{b.read}, b.joined...) {
			plan.reads = append(plan.reads, planRead(layout, b, read))
		}
		r.branches = append(r.branches, plan)
	}
	return r, nil
}

// A request is a prepared statement with the ways to read its rows.
type request struct {
	source   *Source
	layout   *statement
	branches []branchPlan

	params []param // the same for every text

	mu    sync.Mutex        // guards what follows
	texts map[string]string // by rounded bounds
}

// maxTexts bounds how many roundings of its limits a request keeps a text for;
// beyond that, limits are parameters only.
const maxTexts = 64

// A branchPlan says where in a row the values of a branch's reads are.
type branchPlan struct {
	read  int
	reads []readPlan // the branch's own first, parents before children
}

type readPlan struct {
	read     int
	presence int   // the value that is NULL if there is no row; -1 for the branch's own
	slots    []int // where the value of each column is
	decode   []decoder
}

func planRead(s *statement, b *branch, read int) readPlan {
	p := readPlan{read: read, presence: -1}
	wanted := s.reads[read].Columns
	p.slots, p.decode = make([]int, len(wanted)), make([]decoder, len(wanted))
	for _, o := range b.outs {
		switch {
		case o.read != read || o.slot < 0:
		case o.column < 0:
			p.presence = 3 + o.slot
		default:
			p.slots[o.column] = 3 + o.slot
			p.decode[o.column] = decoderOf(s.field(read, o.path), &wanted[o.column])
		}
	}
	return p
}

// Describe names the tables that are read together.
func (r *request) Describe() store.Description {
	var names []string
	for _, read := range r.layout.reads {
		for _, name := range setsOf(read) {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	asks := names[0]
	if len(names) > 1 {
		asks += " with " + strings.Join(names[1:], ", ")
	}
	bounds := make([]int64, len(r.layout.reads))
	for i := range bounds {
		bounds[i] = 32
	}
	return store.Description{Asks: asks, Statement: r.text(bounds)}
}

func setsOf(read *store.Read) []string {
	if read.Through != nil {
		return []string{read.Through.Set, read.Set}
	}
	return []string{read.Set}
}

// text returns the statement for rounded bounds.
func (r *request) text(bounds []int64) string {
	var key []byte
	for _, b := range bounds {
		key = strconv.AppendInt(append(key, ' '), b, 10)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if text, ok := r.texts[string(key)]; ok {
		return text
	}
	if len(r.texts) >= maxTexts {
		for i := range bounds {
			bounds[i] = noBound
		}
		text, _ := r.layout.text(bounds)
		return text
	}
	text, _ := r.layout.text(bounds)
	r.texts[string(key)] = text
	return text
}

// Run asks the database.
func (r *request) Run(ctx context.Context, in []store.Input) (*store.Answer, error) {
	bounds := make([]int64, len(in))
	for i := range in {
		if r.layout.reads[i].Limit {
			bounds[i] = round(in[i].Limit)
		}
	}
	text := r.text(bounds)
	var rows *collector
	err := r.source.query(ctx, text, r.arguments(in),
		func() { rows = newCollector(r) },
		func(values [][]byte) error { return rows.row(values) })
	if err == nil {
		err = rows.finish()
	}
	if err != nil {
		return nil, fail(ctx, err)
	}
	return &store.Answer{Tables: rows.tables, Requests: 1}, nil
}

// arguments returns the values of the statement's parameters.
func (r *request) arguments(in []store.Input) []any {
	args := make([]any, len(r.params))
	for i, p := range r.params {
		read := r.layout.reads[p.read]
		switch p.what {
		case keyParam:
			args[i] = argument(&in[p.read].Keys[p.n], r.layout.field(p.read, read.Columns[read.Keys[p.n]].Path), true)
		case whereParam:
			c := read.Where[p.n]
			args[i] = argument(&in[p.read].Where[p.n], r.layout.field(p.read, c.Path), c.Many)
		case limitParam:
			args[i] = in[p.read].Limit
		case offsetParam:
			args[i] = in[p.read].Offset
		}
	}
	return args
}

// A collector builds tables of rows.
type collector struct {
	request *request
	tables  []*store.Table
	// position has, for each read and row number of its branch, the row in the
	// read's table, or -1 where a joined row was not found. It is nil for a
	// branch's own read, whose row n is row n-1.
	position [][]int32
	pending  []pendingRow
}

// A pendingRow came before the rows in front of it.
type pendingRow struct {
	branch int
	number int64
	values [][]byte
}

func newCollector(r *request) *collector {
	c := &collector{request: r, tables: make([]*store.Table, len(r.layout.reads)), position: make([][]int32, len(r.layout.reads))}
	for i, read := range r.layout.reads {
		c.tables[i] = store.NewTable(read.Columns)
		if read.Parent >= 0 {
			c.tables[i].Parent = []int32{}
			if r.layout.of[i].read != i {
				c.position[i] = []int32{}
			}
		}
	}
	return c
}

// row takes one row: the number of its branch, its own number, the number of
// the row above, and the values.
func (c *collector) row(values [][]byte) error {
	branch, err := readInt(values[0])
	if err != nil {
		return err
	}
	number, err := readInt(values[1])
	if err != nil {
		return err
	}
	plan := &c.request.branches[branch]
	if number != int64(c.tables[plan.read].Len)+1 {
		kept := make([][]byte, len(values))
		for i, v := range values {
			kept[i] = slices.Clone(v)
		}
		c.pending = append(c.pending, pendingRow{int(branch), number, kept})
		return nil
	}
	return c.take(plan, values)
}

// take appends a row whose turn it is.
func (c *collector) take(plan *branchPlan, values [][]byte) error {
	for i := range plan.reads {
		p := &plan.reads[i]
		read := c.request.layout.reads[p.read]
		t := c.tables[p.read]
		if p.presence >= 0 {
			if values[p.presence] == nil {
				c.position[p.read] = append(c.position[p.read], -1)
				continue
			}
			c.position[p.read] = append(c.position[p.read], int32(t.Len))
			t.Parent = append(t.Parent, c.above(read.Parent, c.tables[plan.read].Len-1))
		} else if read.Parent >= 0 {
			above, err := readInt(values[2])
			if err != nil {
				return err
			}
			t.Parent = append(t.Parent, int32(above-1)) // of the host's rows; see finish
		}
		t.Len++
		for j, slot := range p.slots {
			if v := values[slot]; v == nil {
				t.Columns[j].AppendNull()
			} else if err := p.decode[j](&t.Columns[j], v); err != nil {
				return fmt.Errorf("column %s of %s: %w", read.Columns[j].Path, read.Set, err)
			}
		}
	}
	return nil
}

// above returns the row in the table of a read for a row of its branch.
func (c *collector) above(read, row int) int32 {
	if c.position[read] == nil {
		return int32(row)
	}
	return c.position[read][row]
}

// finish takes the rows that came too early, and makes the parents of branches
// rows of the reads they hang from, which may be joined to another.
func (c *collector) finish() error {
	slices.SortFunc(c.pending, func(a, b pendingRow) int { return int(a.number - b.number) })
	for i, b := range c.request.branches {
		for _, p := range c.pending {
			if p.branch == i {
				if err := c.take(&c.request.branches[i], p.values); err != nil {
					return err
				}
			}
		}
		read := c.request.layout.reads[b.read]
		if read.Parent >= 0 && c.position[read.Parent] != nil {
			t := c.tables[b.read]
			for row, host := range t.Parent {
				t.Parent[row] = c.position[read.Parent][host]
			}
		}
	}
	return nil
}
