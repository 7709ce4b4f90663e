// Package openapi makes resources of what an OpenAPI 3 document says of a service: which records
// its paths answer with, by what they are read, how lists go on, and how they are written.
//
//	GET /stations                answers {results: [Station]}     stations, get: /stations, pick: $.results[*]
//	GET /stations/{code}         answers Station                  its key, get: /stations/{code}
//	GET /events?station=…        station is a field of Event      get: /events{?station}
package openapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"

	"osprey/core/store"
	"osprey/stores/rest"
)

// A Service is what a document says of a service.
type Service struct {
	Title string
	URL   string // where it is; "" if the document does not say so
	// Header is the header by which it is told who asks, and Scheme what stands before the secret in
	// it; "" if the document names none.
	Header, Scheme string
	Sets           []rest.Set
	Left           []string // what is left out, with why
	// Schema is a JSON Schema with what lists of records in records are, each in its $defs by
	// set.field; nil if there are none. Lists are these names.
	Schema []byte
	Lists  []string
}

// Read reads a document. References lead nowhere else.
func Read(ctx context.Context, text []byte) (*Service, error) {
	loader := openapi3.NewLoader()
	loader.Context = ctx
	doc, err := loader.LoadFromData(text)
	if err == nil && (doc.OpenAPI == "" || doc.Paths == nil) {
		err = errors.New("it has no openapi: 3 and paths")
	}
	if err == nil {
		err = doc.Validate(ctx, openapi3.DisableExamplesValidation(), openapi3.DisableSchemaDefaultsValidation())
	}
	if err != nil {
		return nil, fmt.Errorf("it is no sound OpenAPI 3 document: %s", firstLine(err))
	}
	r := &reader{doc: doc, service: &Service{}, sets: map[string]*rest.Set{}, lists: map[string]*openapi3.SchemaRef{}}
	if doc.Info != nil {
		r.service.Title = doc.Info.Title
	}
	if len(doc.Servers) > 0 && strings.HasPrefix(doc.Servers[0].URL, "http") && !strings.Contains(doc.Servers[0].URL, "{") {
		r.service.URL = doc.Servers[0].URL
	}
	r.secured()
	r.read()
	r.schema()
	return r.service, nil
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

type reader struct {
	doc     *openapi3.T
	service *Service
	sets    map[string]*rest.Set
	lists   map[string]*openapi3.SchemaRef // by set.field
	order   []string
}

func (r *reader) left(what, format string, args ...any) {
	r.service.Left = append(r.service.Left, what+": "+fmt.Sprintf(format, args...))
}

// secured finds out by which header the service is told who asks.
func (r *reader) secured() {
	if r.doc.Components == nil {
		return
	}
	var names []string
	for name := range r.doc.Components.SecuritySchemes {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		switch s := r.doc.Components.SecuritySchemes[name].Value; {
		case s == nil || r.service.Header != "":
		case s.Type == "http" && strings.EqualFold(s.Scheme, "bearer"), s.Type == "oauth2", s.Type == "openIdConnect":
			r.service.Header, r.service.Scheme = "Authorization", "Bearer "
		case s.Type == "apiKey" && s.In == openapi3.ParameterInHeader:
			r.service.Header = s.Name
		}
	}
}

// read reads all paths: first those that list, whose records tell the fields.
func (r *reader) read() {
	paths := r.doc.Paths.InMatchingOrder()
	slices.Sort(paths)
	for _, single := range []bool{true, false} { // one record tells more of itself than a list
		for _, path := range paths {
			if item := r.doc.Paths.Value(path); item.Get != nil && (strings.HasSuffix(path, "}") == single) {
				r.get(path, item)
			}
		}
	}
	for _, path := range paths {
		r.writes(path, r.doc.Paths.Value(path))
	}
	for _, name := range r.order {
		set := r.sets[name]
		if len(set.Reads) == 0 || len(set.Fields) == 0 {
			continue
		}
		slices.SortStableFunc(set.Reads, func(a, b rest.ReadForm) int { return len(a.Get) - len(b.Get) })
		r.service.Sets = append(r.service.Sets, *set)
	}
}

// nameOf returns the name of the resource that a path is about: its last part that is no
// variable.
func nameOf(path string) string {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	for i := len(parts) - 1; i >= 0; i-- {
		if parts[i] != "" && !strings.Contains(parts[i], "{") {
			return strings.TrimSuffix(parts[i], ".json")
		}
	}
	return ""
}

// get reads how a path is read.
func (r *reader) get(path string, item *openapi3.PathItem) {
	op := item.Get
	name := nameOf(path)
	schema := answerOf(op)
	if name == "" || schema == nil {
		r.left("GET "+path, "it does not say which JSON it answers with")
		return
	}
	records, pick := recordsOf(schema)
	if records == nil {
		r.left("GET "+path, "what it answers with is no record, nor a list of them")
		return
	}
	set := r.sets[name]
	if set == nil {
		set = &rest.Set{Name: name}
		r.sets[name] = set
		r.order = append(r.order, name)
	}
	if len(set.Fields) == 0 {
		set.Fields = r.fieldsOf(set.Name, records, "", 0)
	}
	form := rest.ReadForm{Get: path, Pick: pick}
	parameters := slices.Concat(item.Parameters, op.Parameters)
	for _, variable := range variablesOf(path) {
		field := fieldFor(set, variable, strings.HasSuffix(path, "{"+variable+"}"))
		if field == "" {
			r.left("GET "+path, "{%s} is no field of its records", variable)
			return
		}
		form.Get = strings.ReplaceAll(form.Get, "{"+variable+"}", "{"+field+"}")
		if strings.HasSuffix(path, "{"+variable+"}") && set.Key == nil {
			set.Key = []string{field}
		}
	}
	r.query(path, set, &form, parameters, op)
	if !slices.ContainsFunc(set.Reads, func(f rest.ReadForm) bool { return f.Get == form.Get }) {
		set.Reads = append(set.Reads, form)
	}
	one := !isSchema(whole(schema, 0), "array") && !strings.HasSuffix(pick, "[*]")
	switch variables := variablesOf(form.Get[:strings.Index(form.Get+"{?", "{?")]); {
	case set.Key != nil:
	case one && len(variables) > 0: // there is one for each
		set.Key = variables
	case hasField(set, "id"):
		set.Key = []string{"id"}
	case form.Many != "": // by which records are asked for, many at a time
		set.Key = []string{form.Many}
	}
}

// query adds the parameters of the query that Osprey knows how to give.
func (r *reader) query(path string, set *rest.Set, form *rest.ReadForm, parameters openapi3.Parameters, op *openapi3.Operation) {
	var variables []string
	for _, ref := range parameters {
		p := ref.Value
		if p == nil || p.In != openapi3.ParameterInQuery {
			continue
		}
		word := strings.ToLower(strings.NewReplacer("_", "", "-", "", "[", "", "]", "").Replace(p.Name))
		switch field := fieldFor(set, p.Name, false); {
		case strings.ContainsAny(p.Name, "[]{}?&"):
		case field != "" && isType(p.Schema, "array"):
			variable := field
			if p.Explode == nil || *p.Explode {
				variable += "*"
			}
			if field == p.Name && form.Many == "" {
				form.Many = field
				variables = append(variables, variable)
			}
		case field == p.Name:
			variables = append(variables, field)
		case slices.Contains([]string{"limit", "perpage", "pagesize", "size", "count"}, word):
			form.Limit = p.Name
			variables = append(variables, p.Name)
		case slices.Contains([]string{"offset", "skip", "start"}, word):
			form.Offset = p.Name
			variables = append(variables, p.Name)
		case slices.Contains([]string{"page", "pagenumber", "pageno"}, word) && form.Pages == nil:
			form.Pages = &rest.Pages{Number: p.Name}
			variables = append(variables, p.Name)
		case slices.Contains([]string{"cursor", "pagetoken", "after", "continuation"}, word) && form.Pages == nil:
			if next := nextOf(answerOf(op)); next != "" {
				form.Pages = &rest.Pages{Cursor: p.Name, Next: next}
				variables = append(variables, p.Name)
			}
		case p.Required:
			r.left("GET "+path, "it needs %s, which is no field of its records", p.Name)
		}
	}
	if form.Pages != nil && form.Pages.Number != "" { // the size of a page is the service's
		variables = slices.DeleteFunc(variables, func(v string) bool { return v == form.Limit || v == form.Offset })
		form.Limit, form.Offset = "", ""
	}
	if form.Offset != "" && form.Limit == "" {
		variables = slices.DeleteFunc(variables, func(v string) bool { return v == form.Offset })
		form.Offset = ""
	}
	if ok := responseOf(op); ok != nil && form.Pages == nil && form.Limit == "" && ok.Headers["Link"] != nil {
		form.Pages = &rest.Pages{Link: true}
	}
	if len(variables) > 0 {
		form.Get += "{?" + strings.Join(variables, ",") + "}"
	}
}

// writes reads how the records of a path are written.
func (r *reader) writes(path string, item *openapi3.PathItem) {
	set := r.sets[nameOf(path)]
	if set == nil {
		return
	}
	address := path
	for _, variable := range variablesOf(path) {
		field := fieldFor(set, variable, strings.HasSuffix(path, "{"+variable+"}"))
		if field == "" {
			return
		}
		address = strings.ReplaceAll(address, "{"+variable+"}", "{"+field+"}")
	}
	one := strings.HasSuffix(path, "}")
	if item.Post != nil && !one && takesJSON(item.Post) && set.Writes.Add == nil {
		set.Writes.Add = &rest.WriteForm{Post: address}
	}
	if !one {
		return
	}
	if item.Patch != nil && takesJSON(item.Patch) {
		set.Writes.Change = &rest.WriteForm{Patch: address}
	}
	if item.Put != nil && takesJSON(item.Put) {
		if set.Writes.Replace = (&rest.WriteForm{Put: address}); set.Writes.Change == nil && item.Patch == nil {
			r.left("PUT "+path, "it gives a record as a whole: it adds or replaces one, and does not change a part")
		}
	}
	if item.Delete != nil {
		set.Writes.Remove = &rest.WriteForm{Delete: address}
	}
}

func takesJSON(op *openapi3.Operation) bool {
	return op.RequestBody != nil && op.RequestBody.Value != nil && op.RequestBody.Value.Content.Get("application/json") != nil
}

func responseOf(op *openapi3.Operation) *openapi3.Response {
	for _, status := range []int{http.StatusOK, http.StatusPartialContent} {
		if ref := op.Responses.Status(status); ref != nil && ref.Value != nil {
			return ref.Value
		}
	}
	if ref := op.Responses.Value("2XX"); ref != nil {
		return ref.Value
	}
	return nil
}

// answerOf returns the schema of the JSON that an operation answers with; nil if it does not say.
func answerOf(op *openapi3.Operation) *openapi3.Schema {
	response := responseOf(op)
	if response == nil {
		return nil
	}
	media := response.Content.Get("application/json")
	if media == nil || media.Schema == nil {
		return nil
	}
	return media.Schema.Value
}

// recordsOf returns the schema of the records that an answer has, and where they are; nil if it has
// none.
func recordsOf(s *openapi3.Schema) (records *openapi3.Schema, pick string) {
	s = whole(s, 0)
	if isSchema(s, "array") {
		if s.Items != nil && len(propertiesOf(s.Items.Value)) > 0 {
			return s.Items.Value, ""
		}
		return nil, ""
	}
	properties := propertiesOf(s)
	lists, name := 0, ""
	for property, ref := range properties {
		inner := whole(ref.Value, 0)
		if isSchema(inner, "array") && inner.Items != nil && len(propertiesOf(inner.Items.Value)) > 0 {
			lists++
			name = property
		}
	}
	if lists == 1 && isEnvelope(name, properties) {
		return whole(properties[name].Value, 0).Items.Value, "$" + member(name) + "[*]"
	}
	if data := properties["data"]; data != nil && len(properties) <= 3 && len(propertiesOf(data.Value)) > 0 {
		return data.Value, "$.data"
	}
	if len(properties) == 0 {
		return nil, ""
	}
	return s, ""
}

// isEnvelope reports whether an object is what a list comes in, and not a record that has one: it
// is called as such, or has nothing but what tells of the list.
func isEnvelope(list string, properties openapi3.Schemas) bool {
	if slices.Contains([]string{"results", "items", "data", "records", "values", "entries", "content"}, list) {
		return true
	}
	for name := range properties {
		word := strings.ToLower(strings.ReplaceAll(name, "_", ""))
		if name != list && !slices.Contains([]string{"total", "count", "next", "previous", "prev", "page", "pages", "limit", "offset", "nextcursor", "cursor", "links", "meta", "hasmore", "totalcount", "nextpagetoken"}, word) {
			return false
		}
	}
	return true
}

// nextOf returns where in an answer the cursor of the next page is; "" if it has none.
func nextOf(s *openapi3.Schema) string {
	for _, name := range []string{"next_cursor", "nextCursor", "next", "cursor", "nextPageToken", "next_page_token", "continuation"} {
		if s != nil && propertiesOf(s)[name] != nil {
			return "$" + member(name)
		}
	}
	return ""
}

func member(name string) string {
	for _, c := range name {
		if c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return "['" + strings.ReplaceAll(name, "'", `\'`) + "']"
		}
	}
	return "." + name
}

// maxDepth is how deep schemas are followed, which may lead in a circle.
const maxDepth = 5

// whole returns a schema with the properties of all that it is made of.
func whole(s *openapi3.Schema, depth int) *openapi3.Schema {
	if s == nil || depth > maxDepth || len(s.AllOf) == 0 {
		if s != nil && len(s.AllOf) == 0 && len(s.Properties) == 0 { // of several, the first that is not null
			for _, ref := range slices.Concat(s.OneOf, s.AnyOf) {
				if ref.Value != nil && !isSchema(ref.Value, "null") && depth <= maxDepth {
					return whole(ref.Value, depth+1)
				}
			}
		}
		return s
	}
	own := *s
	own.Properties, own.Required = openapi3.Schemas{}, slices.Clone(s.Required)
	for name, ref := range s.Properties {
		own.Properties[name] = ref
	}
	for _, part := range s.AllOf {
		if inner := whole(part.Value, depth+1); inner != nil {
			for name, ref := range inner.Properties {
				own.Properties[name] = ref
			}
			own.Required = append(own.Required, inner.Required...)
			if own.Type == nil {
				own.Type = inner.Type
			}
		}
	}
	return &own
}

func propertiesOf(s *openapi3.Schema) openapi3.Schemas {
	if s = whole(s, 0); s == nil {
		return nil
	}
	return s.Properties
}

func isSchema(s *openapi3.Schema, typ string) bool {
	return s != nil && s.Type != nil && s.Type.Includes(typ)
}

func isType(ref *openapi3.SchemaRef, typ string) bool { return ref != nil && isSchema(ref.Value, typ) }

// fieldsOf returns the fields of records, those of nested records by their paths. Lists of records
// are JSON, and noted.
func (r *reader) fieldsOf(set string, s *openapi3.Schema, prefix string, depth int) []rest.Field {
	s = whole(s, 0)
	var fields []rest.Field
	var names []string
	for name := range s.Properties {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		inner := whole(s.Properties[name].Value, 0)
		if inner == nil || strings.Contains(name, ".") {
			continue
		}
		f := rest.Field{Name: prefix + name, Nullable: !slices.Contains(s.Required, name) || inner.Nullable || isSchema(inner, "null")}
		switch {
		case len(propertiesOf(inner)) > 0 && !isSchema(inner, "array"):
			if depth < maxDepth {
				fields = append(fields, r.fieldsOf(set, inner, f.Name+".", depth+1)...)
			}
			continue
		case isSchema(inner, "array"):
			f.Kind = store.JSON
			if inner.Items != nil && len(propertiesOf(inner.Items.Value)) == 0 && kindOf(inner.Items.Value) != store.JSON {
				f.List, f.Kind = true, kindOf(inner.Items.Value)
			} else if inner.Items != nil && len(propertiesOf(inner.Items.Value)) > 0 {
				r.lists[set+"."+f.Name] = s.Properties[name]
			}
		default:
			f.Kind = kindOf(inner)
		}
		fields = append(fields, f)
	}
	return fields
}

// kindOf returns the kind of the values of a schema.
func kindOf(s *openapi3.Schema) store.Kind {
	switch s = whole(s, 0); {
	case isSchema(s, "string"):
		switch s.Format {
		case "date-time":
			return store.Time
		case "date":
			return store.Date
		case "time":
			return store.Clock
		case "uuid":
			return store.UUID
		}
		return store.Text
	case isSchema(s, "integer"):
		return store.Int
	case isSchema(s, "number"):
		return store.Float
	case isSchema(s, "boolean"):
		return store.Bool
	}
	return store.JSON
}

func hasField(set *rest.Set, name string) bool {
	return slices.ContainsFunc(set.Fields, func(f rest.Field) bool { return f.Name == name })
}

// fieldFor returns the field that a variable is: that of its name, or, where it says which record
// is meant, the one that is called as keys are; "" if none is.
func fieldFor(set *rest.Set, variable string, key bool) string {
	if hasField(set, variable) {
		return variable
	}
	if !key {
		return ""
	}
	if len(set.Key) == 1 {
		return set.Key[0]
	}
	for _, name := range []string{"id", "code", "key", "name", "slug"} {
		if strings.HasSuffix(strings.ToLower(variable), name) && hasField(set, name) {
			return name
		}
	}
	return ""
}

// variablesOf returns the variables of a path.
func variablesOf(path string) []string {
	var list []string
	for _, part := range strings.Split(path, "{")[1:] {
		name, _, _ := strings.Cut(part, "}")
		list = append(list, name)
	}
	return list
}
