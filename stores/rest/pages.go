package rest

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"

	"github.com/ohler55/ojg/jp"

	"osprey/core/store"
)

// This file follows pages.

// pages is a checked [Pages].
type pages struct {
	Pages
	next, count jp.Expr // nil if there is none
}

func newPages(c *Pages, takes []string) (*pages, error) {
	p := &pages{Pages: *c}
	if p.Most <= 0 {
		p.Most = 20
	}
	if p.First == 0 {
		p.First = 1
	}
	var err error
	for _, path := range []struct {
		text string
		to   *jp.Expr
	}{{p.Next, &p.next}, {p.Count, &p.count}} {
		if path.text == "" {
			continue
		}
		if *path.to, err = jsonPath(path.text); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{p.Cursor, p.Number} {
		if name != "" && !strings.Contains(" "+strings.Join(takes, " ")+" ", " "+name+" ") {
			return nil, fmt.Errorf("pages are told by the variable %q, which the template does not have", name)
		}
	}
	if !p.Link && p.next == nil && p.Number == "" || p.Cursor != "" && p.next == nil {
		return nil, errors.New("pages need one of link, next, cursor with next, and number")
	}
	return p, nil
}

// aLink matches a link of a header Link, and relNext a parameter of one that
// says that it leads to the next page: RFC 8288, section 3.
var (
	aLink   = regexp.MustCompile(`<([^>]*)>((?:\s*;\s*[^\s=;,]+\s*(?:=\s*(?:"[^"]*"|[^",;\s]*))?)*)`)
	relNext = regexp.MustCompile(`(?i);\s*rel\s*=\s*(?:"(?:[^"]*\s)?next(?:\s[^"]*)?"|next(?:\s*;|\s*$))`)
)

// linkNext returns the address of the next page in a header Link, or "".
func linkNext(h http.Header) string {
	for _, header := range h.Values("Link") {
		for _, link := range aLink.FindAllStringSubmatch(header, -1) {
			if relNext.MatchString(link[2]) {
				return link[1]
			}
		}
	}
	return ""
}

// whole reads an answer with all its pages.
func (r *run) whole(ctx context.Context, given values) ([]any, error) {
	address, ok := r.expand(given)
	if !ok {
		return nil, nil
	}
	var all []any
	for page := 1; ; page++ {
		got, err := r.get(ctx, address)
		if err != nil {
			return nil, err
		}
		if all = append(all, got.records...); len(all) > r.source.maxRecords {
			return nil, store.TooMany(r.source.maxRecords)
		}
		p := r.form.pages
		if p == nil {
			return all, nil
		}
		next, err := r.next(p, given, address, got, page)
		switch {
		case err != nil || next == "":
			return all, err
		case page == p.Most:
			return nil, &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("has more than %d pages of what was asked for, which is the limit; ask for less", p.Most), Err: fmt.Errorf("GET %s", r.form.template.shown())}
		}
		address = next
	}
}

// next returns the address of the next page, or "".
func (r *run) next(p *pages, given values, address string, got *got, page int) (string, error) {
	next := ""
	switch {
	case p.Number != "":
		count, known := int64(0), false
		if p.count != nil {
			count, known = toInt(p.count.First(got.body))
		}
		if known && int64(page) >= count || !known && len(got.records) == 0 {
			return "", nil
		}
		given[p.Number] = text(fmt.Sprint(p.First + page))
	case p.Cursor != "":
		v := p.next.First(got.body)
		if v == nil || v == "" {
			return "", nil
		}
		given[p.Cursor] = text(fmt.Sprint(v))
	case p.next != nil:
		var err error
		if next, err = nextLink(p.next.First(got.body)); err != nil {
			return "", &store.Error{Code: store.BadAnswer, Msg: err.Error(), Err: fmt.Errorf("GET %s", r.form.template.shown())}
		}
	default:
		next = linkNext(got.header)
	}
	if p.Number != "" || p.Cursor != "" {
		address, _ := r.expand(given)
		return address, nil
	}
	if next == "" {
		return "", nil
	}
	from, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	to, err := from.Parse(next)
	if err != nil || to.Host != r.source.service.Base.Host || to.Scheme != r.source.service.Base.Scheme { // the secrets are this host's
		return "", &store.Error{Code: store.BadAnswer, Msg: "names a next page that is elsewhere", Err: fmt.Errorf("GET %s: next page %q", from.Path, next)}
	}
	return to.String(), nil
}

// nextLink returns the address in a link to the next page, or "" if there is none:
// a text, or a link object of JSON:API 1.1 (section "Link Objects").
func nextLink(v any) (string, error) {
	if object, ok := v.(map[string]any); ok {
		v = object["href"]
		if v == nil {
			v = object // which is no link
		}
	}
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		return v, nil
	}
	return "", errors.New("names a next page by something that is no address")
}

func toInt(v any) (int64, bool) {
	c := store.Column{Kind: store.Int}
	c.AppendJSON(&store.Wanted{Kind: store.Int}, v)
	return c.Ints[0], !c.Null[0]
}
