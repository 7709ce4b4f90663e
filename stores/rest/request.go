package rest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/ohler55/ojg/jp"
	"golang.org/x/sync/errgroup"

	"osprey/core/store"
	"osprey/stores/remote"
)

// Prepare chooses the way to make a read; the others are resources of JSON:API
// that come with its records.
func (s *Source) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	read := reads[0]
	set := s.sets[read.Set]
	if set == nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "has no set " + read.Set}
	}
	r := &request{source: s, set: set, reads: reads, read: read}
	for _, k := range read.Keys {
		r.keys = append(r.keys, read.Columns[k].Path)
	}
	var err error
	if r.form, err = set.choose(r.keys, read.Where); err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "cannot be asked this way", Err: err}
	}
	r.many = len(r.keys) == 1 && r.form.many == r.keys[0]
	if s.jsonAPI {
		r.query = r.sparse()
	}
	return r, nil
}

// A request is one way to read a resource, with a template for its address.
type request struct {
	source *Source
	set    *set
	reads  []*store.Read
	read   *store.Read // the first
	form   *form
	keys   []string
	many   bool
	query  string // what JSON:API adds to the address
}

// canPage reports whether the service itself sorts and cuts what a read wants.
func (s *Source) canPage(read *store.Read) bool {
	set := s.sets[read.Set]
	if set == nil || len(read.Keys) > 0 {
		return false
	}
	f, err := set.choose(nil, read.Where)
	if err != nil || read.Limit && f.limit == "" || read.Offset && f.offset == "" {
		return false
	}
	_, sorts := f.order(read.Sort)
	return sorts && !slices.ContainsFunc(needsOf(read.Where), func(c *store.Predicate) bool { return f.taker(c) == "" })
}

// takes tells which predicates of a read the service is asked.
func (s *Source) takes(name string, keys []string, where []store.Predicate) func(*store.Predicate) bool {
	set := s.sets[name]
	if set == nil {
		return func(*store.Predicate) bool { return false }
	}
	f, err := set.choose(keys, where)
	return func(c *store.Predicate) bool {
		return err != nil || slices.ContainsFunc(needsOf([]store.Predicate{*c}), func(one *store.Predicate) bool { return f.taker(one) != "" })
	}
}

// order returns how the service names an order, and whether it does.
func (f *form) order(by []store.Order) (string, bool) {
	var names []string
	for _, o := range by {
		key := o.Path
		if o.Desc {
			key += " desc"
		}
		name, ok := f.sortKeys[key]
		if !ok || o.Nulls == store.NullsGreatest {
			return "", false
		}
		names = append(names, name)
	}
	return strings.Join(names, ","), len(names) == 0 || f.sort != ""
}

// Describe gives the template, and what is looked at here since the service
// does not.
func (r *request) Describe() store.Description {
	asks := "GET " + r.form.template.shown()
	var here []string
	for _, c := range needsOf(r.read.Where) {
		if r.form.taker(c) != "" {
			continue
		}
		for _, path := range c.Paths(nil) {
			if !slices.Contains(here, path) {
				here = append(here, path)
			}
		}
	}
	if names := r.included(); len(names) > 0 {
		asks += " with " + strings.Join(names, ", ")
	}
	if len(here) > 0 {
		asks += ", filtered here by " + strings.Join(here, ", ")
	}
	d := store.Description{
		Asks: asks, Statement: "GET " + r.source.service.Base.Host + r.withQuery(r.form.template.shown()),
		EachKey: len(r.keys) > 0 && !r.many,
	}
	if r.many {
		d.MaxKeys = r.form.maxKeys
	}
	if r.form.pages != nil {
		d.Pages = r.form.pages.Most
	}
	return d
}

// Run makes the request, or one for each key or for each hundred keys.
func (r *request) Run(ctx context.Context, from *store.Caller, in []store.Input) (*store.Answer, error) {
	ctx, made := counting(ctx)
	asked, ok := r.asked(&in[0])
	answers := make([][]any, len(asked))
	u := &run{request: r, from: from, known: map[ref]map[string]any{}}
	if ok {
		group, inside := errgroup.WithContext(ctx)
		group.SetLimit(r.source.concurrency)
		for i := range asked {
			group.Go(func() (err error) {
				answers[i], err = u.whole(inside, asked[i])
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return nil, err
		}
	}
	t := store.NewTable(r.read.Columns)
	var kept []any
	for i, records := range answers {
		for _, record := range records {
			if r.append(t, record, &in[0], i) {
				kept = append(kept, record)
			}
		}
	}
	answer := &store.Answer{Tables: []*store.Table{t}, Requests: int(made.Load())}
	if len(r.reads) > 1 {
		if err := u.relate(answer, kept, in); err != nil {
			return nil, err
		}
	}
	return answer, nil
}

// asked returns the variables of each request; false if nothing can fit. For the
// stations Q1 and Q2, by the template's many, and one by one:
//
//	/events{?station*,kind}   station [Q1 Q2], kind HIGH   →  one: /events?station=Q1&station=Q2&kind=HIGH
//	/contacts/{station}       station Q1, station Q2       →  two: /contacts/Q1 and /contacts/Q2
func (r *request) asked(input *store.Input) ([]values, bool) {
	given := values{}
	for _, c := range needsOf(r.read.Where) {
		if c.Op == store.Is && input.Where[c.Value].Len() == 0 {
			return nil, false
		}
		if variable := r.form.taker(c); variable != "" {
			given[variable] = templateValue(&input.Where[c.Value])
		}
	}
	if r.form.sort != "" {
		if order, ok := r.form.order(r.read.Sort); ok && order != "" {
			given[r.form.sort] = text(order)
		}
	}
	if r.read.Limit {
		given[r.form.limit] = text(fmt.Sprint(input.Limit))
	}
	if r.read.Offset {
		given[r.form.offset] = text(fmt.Sprint(input.Offset))
	}
	if p := r.form.pages; p != nil && p.Number != "" {
		given[p.Number] = text(fmt.Sprint(p.First))
	}
	if len(r.keys) == 0 {
		return []values{given}, true
	}
	var asked []values
	own := func() values {
		copied := maps.Clone(given)
		asked = append(asked, copied)
		return copied
	}
	if r.many {
		for keys := range slices.Chunk(texts(&input.Keys[0]), r.form.maxKeys) {
			own()[r.keys[0]] = listOf(keys)
		}
		return asked, true
	}
	for row := range input.Keys[0].Len() {
		one := own()
		for k, name := range r.keys {
			one[name] = text(keyText(&input.Keys[k], row))
		}
	}
	return asked, true
}

// append adds a record if it fits the predicates. Where one key was asked for,
// and the record does not repeat it, the key is known all the same.
func (r *request) append(t *store.Table, record any, in *store.Input, asked int) bool {
	for _, c := range needsOf(r.read.Where) {
		if r.form.taker(c) != "" && store.JSONPath(record, c.Path) == nil {
			continue // the service was asked for it, and does not repeat it
		}
		if !c.Fits(in, store.JSONSubject{Value: record}) {
			return false
		}
	}
	t.Len++
	for i := range r.read.Columns {
		w := &r.read.Columns[i]
		v := store.JSONPath(record, w.Path)
		if k := slices.Index(r.keys, w.Path); v == nil && k >= 0 && !r.many {
			t.Columns[i].AppendJSON(w, keyText(&in.Keys[k], asked))
			continue
		}
		t.Columns[i].AppendJSON(w, v)
	}
	return true
}

func templateValue(c *store.Column) value {
	list := texts(c)
	if len(list) == 1 {
		return text(list[0])
	}
	return listOf(list)
}

func texts(c *store.Column) []string {
	list := make([]string, c.Len())
	for row := range list {
		list[row] = keyText(c, row)
	}
	return list
}

// keyText writes a value as it stands in an address.
func keyText(c *store.Column, row int) string {
	switch c.Kind {
	case store.Time:
		return store.FormatTime(c.Ints[row])
	case store.Date:
		return store.FormatDate(c.Ints[row])
	case store.Bool:
		return fmt.Sprint(c.Ints[row] != 0)
	case store.Clock:
		return string(store.AppendClock(nil, c.Ints[row]))
	case store.Int, store.Float:
		key, _ := store.AppendKey(nil, c, row) // whole numbers without a fraction
		return strings.TrimSuffix(string(key), "\x00")
	}
	return string(c.At(row))
}

// expand returns the address for the variables; false for one that must not be
// sent, at which there is nothing.
func (r *request) expand(given values) (string, bool) {
	path, ok := r.form.template.expand(given)
	return strings.TrimSuffix(r.source.service.Base.String(), "/") + r.withQuery(path), ok
}

// withQuery adds what is asked beyond the form to a path.
func (r *request) withQuery(path string) string {
	switch {
	case r.query == "":
		return path
	case strings.Contains(path, "?"):
		return path + "&" + r.query
	}
	return path + "?" + r.query
}

// got is one page of an answer.
type got struct {
	records []any
	body    any
	header  http.Header
	path    string // for the log
	begin   string // of the body, for the log
	bytes   int    // of the body
}

// keptBytes is the largest body that is kept while an operation runs, for others who
// ask the same.
const keptBytes = 64 << 10

// get returns the records at an address, which an operation asks for once. Nothing at
// an address (404) is no records.
func (r *run) get(ctx context.Context, address string) (*got, error) {
	key := asking{r.source, address}
	answer, err := r.from.Once(key, func() (any, error) { return r.fetch(ctx, address) })
	var own *store.Error
	if errors.As(err, &own) && own.Code == store.Cancelled && ctx.Err() == nil {
		answer, err = r.fetch(ctx, address) // it was another's, who waits no more
	}
	if err != nil {
		return nil, err
	}
	g := *answer.(*got)
	if g.bytes > keptBytes {
		r.from.Forget(key)
	}
	if g.body == nil && g.header == nil {
		return &g, nil
	}
	if r.source.jsonAPI {
		g.records, err = r.resources(g.body)
	} else {
		g.records, err = r.records(g.body)
	}
	if err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: err.Error(), Err: fmt.Errorf("GET %s: %s", g.path, g.begin)}
	}
	return &g, nil
}

// An asking is what is asked of a service.
type asking struct {
	source  *Source
	address string
}

// fetch makes one HTTP request and decodes its answer.
func (r *run) fetch(ctx context.Context, address string) (*got, error) {
	s := r.source
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	req, err := s.newRequest(ctx, r.from, address)
	if err != nil {
		return nil, &store.Error{Code: store.BadValue, Msg: "cannot be asked for this value", Err: err}
	}
	path := s.service.Shown(req.URL, r.form.template.hidden())
	res, err := s.do(req)
	if err != nil {
		return nil, s.failed(ctx, err, path)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, s.maxBytes+1))
	switch {
	case err != nil:
		return nil, s.failed(ctx, err, path)
	case int64(len(body)) > s.maxBytes:
		return nil, store.TooLarge(s.maxBytes)
	case res.StatusCode == http.StatusNotFound:
		return &got{}, nil
	case res.StatusCode != http.StatusOK:
		return nil, remote.Status(res, fmt.Errorf("GET %s: %s: %s", path, res.Status, s.service.Blank(firstLines(body))))
	}
	answer, err := decode(body)
	if err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "answered something that is not JSON",
			Err: fmt.Errorf("GET %s: %w: %s", path, err, s.service.Blank(firstLines(body)))}
	}
	return &got{body: answer, header: res.Header, path: path, begin: s.service.Blank(firstLines(body)), bytes: len(body)}, nil
}

var (
	errNoRecords = errors.New("answered something that is not a list of records")
	errNotPicked = errors.New("answered something without the records that were asked for")
)

// records picks the records out of an answer.
func (r *request) records(answer any) ([]any, error) {
	var list []any
	one := false
	switch whole := answer.(type) {
	case []any:
		list = whole
	default:
		list, one = []any{answer}, true
	}
	if r.form.pick != nil {
		list, one = r.form.pick.Get(answer), false
		if len(list) == 0 && !leads(r.form.pick, answer) {
			return nil, errNotPicked
		}
	}
	for _, record := range list {
		object, ok := record.(map[string]any)
		if !ok || one && !r.set.knows(object) {
			return nil, errNoRecords
		}
	}
	return list, nil
}

// leads reports whether what a path picks its records from is there: without
// records it is an empty list, and not something else.
func leads(pick jp.Expr, answer any) bool {
	last := len(pick) - 1
	switch pick[last].(type) {
	case jp.Child, jp.Nth, jp.Root:
		return false // it picks one, which is not there
	case jp.Descent:
		return true // which looks everywhere
	}
	for _, from := range pick[:last].Get(answer) {
		switch from.(type) {
		case []any, map[string]any:
			return true
		}
	}
	return false
}

// knows reports whether an object has any of the fields of the set. What has none
// is no record: services tell errors so.
func (s *set) knows(object map[string]any) bool {
	return slices.ContainsFunc(s.Fields, func(f Field) bool {
		name, _, _ := strings.Cut(f.Name, ".")
		_, whole := object[f.Name]
		_, first := object[name]
		return whole || first
	})
}

// failed turns an error of the HTTP client into one of the port.
func (s *Source) failed(ctx context.Context, err error, path string) error {
	return remote.Fail(ctx, err, "GET "+path)
}

// firstLines returns the beginning of a body for the log.
func firstLines(body []byte) string {
	return strings.ToValidUTF8(string(bytes.TrimSpace(body[:min(len(body), 200)])), "?")
}

// A run is one run of a request.
type run struct {
	*request
	from *store.Caller

	mu    sync.Mutex             // guards what follows
	known map[ref]map[string]any // the resources of JSON:API that came with the answers
}
