package demo

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// Notices is the stand-in for the harbour master's notices to mariners, a
// service of JSON:API 1.1. It keeps the requests it saw.
type Notices struct {
	mu   sync.Mutex
	seen []string
}

// Requests returns the path of every request since the last call.
func (n *Notices) Requests() []string {
	n.mu.Lock()
	defer n.mu.Unlock()
	seen := n.seen
	n.seen = nil
	return seen
}

type notice struct {
	id, title, text, quay string
	issued                time.Time
	until                 *time.Time
	author                int // in officers
	replaces              []string
}

type officer struct{ id, name, post string }

// officers are the authors of notices.
var officers = []officer{
	{"o1", firstNames[3] + " " + lastNames[5], "harbour master"}, {"o2", firstNames[8] + " " + lastNames[2], "deputy"}, {"o3", firstNames[11] + " " + lastNames[9], "dredging"},
}

// notices are made of what happens along the quays.
var notices = func() []notice {
	works := []string{"Dredging", "Crane repair", "Diving works", "Night exercise", "Survey", "Lights out of order"}
	var list []notice
	for i := range 30 {
		quay := fmt.Sprintf("Q%d", i%6+1)
		n := notice{id: strconv.Itoa(i + 1), title: works[i%len(works)] + " at " + quay, quay: quay, issued: lastDay.AddDate(0, 0, -i*5), author: i % 3,
			text: fmt.Sprintf("Keep clear by %d metres.", 20+i%4*10)}
		if i%4 > 0 {
			until := n.issued.AddDate(0, 0, 14)
			n.until = &until
		}
		if i+6 < 30 && i%2 == 0 {
			n.replaces = []string{strconv.Itoa(i + 7)} // the older one about the same quay
		}
		list = append(list, n)
	}
	return list
}()

// noticesOnPage is how many resources the service lists at once.
const noticesOnPage = 10

// Handler serves the stand-in.
func (n *Notices) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			n.mu.Lock()
			n.seen = append(n.seen, r.URL.RequestURI())
			n.mu.Unlock()
			w.Header().Set("Content-Type", "application/vnd.api+json")
			next.ServeHTTP(w, r)
		})
	})
	r.Get("/notices", listNotices)
	return r
}

// listNotices answers with one page of notices.
func listNotices(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	wanted := func(parameter, value string) bool {
		return !q.Has(parameter) || slices.Contains(strings.Split(q.Get(parameter), ","), value)
	}
	var list []notice
	for _, n := range notices {
		if wanted("filter[quay]", n.quay) && wanted("filter[id]", n.id) {
			list = append(list, n)
		}
	}
	page, _ := strconv.Atoi(q.Get("page[number]"))
	page = max(page, 1)
	from, to := min((page-1)*noticesOnPage, len(list)), min(page*noticesOnPage, len(list))
	answer := map[string]any{"jsonapi": map[string]string{"version": "1.1"}}
	if to < len(list) {
		q.Set("page[number]", strconv.Itoa(page+1))
		answer["links"] = map[string]string{"next": "/notices?" + q.Encode()}
	}
	data, included := []any{}, []any{}
	sent := map[string]bool{}
	include := strings.Split(q.Get("include"), ",")
	along := func(author int) {
		if o := officers[author]; !sent[o.id] {
			sent[o.id] = true
			included = append(included, resource("officers", o.id, map[string]any{"name": o.name, "post": o.post}, nil, q.Get("fields[officers]"), q.Has("fields[officers]")))
		}
	}
	for _, n := range list[from:to] {
		data = append(data, n.resource(q.Get("fields[notices]"), q.Has("fields[notices]")))
		if slices.Contains(include, "author") {
			along(n.author)
		}
		for _, id := range n.replaces {
			other, _ := strconv.Atoi(id)
			if slices.Contains(include, "replaces") && !sent["notice "+id] {
				sent["notice "+id] = true
				included = append(included, notices[other-1].resource(q.Get("fields[notices]"), q.Has("fields[notices]")))
			}
			if slices.Contains(include, "replaces.author") {
				along(notices[other-1].author)
			}
		}
	}
	answer["data"] = data
	if q.Has("include") {
		answer["included"] = included
	}
	json.NewEncoder(w).Encode(answer)
}

func (n *notice) resource(fields string, sparse bool) map[string]any {
	attributes := map[string]any{"title": n.title, "text": n.text, "quay": n.quay, "issuedAt": n.issued, "validUntil": nil}
	if n.until != nil {
		attributes["validUntil"] = *n.until
	}
	replaces := []any{}
	for _, id := range n.replaces {
		replaces = append(replaces, map[string]string{"type": "notices", "id": id})
	}
	return resource("notices", n.id, attributes, map[string]any{
		"author": map[string]string{"type": "officers", "id": officers[n.author].id}, "replaces": replaces,
	}, fields, sparse)
}

// resource returns a resource object with the fields that are wanted.
func resource(typ, id string, attributes, relationships map[string]any, fields string, sparse bool) map[string]any {
	keep := func(name string) bool { return !sparse || slices.Contains(strings.Split(fields, ","), name) }
	own, to := map[string]any{}, map[string]any{}
	for name, v := range attributes {
		if keep(name) {
			own[name] = v
		}
	}
	for name, data := range relationships {
		if keep(name) {
			to[name] = map[string]any{"data": data}
		}
	}
	return map[string]any{"type": typ, "id": id, "attributes": own, "relationships": to}
}
