package rest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/ohler55/ojg/jp"

	"osprey/core/store"
	"osprey/stores/remote"
)

// This file writes records: each with a request, as the configuration says, or as JSON:API does
// (section "Creating, Updating and Deleting Resources"). Of
//
//	contacts:
//	  writes:
//	    change: { patch: "/stations/{station}/contact" }
//
// a change of the phone of one is
//
//	PATCH /stations/SKE/contact    {"phone": "555-0147"}

// Writes are the ways to write a resource; nil for those that it has not.
type Writes struct{ Add, Replace, Change, Adjust, Remove *WriteForm }

// The ways to write a resource.
const (
	add     = "add"
	replace = "replace" // adds a record, or changes the one that has the same key
	change  = "change"
	adjust  = "adjust" // adds to numbers of a record
	remove  = "remove"
)

// wayOf returns by which way a write is made.
func wayOf(w *store.Write) string {
	switch {
	case len(w.Replaces) > 0:
		return replace
	case slices.ContainsFunc(w.Columns, func(g store.Given) bool { return g.How == store.Adjusted }):
		return adjust
	}
	return w.Action.String()
}

// A WriteForm is one way to write a resource: one of Post, Put, Patch and Delete is a URI
// template.
type WriteForm struct {
	Post, Put, Patch, Delete string
	Wrap                     string // the name under which the record stands in the body
	Pick                     string // JSONPath to the record in the answer
	Match                    string // the field that is expected by If-Match (RFC 9110, section 13.1.1)
	Gone, Conflict, Invalid  []int  // statuses; default 404 and 410, 409 and 412, 400 and 422
}

// A writer is a checked way to write a resource.
type writer struct {
	*WriteForm
	method   string
	template *template
	pick     jp.Expr
}

// newWriter checks a way to write the resource of a name.
func newWriter(f *WriteForm, a, name string, jsonAPI bool) (*writer, error) {
	w := &writer{WriteForm: &WriteForm{}}
	*w.WriteForm = *f
	text := ""
	for method, address := range map[string]string{http.MethodPost: f.Post, http.MethodPut: f.Put, http.MethodPatch: f.Patch, http.MethodDelete: f.Delete} {
		if address != "" && text != "" {
			return nil, fmt.Errorf("%s of %s has two of post, put, patch and delete", a, name)
		}
		if address != "" {
			w.method, text = method, address
		}
	}
	if text == "" && jsonAPI {
		if w.method = map[string]string{add: http.MethodPost, change: http.MethodPatch, remove: http.MethodDelete}[a]; w.method != "" {
			text = "/" + name
		}
		if a != add && text != "" {
			text += "/{id}"
		}
	}
	if text == "" {
		return nil, fmt.Errorf("%s of %s has none of post, put, patch and delete", a, name)
	}
	var err error
	if w.template, err = newTemplate(text); err != nil {
		return nil, fmt.Errorf("%s of %s: %w", a, name, err)
	}
	if f.Pick != "" {
		if w.pick, err = jsonPath(f.Pick); err != nil {
			return nil, fmt.Errorf("%s of %s: %w", a, name, err)
		}
	}
	for list, usual := range map[*[]int][]int{&w.Gone: {404, 410}, &w.Conflict: {409, 412}, &w.Invalid: {400, 422}} {
		if len(*list) == 0 {
			*list = usual
		}
	}
	return w, nil
}

// newWriters checks the ways to write a resource.
func newWriters(c *Set, jsonAPI bool) (map[string]*writer, error) {
	list := map[string]*writer{}
	var wrong []error
	for a, f := range map[string]*WriteForm{add: c.Writes.Add, replace: c.Writes.Replace, change: c.Writes.Change, adjust: c.Writes.Adjust, remove: c.Writes.Remove} {
		if f == nil {
			continue
		}
		w, err := newWriter(f, a, c.Name, jsonAPI)
		if err == nil && f.Match != "" && !slices.ContainsFunc(c.Fields, func(known Field) bool { return known.Name == f.Match }) {
			err = fmt.Errorf("match of %s of %s names %q, which is none of the fields", a, c.Name, f.Match)
		}
		if wrong = append(wrong, err); err == nil {
			list[a] = w
		}
	}
	return list, errors.Join(wrong...)
}

// writing is how the source is written to; nil if none of its resources is.
func (s *Source) writing() *store.Writing {
	for _, set := range s.sets {
		if len(set.writers) > 0 {
			return &store.Writing{Prepare: s.prepareWrite, Takes: s.takesWrite, Nests: true, Apart: true, Free: true,
				Begin: func(_ context.Context, caller *store.Caller) (store.Session, error) { return session{}, nil }}
		}
	}
	return nil
}

// takesWrite says why a write cannot be made.
func (s *Source) takesWrite(_ *store.Catalogue, w *store.Write) error {
	set, way := s.sets[w.Set], wayOf(w)
	if set == nil || set.writers[way] == nil {
		how := map[string]string{add: "is added", replace: "is added or changed", change: "is changed", adjust: "is counted on", remove: "is removed"}[way]
		return fmt.Errorf("nothing says how a record of %s %s\n→ say how by %s under writes: in osprey.yaml", w.Set, how, way)
	}
	by := set.writers[way]
	for _, g := range w.Columns {
		switch {
		case g.How > store.Adjusted:
			return errors.New("a service is given lists as a whole\n→ leave it out, or let a function of the service do it")
		case way == adjust && g.How != store.Adjusted:
			return fmt.Errorf("a service that counts is given nothing else, and %s is\n→ count and change in two fields", g.Field)
		}
	}
	for _, g := range w.Expect {
		if g.Field != by.Match && !slices.Contains(by.template.variables(false), g.Field) {
			return fmt.Errorf("nothing says how the service is told which %s is expected\n→ name it as match: in osprey.yaml, if the service takes it in If-Match, or as a variable of the address", g.Field)
		}
	}
	for _, g := range w.Expect {
		if g.Field != by.Match && slices.ContainsFunc(w.Columns, func(own store.Given) bool { return own.Field == g.Field }) {
			return fmt.Errorf("its address has %s once, which is both given and expected\n→ name it as match: in osprey.yaml, if the service takes it in If-Match", g.Field)
		}
	}
	for _, name := range by.template.variables(true) {
		if !slices.ContainsFunc(slices.Concat(w.Columns, w.Keys, w.Expect), func(g store.Given) bool { return g.Field == name }) && !slices.Contains(set.Key, name) {
			return fmt.Errorf("its address has the variable %s, which nothing gives\n→ give it in an argument", name)
		}
	}
	return nil
}

// A session runs requests one by one.
type session struct{}

// Run runs a request. What was asked before a write is asked anew.
func (session) Run(ctx context.Context, r store.Request, caller *store.Caller, in []store.Input) (*store.Answer, error) {
	if w, ok := r.(*write); ok {
		defer caller.ForgetAll()
		defer w.source.keeps.known.Purge()
	}
	return r.Run(ctx, caller, in)
}

// Commit does nothing: what was asked is done.
func (session) Commit(context.Context) error { return nil }

// Rollback does nothing.
func (session) Rollback() {}

// A write is a prepared write.
type write struct {
	*store.Write
	source *Source
	set    *set
	by     *writer
}

func (s *Source) prepareWrite(_ *store.Catalogue, w *store.Write) (store.Request, error) {
	set, way := s.sets[w.Set], wayOf(w)
	if set == nil || set.writers[way] == nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "has no way to " + w.Action.String() + " " + w.Set}
	}
	return &write{Write: w, source: s, set: set, by: set.writers[way]}, nil
}

// Describe names the request.
func (r *write) Describe() store.Description {
	return store.Description{Asks: r.Action.String() + " " + r.Set, Statement: r.by.method + " " + r.by.template.text, EachKey: len(r.Keys) > 0}
}

// Run writes the rows, one after the other.
func (r *write) Run(ctx context.Context, from *store.Caller, in []store.Input) (*store.Answer, error) {
	rows := in[0].Rows
	a := &store.Answer{Tables: []*store.Table{store.NewTable(r.Returning)}}
	for row := range rows.Len {
		record, found, err := r.send(ctx, from, rows, row)
		a.Requests++
		if err != nil {
			return nil, store.Behind(err, row)
		}
		if found && !r.Alike {
			if err := r.tell(a.Tables[0], record, rows, row); err != nil {
				return nil, err
			}
		}
	}
	return a, nil
}

// tell answers with a record: what the service tells of it, or else what is given.
func (r *write) tell(t *store.Table, record map[string]any, rows *store.Rows, row int) error {
	t.Len++
	for i := range r.Returning {
		w := &r.Returning[i]
		c := &t.Columns[i]
		if v := store.JSONPath(record, w.Path); v != nil {
			c.AppendJSON(w, v)
		}
		for k, g := range slices.Concat(r.Columns, r.Keys) {
			if c.Len() < t.Len && g.Field == w.Path && !rows.IsAbsent(k, row) {
				c.AppendAs(&rows.Columns[k], row)
			}
		}
		if c.Len() < t.Len {
			return &store.Error{Code: store.BadAnswer, Msg: "has added a record, and its answer does not tell " + w.Path}
		}
	}
	return nil
}

// send makes the request of a row, and returns what the service answers of the record; false if
// it has none such.
func (r *write) send(ctx context.Context, from *store.Caller, rows *store.Rows, row int) (record map[string]any, found bool, err error) {
	s := r.source
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	given := values{}
	for i, g := range slices.Concat(r.Columns, r.Keys, r.Expect) {
		if !rows.IsAbsent(i, row) && !rows.Columns[i].Null[row] && rows.Columns[i].Kind != store.List && rows.Columns[i].Kind != store.Record {
			given[g.Field] = text(keyText(&rows.Columns[i], row))
		}
	}
	path, ok := r.by.template.expand(given)
	if !ok {
		return nil, false, &store.Error{Code: store.BadValue, Msg: "cannot be asked without all that its address has"}
	}
	var body io.Reader
	if r.by.method != http.MethodDelete {
		text, err := json.Marshal(r.body(rows, row))
		if err != nil {
			return nil, false, err
		}
		body = bytes.NewReader(text)
	}
	kind := "application/json"
	if s.jsonAPI {
		kind = jsonAPIType
	}
	req, err := s.service.NewRequest(ctx, from, r.by.method, strings.TrimSuffix(s.service.Base.String(), "/")+path, kind, body)
	if err != nil {
		return nil, false, &store.Error{Code: store.BadValue, Msg: "cannot be asked for this value", Err: err}
	}
	if body != nil {
		req.Header.Set("Content-Type", kind)
	}
	if err := r.match(req, rows, row); err != nil {
		return nil, false, err
	}
	shown := r.by.method + " " + s.service.Shown(req.URL, r.by.template.hidden())
	res, err := s.writer.Do(req)
	if err != nil {
		return nil, false, unsure(ctx, err, shown)
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(res.Body, s.maxBytes+1))
	if err != nil {
		return nil, false, unsure(ctx, err, shown)
	}
	return r.outcome(res, answer, shown, r.expected(rows, row))
}

// match makes a request one that is done if the record still has what is expected of it.
func (r *write) match(req *http.Request, rows *store.Rows, row int) error {
	for i, g := range r.Expect {
		column := len(r.Columns) + len(r.Keys) + i
		switch {
		case g.Field != r.by.Match || rows.IsAbsent(column, row):
			continue
		case rows.Columns[column].Null[row]:
			return &store.Error{Code: store.BadValue, Msg: "the service cannot be told that " + g.Field + " is to have no value"}
		}
		tag := keyText(&rows.Columns[column], row)
		if !strings.HasPrefix(tag, `"`) && !strings.HasPrefix(tag, `W/"`) {
			tag = `"` + tag + `"`
		}
		if strings.ContainsFunc(tag, func(c rune) bool { return c < '!' || c > '~' }) {
			return &store.Error{Code: store.BadValue, Msg: "the value that is expected of " + g.Field + " is none that a header can have"}
		}
		req.Header.Set("If-Match", tag)
	}
	return nil
}

// expected returns the fields that are expected of a row.
func (r *write) expected(rows *store.Rows, row int) (fields []string) {
	for i, g := range r.Expect {
		if !rows.IsAbsent(len(r.Columns)+len(r.Keys)+i, row) {
			fields = append(fields, g.Field)
		}
	}
	return fields
}

// unsure tells of a request whose answer nobody has heard, unless it was never sent.
func unsure(ctx context.Context, err error, shown string) error {
	known := new(store.Error)
	own := remote.Fail(ctx, err, shown)
	var sent *net.OpError
	if errors.As(err, &sent) && sent.Op == "dial" || errors.As(own, &known) && known.Code == store.Cancelled {
		return own
	}
	code := store.Down
	if errors.As(own, &known) && known.Code == store.Timeout {
		code = store.Timeout
	}
	return &store.Error{Code: code, Msg: "broke off during the change, and nobody knows whether it is made: read the record before it is sent again", Err: own}
}

// body returns what is sent of a row: what is given, but for what stands in the address.
func (r *write) body(rows *store.Rows, row int) any {
	record := map[string]any{}
	relationships := map[string]any{}
	inAddress := r.by.template.variables(false)
	for i, g := range r.Columns {
		if rows.IsAbsent(i, row) || slices.Contains(inAddress, g.Field) {
			continue
		}
		v := rows.Columns[i].JSON(row)
		if to, ok := r.set.Related[g.Field]; ok && r.source.jsonAPI {
			relationships[g.Field] = map[string]any{"data": identifiers(to, v)}
			continue
		}
		store.PutPath(record, g.Field, v)
	}
	if !r.source.jsonAPI {
		if r.by.Wrap != "" {
			return map[string]any{r.by.Wrap: record}
		}
		return record
	}
	resource := map[string]any{"type": r.Set}
	if id, ok := record["id"]; ok {
		resource["id"] = fmt.Sprint(id)
		delete(record, "id")
	}
	for i, g := range r.Keys {
		if g.Field == "id" {
			resource["id"] = keyText(&rows.Columns[len(r.Columns)+i], row)
		}
	}
	if len(record) > 0 {
		resource["attributes"] = record
	}
	if len(relationships) > 0 {
		resource["relationships"] = relationships
	}
	return map[string]any{"data": resource}
}

// identifiers returns the resource identifiers of one id, of several, or of none.
func identifiers(to string, v any) any {
	switch v := v.(type) {
	case nil:
		return nil
	case []any:
		list := []any{}
		for _, id := range v {
			list = append(list, identifiers(to, id))
		}
		return list
	default:
		return map[string]any{"type": to, "id": fmt.Sprint(v)}
	}
}

// outcome reads what a service answers to a write.
func (r *write) outcome(res *http.Response, body []byte, path string, expected []string) (record map[string]any, found bool, err error) {
	said := fmt.Errorf("%s: %s: %s", path, res.Status, r.source.service.Blank(firstLines(body)))
	is := func(list []int) bool { return slices.Contains(list, res.StatusCode) }
	switch {
	case is(r.by.Gone) && r.Action != store.Add:
		return nil, false, nil
	case is(r.by.Conflict) && r.Action == store.Add:
		return nil, false, r.breaks(store.BadWrite, &store.Broken{Rule: store.Taken, Fields: r.set.Key}, said)
	case is(r.by.Conflict):
		return nil, false, r.breaks(store.Conflict, &store.Broken{Rule: store.Outdated, Fields: expected}, said)
	case is(r.by.Invalid):
		return nil, false, r.breaks(store.BadWrite, &store.Broken{Rule: store.OtherRule, Name: detail(body)}, said)
	case res.StatusCode < 200 || res.StatusCode > 299:
		return nil, false, remote.Status(res, said)
	}
	var answer any
	if len(bytes.TrimSpace(body)) > 0 {
		if answer, err = decode(body); err != nil {
			return nil, true, nil // what it says is no record
		}
	}
	if r.source.jsonAPI {
		top, _ := answer.(map[string]any)
		resource, _ := top["data"].(map[string]any)
		if id, ok := resource["id"]; ok {
			record = map[string]any{"id": id}
		}
		return record, true, nil
	}
	if r.by.pick != nil {
		if list := r.by.pick.Get(answer); len(list) > 0 {
			answer = list[0]
		}
	}
	record, _ = answer.(map[string]any)
	return record, true, nil
}

func (r *write) breaks(code store.Code, broken *store.Broken, said error) error {
	broken.Set = r.Set
	return &store.Error{Code: code, Msg: fmt.Sprintf("refuses to %s a record", r.Action), Err: said, Broken: broken}
}

// detail returns what a service says is not valid: the detail of problem details (RFC 9457) or
// of the first error of JSON:API.
func detail(body []byte) string {
	var answer struct {
		Detail, Title string
		Errors        []struct{ Detail, Title string }
	}
	_ = json.Unmarshal(body, &answer) // of another form, it says nothing
	for _, e := range answer.Errors {
		answer.Detail, answer.Title = e.Detail, e.Title
		break
	}
	said := []rune(answer.Detail)
	if len(said) == 0 {
		said = []rune(answer.Title)
	}
	return string(said[:min(len(said), 200)])
}
