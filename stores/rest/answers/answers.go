// Package answers makes resources of what a service of JSON:API 1.1 answers: their fields are those
// of the records that it gave, and by what they are read is tried.
//
//	GET /notices                        data: a list of type notices       notices, get: /notices
//	GET /notices?include=author         included: of type officers         officers, by author
//	GET /notices?filter[id]=1,2         just these two                     get: /notices?filter[id]={id}, many: id
package answers

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"osprey/core/store"
	"osprey/stores/rest"
)

// A Service is what the answers of a service tell of it.
type Service struct {
	URL  string // where its resources are
	Sets []rest.Set
	Left []string // what is left out, with why
}

// A document is an answer ("Document Structure", section 5 of JSON:API 1.1).
type document struct {
	Data     json.RawMessage `json:"data"`
	Included []resource      `json:"included"`
}

// A resource is one of an answer.
type resource struct {
	Type, ID      string
	Attributes    map[string]any
	Relationships map[string]struct {
		Data json.RawMessage `json:"data"`
	}
}

// identifier says which resource is meant.
type identifier struct{ Type, ID string }

// Is reports whether a text is an answer of JSON:API: it has data of resources.
func Is(text []byte) bool {
	list, _, err := read(text)
	return err == nil && len(list) > 0
}

// read returns the resources of an answer: those asked for, and those sent along.
func read(text []byte) (list, included []resource, err error) {
	var d document
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.UseNumber()
	if err := decoder.Decode(&d); err != nil || len(d.Data) == 0 {
		return nil, nil, errors.New("it is no answer of JSON:API")
	}
	inner := json.NewDecoder(strings.NewReader(string(d.Data)))
	inner.UseNumber()
	if strings.HasPrefix(strings.TrimSpace(string(d.Data)), "[") {
		err = inner.Decode(&list)
	} else {
		var one resource
		if err = inner.Decode(&one); err == nil && one.Type != "" {
			list = []resource{one}
		}
	}
	if err != nil || slices.ContainsFunc(list, func(r resource) bool { return r.Type == "" || r.ID == "" }) {
		return nil, nil, errors.New("it is no answer of JSON:API")
	}
	return list, d.Included, nil
}

// most is how many kinds of resources are looked for.
const most = 50

// Read looks at the resources that a service has at an address, and at those that they lead to.
// Fetch returns what is at an address, or an error.
func Read(address string, fetch func(address string) ([]byte, error)) (*Service, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, errors.New("the address cannot be read")
	}
	u.RawQuery, u.Fragment = "", ""
	path := strings.TrimSuffix(u.Path, "/")
	base := *u
	base.Path = path[:strings.LastIndex(path, "/")+1]
	r := &reader{fetch: fetch, base: strings.TrimSuffix(base.String(), "/"), sets: map[string]*set{}}
	text, err := fetch(u.String())
	if err != nil {
		return nil, err
	}
	list, _, err := read(text)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		return nil, errors.New("it has no resource of which a type could be made")
	}
	r.set(list[0].Type).collection = path[strings.LastIndex(path, "/")+1:]
	r.sample(list[0].Type)
	for i := 0; i < len(r.order) && i < most; i++ { // those found lead to more
		if s := r.sets[r.order[i]]; s.collection == "" && !s.tried {
			s.tried = true
			s.collection = s.name
			if !r.sample(s.name) {
				s.collection = ""
			}
		}
	}
	return r.service(), nil
}

type reader struct {
	fetch func(string) ([]byte, error)
	base  string
	sets  map[string]*set // by type
	order []string
	left  []string
}

// A set is what was seen of the resources of a type.
type set struct {
	name       string
	collection string // the last part of its address; "" if it has none
	tried      bool
	seen       int
	ids        []string
	fields     map[string]*field
	related    map[string]*relationship
}

type field struct {
	seen     int // values that are not null
	kind     store.Kind
	list     bool
	nonsense bool // it is of several kinds, or has others in it
}

type relationship struct {
	to   string
	many bool
	both bool // it leads to several types
}

func (r *reader) set(name string) *set {
	if r.sets[name] == nil {
		r.sets[name] = &set{name: name, fields: map[string]*field{}, related: map[string]*relationship{}}
		r.order = append(r.order, name)
	}
	return r.sets[name]
}

// sample looks at the resources of a type, and at what they lead to.
func (r *reader) sample(name string) bool {
	s := r.set(name)
	address := r.base + "/" + s.collection
	text, err := r.fetch(address)
	if err != nil {
		return false
	}
	list, _, err := read(text)
	if err != nil || len(list) > 0 && list[0].Type != name {
		return false
	}
	for i := range list {
		r.look(&list[i])
	}
	var include []string
	for related := range s.related {
		include = append(include, related)
	}
	slices.Sort(include)
	if len(include) > 0 {
		if text, err := r.fetch(address + "?include=" + url.QueryEscape(strings.Join(include, ","))); err == nil {
			if _, included, err := read(text); err == nil {
				for i := range included {
					r.look(&included[i])
				}
			}
		}
	}
	return true
}

// look notes what a resource has.
func (r *reader) look(one *resource) {
	s := r.set(one.Type)
	if slices.Contains(s.ids, one.ID) {
		return
	}
	s.seen++
	s.ids = append(s.ids, one.ID)
	for name, v := range one.Attributes {
		f := s.fields[name]
		if f == nil {
			f = &field{}
			s.fields[name] = f
		}
		f.add(v)
	}
	for name, to := range one.Relationships {
		var many []identifier
		var single identifier
		switch text := strings.TrimSpace(string(to.Data)); {
		case text == "" || text == "null":
			continue
		case strings.HasPrefix(text, "["):
			if json.Unmarshal(to.Data, &many) != nil {
				continue
			}
			if len(many) == 0 {
				if known := s.related[name]; known != nil {
					known.many = true
				}
				continue
			}
			single = many[0]
		default:
			if json.Unmarshal(to.Data, &single) != nil || single.Type == "" {
				continue
			}
			many = []identifier{single}
		}
		known := s.related[name]
		if known == nil {
			known = &relationship{to: single.Type, many: strings.HasPrefix(strings.TrimSpace(string(to.Data)), "[")}
			s.related[name] = known
		}
		known.both = known.both || slices.ContainsFunc(many, func(i identifier) bool { return i.Type != known.to })
		r.set(single.Type)
	}
}

var isUUID = regexp.MustCompile(`(?i)^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// add notes a value.
func (f *field) add(v any) {
	if v == nil {
		return
	}
	kind, list := kindOf(v), false
	if items, ok := v.([]any); ok {
		list, kind = true, store.Unknown
		for _, item := range items {
			own := kindOf(item)
			if kind != store.Unknown && kind != own || own == store.JSON {
				own = store.JSON
			}
			kind = own
		}
	}
	f.seen++
	switch {
	case kind == store.Unknown: // an empty list
		f.list = f.list || list && (f.seen == 1 || f.list)
	case f.kind == store.Unknown:
		f.kind, f.list = kind, list
	case f.list != list:
		f.nonsense = true
	case f.kind == kind:
	case f.kind == store.Int && kind == store.Float, f.kind == store.Float && kind == store.Int:
		f.kind = store.Float
	case kind != store.JSON && f.kind != store.JSON && isText(kind) && isText(f.kind):
		f.kind = store.Text
	default:
		f.nonsense = true
	}
}

// isText reports whether values of a kind are texts in JSON.
func isText(kind store.Kind) bool {
	return kind == store.Text || kind == store.Time || kind == store.Date || kind == store.UUID
}

func kindOf(v any) store.Kind {
	switch v := v.(type) {
	case bool:
		return store.Bool
	case json.Number:
		if n, err := v.Int64(); err == nil && n >= math.MinInt32 && n <= math.MaxInt32 {
			return store.Int
		}
		return store.Float
	case string:
		if _, err := time.Parse(time.RFC3339, v); err == nil {
			return store.Time
		}
		if _, err := time.Parse(time.DateOnly, v); err == nil {
			return store.Date
		}
		if isUUID.MatchString(v) {
			return store.UUID
		}
		return store.Text
	}
	return store.JSON
}

// service returns what was seen, as the configuration has it.
func (r *reader) service() *Service {
	out := &Service{URL: r.base, Left: r.left}
	for _, name := range r.order {
		s := r.sets[name]
		if s.seen == 0 {
			out.Left = append(out.Left, fmt.Sprintf("%s: no resource of this type was given", name))
			continue
		}
		made := rest.Set{Name: name, Related: map[string]string{}}
		for _, name := range sorted(s.fields) {
			f := s.fields[name]
			if strings.Contains(name, ".") {
				out.Left = append(out.Left, s.name+"."+name+": its name has a dot")
				continue
			}
			kind, list := f.kind, f.list
			if f.nonsense || kind == store.Unknown || kind == store.JSON {
				kind, list = store.JSON, false
			}
			made.Fields = append(made.Fields, rest.Field{Name: name, Kind: kind, List: list, Nullable: f.seen < s.seen})
		}
		for _, name := range sorted(s.related) {
			to := s.related[name]
			switch target := r.sets[to.to]; {
			case to.both:
				out.Left = append(out.Left, s.name+"."+name+": it leads to resources of several types")
				continue
			case target == nil || target.seen == 0:
				out.Left = append(out.Left, s.name+"."+name+": no resource that it leads to was given")
				continue
			case to.many:
				made.Fields = append(made.Fields, rest.Field{Name: name, Kind: store.Text, List: true, Nullable: true})
			}
			made.Related[name] = to.to
		}
		r.reads(s, &made)
		out.Sets = append(out.Sets, made)
	}
	return out
}

func sorted[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// reads tries by what the resources of a type are read: all of them, some by their ids, and one.
func (r *reader) reads(s *set, made *rest.Set) {
	if s.collection == "" {
		return
	}
	path := "/" + s.collection
	made.Reads = append(made.Reads, rest.ReadForm{Get: path}) // further pages are known by links.next
	ids := s.ids[:min(2, len(s.ids))]
	if len(ids) == 2 && r.gives(path+"?filter%5Bid%5D="+url.QueryEscape(ids[0])+","+url.QueryEscape(ids[1]), s.name, ids...) {
		made.Reads = append(made.Reads, rest.ReadForm{Get: path + "?filter[id]={id}", Many: "id"})
		return
	}
	if r.gives(path+"/"+url.PathEscape(ids[0]), s.name, ids[0]) {
		made.Reads = append(made.Reads, rest.ReadForm{Get: path + "/{id}"})
	}
}

// gives reports whether an address gives just some resources.
func (r *reader) gives(path, name string, ids ...string) bool {
	text, err := r.fetch(r.base + path)
	if err != nil {
		return false
	}
	list, _, err := read(text)
	if err != nil || len(list) != len(ids) {
		return false
	}
	return !slices.ContainsFunc(list, func(one resource) bool { return one.Type != name || !slices.Contains(ids, one.ID) })
}
