package project

import (
	"context"
	"fmt"
	"slices"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/stores/guard"
)

// This file shows what stores hold: their catalogues, and records as they are there, past all types.

// A SourceView is what is told of a source to who runs the service.
type SourceView struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	// State and History are how it is asked, of a source whose requests wait for their turn.
	State   *guard.State   `json:"state,omitempty"`
	History []guard.Minute `json:"history"`
	store.Figures
	Problem string    `json:"problem,omitempty"` // why it is not known what it holds
	Sets    []SetView `json:"sets"`
	// Tells says by what it tells changes; "" if it does not.
	Tells string `json:"tells,omitempty"`
}

// A SetView is a record set.
type SetView struct {
	Name     string      `json:"name"`
	What     string      `json:"what"` // "table", "collection", …
	About    string      `json:"about,omitempty"`
	Rows     int64       `json:"rows,omitempty"` // about how many; absent if nothing tells
	ReadOnly string      `json:"readOnly,omitempty"`
	Key      []string    `json:"key,omitempty"`
	Fields   []FieldView `json:"fields"`
	Types    []string    `json:"types,omitempty"` // whose records are there
	Told     bool        `json:"told,omitempty"`  // the store tells its changes
}

// A FieldView is a column, or a path in a document.
type FieldView struct {
	Name     string   `json:"name"`
	Type     string   `json:"type"`
	Nullable bool     `json:"nullable,omitempty"`
	Unique   bool     `json:"unique,omitempty"`
	Indexed  bool     `json:"indexed,omitempty"`
	About    string   `json:"about,omitempty"`
	Leads    string   `json:"leads,omitempty"` // of a foreign key: where to
	Values   []string `json:"values,omitempty"`
}

// SourceViews tells of all sources, in the order of their names. No store is asked.
func (r *Revision) SourceViews() []SourceView {
	list := []SourceView{}
	for _, name := range sortedNames(r.Sources) {
		s, bound := r.Sources[name], r.Bound.Sources[name]
		v := SourceView{Name: name, Kind: s.Kind, History: []guard.Minute{}, Sets: []SetView{}}
		if g, ok := s.Store.(*guard.Source); ok {
			state := g.State()
			v.State, v.History = &state, g.History()
		}
		if c, ok := s.Store.(store.Counted); ok {
			v.Figures = c.Figures()
		}
		if why := s.Unknown(); why != nil {
			v.Problem = told(why)
		}
		if len(bound.Tells) > 0 {
			v.Tells = bound.TellsBy
		}
		if c := bound.Catalogue; c != nil {
			for _, set := range c.Names() {
				v.Sets = append(v.Sets, r.setView(bound, set, c.Sets[set]))
			}
		}
		list = append(list, v)
	}
	return list
}

func (r *Revision) setView(bound *binding.Source, name string, set *store.Set) SetView {
	v := SetView{Name: name, What: set.What, About: set.About, Rows: set.Rows, ReadOnly: set.ReadOnly, Told: bound.Tells[name] != nil, Fields: []FieldView{}}
	if len(set.Keys) > 0 {
		v.Key = set.Keys[0]
	}
	for _, f := range set.Fields {
		own := FieldView{Name: f.Name, Type: f.Type, Nullable: f.Nullable, About: f.About, Values: f.Values,
			Unique: slices.ContainsFunc(set.Keys, func(k []string) bool { return len(k) == 1 && k[0] == f.Name }), Indexed: set.Indexed([]string{f.Name})}
		if own.Type == "" {
			own.Type = f.Kind.String()
		}
		for _, c := range set.Constraints {
			if at := slices.Index(c.Fields, f.Name); c.Foreign() && at >= 0 {
				own.Leads = c.Set + "." + c.There[at]
			}
		}
		v.Fields = append(v.Fields, own)
	}
	for _, records := range r.Bound.RecordsIn(bound, name) {
		if t := schema.Named(records.Type); t != nil {
			v.Types = append(v.Types, t.String())
		}
	}
	return v
}

// A Browse is which records are to be shown.
type Browse struct {
	Set    string
	Where  []Condition
	Sort   string // a field, or ""
	Desc   bool
	Limit  int // 1 to MostBrowsed
	Offset int
}

// A Condition compares a field with a value, by one of [Comparisons].
type Condition struct{ Field, Is, Value string }

// Comparisons are what a [Condition] can ask.
var Comparisons = map[string]store.Op{"is": store.Is, "above": store.Above, "atLeast": store.AtLeast, "below": store.Below, "atMost": store.AtMost,
	"contains": store.Contains, "startsWith": store.StartsWith, "missing": store.Missing}

// MostBrowsed is how many records are shown at once at most.
const MostBrowsed = 200

// Browsed is records as the store has them.
type Browsed struct {
	Columns []FieldView `json:"columns"`
	Rows    [][]any     `json:"rows"` // by the columns
	More    bool        `json:"more"` // there are further ones behind these
	Asks    string      `json:"asks"` // what the store was asked
	// Here says that the store does not sort and cut these by itself: all records were read.
	Here bool `json:"here,omitempty"`
}

// ErrBrowse is an error of what was asked for, in words for whoever asks.
type ErrBrowse struct{ Msg, Fix string }

func (e *ErrBrowse) Error() string { return e.Msg }

// Browse reads records of a source as they are in its store.
func (r *Revision) Browse(ctx context.Context, source string, b *Browse) (*Browsed, error) {
	s, bound := r.Sources[source], r.Bound.Sources[source]
	switch {
	case s == nil:
		return nil, &ErrBrowse{"there is no source " + source, "/api/v1/sources lists them"}
	case bound.Catalogue == nil:
		return nil, &ErrBrowse{"the source " + source + " has not told what it holds: " + told(s.Unknown()), "see that its store runs"}
	case bound.Catalogue.Sets[b.Set] == nil:
		return nil, &ErrBrowse{fmt.Sprintf("the source %s has no %s", source, b.Set), "/api/v1/sources lists what it has"}
	}
	set := bound.Catalogue.Sets[b.Set]
	out := &Browsed{Columns: []FieldView{}, Rows: [][]any{}}
	read := &store.Read{Set: b.Set, Parent: -1}
	for _, f := range r.setView(bound, b.Set, set).Fields {
		info := set.Field(f.Name)
		w := store.Wanted{Path: f.Name, Kind: info.Kind}
		switch info.Kind {
		case store.Unknown, store.Record:
			continue
		case store.List:
			if info.Elem == store.Unknown || info.Elem == store.Record || info.Elem == store.List {
				continue
			}
			w.Elem = &store.Wanted{Kind: info.Elem}
		}
		read.Columns, out.Columns = append(read.Columns, w), append(out.Columns, f)
	}
	in, err := conditions(read, set, b)
	if err != nil {
		return nil, err
	}
	can := s.Store.Capabilities()
	paged := *read
	paged.Limit, paged.Offset = true, b.Offset > 0
	if out.Here = can.Page < store.PageWhole && (can.CanPage == nil || !can.CanPage(&paged)); out.Here {
		if can.CanRead != nil {
			if _, err := can.CanRead(b.Set, nil, nil); err != nil {
				return nil, &ErrBrowse{fmt.Sprintf("%s cannot be read as a whole: %s", b.Set, err), "ask for its records by an operation"}
			}
		}
		read.Sort = nil
	} else {
		*read = paged
		in.Limit, in.Offset = int64(b.Limit)+1, int64(b.Offset)
	}
	request, err := r.prepare(source, []*store.Read{read})
	if err != nil {
		return nil, err
	}
	out.Asks = request.Describe().Asks
	answer, err := request.Run(store.WithFresh(ctx), nil, []store.Input{in})
	if err != nil {
		return nil, err
	}
	if answer.Release != nil {
		defer answer.Release()
	}
	if err := answer.Check([]*store.Read{read}); err != nil {
		return nil, err
	}
	out.take(answer.Tables[0], b)
	return out, nil
}

// conditions writes what records must fit, and their order, into a read.
func conditions(read *store.Read, set *store.Set, b *Browse) (in store.Input, err error) {
	for _, c := range b.Where {
		f, op, known := set.Field(c.Field), store.Is, false
		if op, known = Comparisons[c.Is]; !known {
			return in, &ErrBrowse{fmt.Sprintf("%q is no comparison", c.Is), "there are above, atLeast, atMost, below, contains, is, missing, startsWith"}
		}
		if f == nil {
			return in, &ErrBrowse{fmt.Sprintf("%s has no field %s", b.Set, c.Field), "name one that /api/v1/sources tells"}
		}
		kind := f.Kind
		if op == store.Contains || op == store.StartsWith {
			if kind != store.Text {
				return in, &ErrBrowse{fmt.Sprintf("%s is no text", c.Field), "compare it with is, above or below"}
			}
		}
		p := store.Predicate{Op: op, Path: c.Field, Kind: kind}
		if op != store.Missing {
			given, value := store.Column{Kind: store.Text}, store.Column{Kind: kind}
			given.AppendText(c.Value)
			if !appended(&value, &given) {
				return in, &ErrBrowse{fmt.Sprintf("%s is a %s, which %q is none", c.Field, kind, c.Value), "give a value of its kind"}
			}
			p.Value = len(in.Where)
			in.Where = append(in.Where, value)
		}
		read.Where = append(read.Where, p)
	}
	read.Values = len(in.Where)
	if b.Sort != "" {
		f := set.Field(b.Sort)
		if f == nil || f.Kind == store.List || f.Kind == store.Record || f.Kind == store.JSON || f.Kind == store.Unknown {
			return in, &ErrBrowse{fmt.Sprintf("%s cannot be sorted by %s", b.Set, b.Sort), "sort by a field with one value"}
		}
		read.Sort = append(read.Sort, store.Order{Path: b.Sort, Kind: f.Kind, Desc: b.Desc})
	}
	// What is equal otherwise keeps an order.
	if len(set.Keys) > 0 {
		for _, key := range set.Keys[0] {
			if f := set.Field(key); f != nil && key != b.Sort {
				read.Sort = append(read.Sort, store.Order{Path: key, Kind: f.Kind})
			}
		}
	}
	return in, nil
}

// appended adds a text to a column as a value of its kind; false if it is none.
func appended(to, text *store.Column) bool {
	if to.Kind == store.Text || to.Kind == store.Int || to.Kind == store.Decimal || to.Kind == store.UUID {
		return to.AppendAs(text, 0)
	}
	value := string(text.At(0))
	var any any = value
	if to.Kind == store.Bool {
		if value != "true" && value != "false" {
			return false
		}
		any = value == "true"
	}
	to.AppendJSON(&store.Wanted{Kind: to.Kind}, any)
	return to.Len() == 1 && !to.Null[0]
}

// take takes the rows that are shown.
func (out *Browsed) take(t *store.Table, b *Browse) {
	rows := make([]int, t.Len)
	for i := range rows {
		rows[i] = i
	}
	if out.Here {
		if at := slices.IndexFunc(out.Columns, func(c FieldView) bool { return c.Name == b.Sort }); at >= 0 {
			c := &t.Columns[at]
			slices.SortStableFunc(rows, func(i, j int) int {
				less := 0
				switch {
				case c.Null[i] && c.Null[j]:
				case c.Null[i]:
					less = -1
				case c.Null[j]:
					less = 1
				default:
					less = store.Compare(c, i, c, j)
				}
				if b.Desc {
					return -less
				}
				return less
			})
		}
		rows = rows[min(b.Offset, len(rows)):]
	}
	if out.More = len(rows) > b.Limit; out.More {
		rows = rows[:b.Limit]
	}
	for _, row := range rows {
		values := make([]any, len(out.Columns))
		for i := range values {
			if c := &t.Columns[i]; !c.Null[row] {
				values[i] = c.JSON(row)
			}
		}
		out.Rows = append(out.Rows, values)
	}
}
