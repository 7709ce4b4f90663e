package relational

import (
	"context"
	"database/sql/driver"
	"slices"

	"osprey/core/store"
)

// This file asks databases that do not know LATERAL: in stages, a statement for each
// branch, by the keys that came with the rows above. All stages of a request are one
// transaction, so that they see one state of the database.
//
// The reads of { quays { name berths(limit: 2) { name } } } are
//
//	SELECT t0.`name`, t0.`code` FROM `quays` t0 ORDER BY t0.`code`
//
//	SELECT t1.`name`, t1.`#l0` FROM
//	  (SELECT row_number() OVER (PARTITION BY t1.`quay_code` ORDER BY t1.`number`) AS `#`,
//	          t1.`quay_code` AS `#l0`, t1.`name`
//	     FROM `berths` t1 WHERE t1.`quay_code` IN ('N', 'S', 'W')) t1
//	 WHERE t1.`#` <= 2 ORDER BY t1.`#`
//
// and the rows of the second are matched by #l0 with the codes of the first.
//
// One statement for all would be made of common tables, which MariaDB computes anew
// for each use, so that every level of nesting doubles its time; and of a UNION, whose
// values of different types and collations share columns.

// A stage is the statement of a branch.
type stage struct {
	text   *template
	params []param
	link   int // position in form.links of how its rows hang from rows above; -1 if they do not
}

// A linkPlan says by which values the rows of a read belong to rows above. Both sides
// send them; those of the side above are also what the stage is asked by.
type linkPlan struct {
	read   int
	fields []store.Kind    // of the read's own fields
	kinds  [3][]store.Kind // of what is sent, by side
	// weighed says that values are matched by other values, which are equal just if
	// the database takes them for equal.
	weighed bool
}

// A link is the values of a linkPlan in a run: a table for each side, with a row for
// each row of the read.
type link [3]store.Table

// A side says which values of a link a keyPlan is of.
type side uint8

const (
	keysSide  side = iota // of rows above: by what is asked
	hereSide              // of rows above: what is matched, if that is not the keys
	thereSide             // of the read's rows: what is matched
)

// sendLinks adds the values by which the rows of a read are asked for and matched.
func (l *layout) sendLinks(read int) {
	r := l.reads[read]
	above, own := l.of[r.Parent], l.of[read]
	ofParent, fields := l.linked(read)
	for k, there := range fields {
		l.sendKeys(above, r.Parent, ofParent[k:k+1])
		here := ofParent[k]
		weighHere, weighThere := l.dialect.windowed.weigh(here, there)
		if weighHere != nil {
			above.outs = append(above.outs, out{read: r.Parent, path: here.Name, column: -1, field: here, kind: linkKind(here), below: read, link: k + 1, weigh: weighHere})
		}
		own.outs = append(own.outs, out{read: read, path: there.Name, column: -1, field: there, kind: linkKind(there), below: read, link: k + 1, weigh: weighThere})
	}
}

// planStages writes the statement of each branch, and adds the values of links to the
// plans of both sides.
func (f *form) planStages() {
	l := f.layout
	for _, b := range l.branches {
		st := stage{link: -1}
		if b.host != nil {
			st.link = len(f.links)
			f.planLink(b)
		}
		s := &statement{layout: l, bounds: make([]int64, len(l.reads))}
		st.text, st.params = newTemplate(s.stage(b)), s.params
		f.stages = append(f.stages, st)
	}
}

func (f *form) planLink(b *branch) {
	l, n := f.layout, len(f.links)
	r := l.reads[b.read]
	ofParent, fields := l.linked(b.read)
	plan := linkPlan{read: b.read}
	above := l.of[r.Parent]
	for k := range fields {
		_, weighed := above.linkOut(r.Parent, b.read, k)
		plan.weighed = plan.weighed || weighed
	}
	for k, field := range fields {
		plan.fields = append(plan.fields, linkKind(field))
		key, _ := above.sent(r.Parent, ofParent[k])
		f.planSide(&plan, above, key, keyPlan{lookup: n, n: k, side: keysSide})
		if plan.weighed {
			here, weighed := above.linkOut(r.Parent, b.read, k)
			if !weighed {
				here = key
			}
			f.planSide(&plan, above, here, keyPlan{lookup: n, n: k, side: hereSide})
		}
		there, _ := b.linkOut(b.read, b.read, k)
		f.planSide(&plan, b, there, keyPlan{lookup: n, n: k, side: thereSide})
	}
	f.links = append(f.links, plan)
}

// planSide adds a value of a link to the plan of the read that sends it.
func (f *form) planSide(link *linkPlan, b *branch, o out, k keyPlan) {
	kind := o.kind
	k.slot, k.decode = o.slot, f.layout.dialect.decoder(o.field, &store.Wanted{Path: o.path, Kind: kind})
	if o.weigh != nil {
		kind = store.Binary
		k.decode = func(c *store.Column, v []byte) error { c.AppendBytes(v); return nil }
	}
	link.kinds[k.side] = append(link.kinds[k.side], kind)
	plan := &f.branches[b.number]
	for i := range plan.reads {
		if plan.reads[i].read == o.read {
			plan.reads[i].keys = append(plan.reads[i].keys, k)
		}
	}
}

// linkOut returns the value of a read by which rows of another hang from its rows.
func (b *branch) linkOut(read, below, k int) (out, bool) {
	for _, o := range b.outs {
		if o.read == read && o.below == below && o.link == k+1 {
			return o, true
		}
	}
	return out{}, false
}

// maxStageKeys is by how many keys a stage is asked at once.
const maxStageKeys = 20_000

// runStages runs the statements of a form, each by the keys that those before it have
// brought. A connection that turns out to be dead is replaced once: reading twice is safe.
func (s *Source) runStages(ctx context.Context, from lender, f *form, in []store.Input, c *collector) error {
	err := s.tryStages(ctx, from, f, in, c)
	if err != nil && from.free() && ctx.Err() == nil && s.dialect.dead(err) {
		err = s.tryStages(ctx, from, f, in, c)
	}
	return err
}

// tryStages runs the statements on a connection, by the driver's own interface: of each
// row, database/sql would copy every value. A connection on which something went wrong
// is closed, and the database ends what it had begun.
func (s *Source) tryStages(ctx context.Context, from lender, f *form, in []store.Input, c *collector) (err error) {
	c.begin()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lent := from.lend(ctx, func(own any) error {
		t := &transaction{conn: own.(driverConn), words: &s.dialect.transaction, cut: cancel}
		if len(f.stages) == 1 || !from.free() {
			t.words = &transactionWords{} // it sees one state by itself, or is in one already
		}
		if err = s.inTransaction(ctx, t, f, in, c); err != nil && t.begun {
			return driver.ErrBadConn
		}
		return nil
	})
	if err == nil {
		err = lent
	}
	return err
}

// inTransaction runs the statements in a transaction.
func (s *Source) inTransaction(ctx context.Context, t *transaction, f *form, in []store.Input, c *collector) error {
	in = slices.Clone(in)
	for i := range f.stages {
		st, read := &f.stages[i], f.branches[i].read
		c.branch = int64(i)
		keys := in[read].Keys
		if st.link >= 0 {
			if keys = c.keysOf(st.link); keys[0].Len() == 0 {
				continue
			}
		}
		n := 1
		if len(keys) > 0 {
			n = keys[0].Len()
		}
		for from := 0; from < n || from == 0; from += maxStageKeys {
			to := min(from+maxStageKeys, n)
			if len(keys) > 0 {
				in[read].Keys = part(keys, from, to)
			}
			c.asked++
			if err := s.runText(ctx, t, st, in, c, i == len(f.stages)-1 && to == n); err != nil {
				return err
			}
		}
	}
	return t.end(ctx)
}

// A driverConn is a connection as the drivers of these databases have it.
type driverConn interface {
	driver.QueryerContext
	driver.ExecerContext
}

// A transaction is that of the statements of one run. Where the database takes several
// statements at once, its beginning goes with the first and its end with the last, so
// that it costs no round trip.
type transaction struct {
	conn        driverConn
	words       *transactionWords
	begun, done bool
	cut         func() // makes that the rest of an answer is not waited for
}

// transactionWords are how a transaction that only reads one state begins and ends.
type transactionWords struct {
	begin, end string
	together   bool // they can stand before and behind a statement
}

// query runs a statement, which may be the last.
func (t *transaction) query(ctx context.Context, text string, args []driver.NamedValue, last bool) (driver.Rows, error) {
	switch {
	case t.begun || t.words.begin == "":
	case t.words.together:
		text, t.begun = t.words.begin+"; "+text, true
	default:
		t.begun = true
		if _, err := t.conn.ExecContext(ctx, t.words.begin, nil); err != nil {
			return nil, err
		}
	}
	if last && t.words.together {
		text, t.done = text+"; "+t.words.end, true
	}
	return t.conn.QueryContext(ctx, text, args)
}

// end ends the transaction.
func (t *transaction) end(ctx context.Context) error {
	if !t.begun || t.done {
		return nil
	}
	_, err := t.conn.ExecContext(ctx, t.words.end, nil)
	return err
}

// part returns a range of the rows of columns.
func part(columns []store.Column, from, to int) []store.Column {
	if from == 0 && to == columns[0].Len() {
		return columns
	}
	list := make([]store.Column, len(columns))
	for i := range columns {
		list[i].Kind = columns[i].Kind
		for row := from; row < to; row++ {
			list[i].AppendAs(&columns[i], row)
		}
	}
	return list
}

// keysOf returns the distinct keys of the rows above of a link, as the read's fields
// have them; a value that they cannot have is no key.
func (c *collector) keysOf(n int) []store.Column {
	above, kinds := &c.links[n][keysSide], c.form.links[n].fields
	keys := make([]store.Column, len(kinds))
	for i, kind := range kinds {
		keys[i].Kind = kind
	}
	c.index.Reset()
	for row := range above.Columns[0].Len() {
		var ok bool
		if c.key, ok = above.AppendKeyAs(c.key[:0], c.columns[:len(keys)], kinds, row, &c.room); !ok {
			continue
		}
		if _, isNew := c.index.Add(c.key); isNew {
			for i := range keys {
				keys[i].AppendAs(&above.Columns[i], row)
			}
		}
	}
	return keys
}

// hang points the rows of a link at the rows above that they belong to. A row that
// belongs to several is named by the order for each:
//
//	calls   rows 0 1 2    here   'N' 'S' 'N'
//	quays   rows 0 1      there  'S' 'N'
//	Parent  0 1 2         Order  1 0 1
func (c *collector) hang(n int) {
	l, plan := &c.links[n], &c.form.links[n]
	here, kinds := &l[keysSide], plan.kinds[thereSide]
	if plan.weighed {
		here = &l[hereSide]
	}
	t, columns := c.answer.Tables[plan.read], c.columns[:len(kinds)]
	// The rows of each key, in their order: ends has where those of each end.
	c.index.Reset()
	c.scratch = c.scratch[:0]
	for row := range t.Len {
		group := int32(-1)
		if key, ok := l[thereSide].AppendKey(c.key[:0], columns, row); ok {
			c.key = key
			group, _ = c.index.Add(key)
		}
		c.scratch = append(c.scratch, group)
	}
	groups := c.index.Len()
	c.ends = append(c.ends[:0], make([]int32, groups+1)...)
	for _, group := range c.scratch {
		c.ends[group+1]++
	}
	c.ends[0] = 0 // those of no key
	for i := range groups {
		c.ends[i+1] += c.ends[i]
	}
	rows := append(c.parents[:0], make([]int32, c.ends[groups])...)
	next := slices.Clone(c.ends[:groups])
	for row, group := range c.scratch {
		if group >= 0 {
			rows[next[group]] = int32(row)
			next[group]++
		}
	}
	c.parents = rows
	t.Parent, t.Order = t.Parent[:0], t.Order[:0]
	for row := range here.Columns[0].Len() {
		var ok bool
		if c.key, ok = here.AppendKeyAs(c.key[:0], columns, kinds, row, &c.room); !ok {
			continue
		}
		group := c.index.Find(c.key)
		if group < 0 {
			continue
		}
		for _, own := range rows[c.ends[group]:c.ends[group+1]] {
			t.Parent, t.Order = append(t.Parent, int32(row)), append(t.Order, own)
		}
	}
}
