package rest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/yosida95/uritemplate/v3"
	"golang.org/x/sync/errgroup"

	"osprey/core/store"
)

// Prepare chooses the way to make a read.
func (s *Source) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	read := reads[0]
	set := s.sets[read.Set]
	if set == nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "has no set " + read.Set}
	}
	r := &request{source: s, read: read}
	for _, k := range read.Keys {
		r.keys = append(r.keys, read.Columns[k].Path)
	}
	where := equalities(read)
	var err error
	if r.form, err = set.choose(r.keys, where); err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "cannot be asked this way", Err: err}
	}
	r.many = len(r.keys) == 1 && r.form.many == r.keys[0]
	return r, nil
}

// A request is one way to read a resource, with a template for its address.
type request struct {
	source *Source
	read   *store.Read
	form   *form
	keys   []string
	many   bool
}

// equalities returns the fields that records must equal given values in.
func equalities(read *store.Read) []string {
	var paths []string
	for _, c := range read.Where {
		if c.Op == store.Is {
			paths = append(paths, c.Path)
		}
	}
	return paths
}

// Describe gives the template, and what is looked at here since the service
// does not.
func (r *request) Describe() store.Description {
	asks := "GET " + r.form.text
	var here []string
	for _, c := range r.read.Where {
		for _, path := range c.Paths(nil) {
			if (c.Op != store.Is || !slices.Contains(r.form.takes, path)) && !slices.Contains(here, path) {
				here = append(here, path)
			}
		}
	}
	if len(here) > 0 {
		asks += ", filtered here by " + strings.Join(here, ", ")
	}
	return store.Description{
		Asks: asks, Statement: "GET " + r.source.base.Redacted() + r.form.text,
		EachKey: len(r.keys) > 0 && !r.many,
	}
}

// Run makes the request, or one for each key.
func (r *request) Run(ctx context.Context, in []store.Input) (*store.Answer, error) {
	input := &in[0]
	values := uritemplate.Values{}
	for _, c := range r.read.Where {
		if c.Op != store.Is {
			continue
		}
		if input.Where[c.Value].Len() == 0 {
			return &store.Answer{Tables: []*store.Table{store.NewTable(r.read.Columns)}}, nil
		}
		if slices.Contains(r.form.takes, c.Path) {
			values.Set(c.Path, templateValue(&input.Where[c.Value]))
		}
	}
	var asked []uritemplate.Values
	switch {
	case len(r.keys) == 0:
		asked = []uritemplate.Values{values}
	case r.many:
		values.Set(r.keys[0], uritemplate.List(texts(&input.Keys[0])...))
		asked = []uritemplate.Values{values}
	default:
		for row := range input.Keys[0].Len() {
			own := uritemplate.Values{}
			for name, v := range values {
				own[name] = v
			}
			for k, name := range r.keys {
				own.Set(name, uritemplate.String(keyText(&input.Keys[k], row)))
			}
			asked = append(asked, own)
		}
	}
	answers := make([][]any, len(asked))
	group, inside := errgroup.WithContext(ctx)
	group.SetLimit(r.source.concurrency)
	for i := range asked {
		group.Go(func() (err error) {
			answers[i], err = r.get(inside, asked[i])
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	t := store.NewTable(r.read.Columns)
	for i, records := range answers {
		for _, record := range records {
			r.append(t, record, input, i)
		}
	}
	return &store.Answer{Tables: []*store.Table{t}, Requests: len(asked)}, nil
}

// append adds a record if it fits the conditions. Where one key was asked for,
// and the record does not repeat it, the key is known all the same.
func (r *request) append(t *store.Table, record any, in *store.Input, asked int) {
	for i := range r.read.Where {
		c := &r.read.Where[i]
		if c.Op == store.Is && slices.Contains(r.form.takes, c.Path) && store.JSONPath(record, c.Path) == nil {
			continue // the service was asked for it, and does not repeat it
		}
		if !c.Fits(in, store.JSONSubject{Value: record}) {
			return
		}
	}
	t.Len++
	for i := range r.read.Columns {
		w := &r.read.Columns[i]
		v := store.JSONPath(record, w.Path)
		if k := slices.Index(r.keys, w.Path); v == nil && k >= 0 && !r.many {
			t.Columns[i].AppendAs(&in.Keys[k], asked)
			continue
		}
		t.Columns[i].AppendJSON(w, v)
	}
}

func templateValue(c *store.Column) uritemplate.Value {
	list := texts(c)
	if len(list) == 1 {
		return uritemplate.String(list[0])
	}
	return uritemplate.List(list...)
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
	}
	key, _ := store.AppendKey(nil, c, row)
	return strings.TrimSuffix(string(key), "\x00")
}

// get makes one HTTP request and returns the records in its answer. Nothing at
// an address (404) is no records.
func (r *request) get(ctx context.Context, values uritemplate.Values) ([]any, error) {
	s := r.source
	path, err := r.form.template.Expand(values)
	if err != nil {
		return nil, &store.Error{Code: store.BadValue, Msg: "cannot be asked for this value", Err: err}
	}
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	req, err := s.newRequest(ctx, strings.TrimSuffix(s.base.String(), "/")+path)
	if err != nil {
		return nil, &store.Error{Code: store.BadValue, Msg: "cannot be asked for this value", Err: err}
	}
	res, err := s.client.Do(req)
	if err != nil {
		return nil, s.failed(ctx, err, path)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, s.maxBytes+1))
	switch {
	case err != nil:
		return nil, s.failed(ctx, err, path)
	case int64(len(body)) > s.maxBytes:
		return nil, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("answered more than %d bytes, which is the limit", s.maxBytes), Err: fmt.Errorf("GET %s", path)}
	case res.StatusCode == http.StatusNotFound:
		return nil, nil
	case res.StatusCode != http.StatusOK:
		return nil, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("answered with the status %d", res.StatusCode),
			Err: fmt.Errorf("GET %s: %s: %s", path, res.Status, s.blank(firstLines(body)))}
	}
	answer, err := decode(body)
	if err != nil {
		return nil, &store.Error{Code: store.BadAnswer, Msg: "answered something that is not JSON",
			Err: fmt.Errorf("GET %s: %w: %s", path, err, s.blank(firstLines(body)))}
	}
	return r.records(answer, path, body)
}

// records picks the records out of an answer.
func (r *request) records(answer any, path string, body []byte) ([]any, error) {
	var list []any
	switch {
	case r.form.pick != nil:
		list = r.form.pick.Get(answer)
	default:
		if whole, ok := answer.([]any); ok {
			list = whole
		} else {
			list = []any{answer}
		}
	}
	for _, record := range list {
		if _, ok := record.(map[string]any); !ok {
			return nil, &store.Error{Code: store.BadAnswer, Msg: "answered something that is not a list of records",
				Err: fmt.Errorf("GET %s: %s", path, r.source.blank(firstLines(body)))}
		}
	}
	return list, nil
}

// failed turns an error of the HTTP client into one of the port.
func (s *Source) failed(ctx context.Context, err error, path string) error {
	own := store.Fail(ctx, err, "broke off its answer")
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		own.Code, own.Msg = store.BadAnswer, "broke off its answer"
	}
	own.Err = fmt.Errorf("GET %s: %w", path, err)
	return own
}

// firstLines returns the beginning of a body for the log.
func firstLines(body []byte) string {
	return strings.ToValidUTF8(string(bytes.TrimSpace(body[:min(len(body), 200)])), "?")
}
