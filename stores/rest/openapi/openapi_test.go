package openapi_test

import (
	"fmt"
	"strings"
	"testing"

	"osprey/stores/rest/openapi"
)

// told writes a service on lines.
func told(s *openapi.Service) string {
	var lines []string
	for _, set := range s.Sets {
		var fields []string
		for _, f := range set.Fields {
			text := f.Name + " " + f.Kind.String()
			if f.List {
				text = f.Name + " [" + f.Kind.String() + "]"
			}
			if f.Nullable {
				text += "?"
			}
			fields = append(fields, text)
		}
		lines = append(lines, fmt.Sprintf("%s by %s: %s", set.Name, strings.Join(set.Key, ","), strings.Join(fields, ", ")))
		for _, r := range set.Reads {
			text := "  get " + r.Get
			for _, part := range []struct{ name, value string }{{"many", r.Many}, {"pick", r.Pick}, {"limit", r.Limit}, {"offset", r.Offset}} {
				if part.value != "" {
					text += " " + part.name + " " + part.value
				}
			}
			if r.Pages != nil {
				text += fmt.Sprintf(" pages %+v", *r.Pages)
			}
			lines = append(lines, text)
		}
		if set.Writes.Add != nil {
			lines = append(lines, "  add "+set.Writes.Add.Post)
		}
		if set.Writes.Replace != nil {
			lines = append(lines, "  replace "+set.Writes.Replace.Put)
		}
		if set.Writes.Change != nil {
			lines = append(lines, "  change "+set.Writes.Change.Patch)
		}
		if set.Writes.Remove != nil {
			lines = append(lines, "  remove "+set.Writes.Remove.Delete)
		}
	}
	for _, l := range s.Left {
		lines = append(lines, "left "+l)
	}
	return strings.Join(lines, "\n")
}

const head = "openapi: 3.0.3\ninfo: { title: Port, version: '1' }\npaths:\n"

// answers writes a response of 200 with a schema.
func answers(schema string) string {
	return `responses: { "200": { description: ok, content: { application/json: { schema: ` + schema + ` } } } }`
}

// TestRead reads documents of several kinds of services.
func TestRead(t *testing.T) {
	const boat = `{ type: object, required: [id, name], properties: { id: { type: integer }, name: { type: string }, built: { type: string, format: date }, length: { type: number }, tags: { type: array, items: { type: string } }, crew: { type: array, items: { type: object, properties: { who: { type: string } } } }, home: { type: object, required: [code], properties: { code: { type: string }, at: { type: object, properties: { x: { type: number } } } } } } }`
	const fields = "built date?, crew json?, home.at.x float?, home.code text, id int, length float?, name text, tags [text]?"
	for name, test := range map[string]struct{ text, want string }{
		"a list and one": {head + "  /boats: { get: { parameters: [{ name: name, in: query, schema: { type: string } }, { name: limit, in: query, schema: { type: integer } }, { name: offset, in: query, schema: { type: integer } }], " + answers("{ type: array, items: "+boat+" }") + " } }\n  /boats/{boatId}: { parameters: [{ name: boatId, in: path, required: true, schema: { type: integer } }], get: { " + answers(boat) + " }, patch: { requestBody: { content: { application/json: { schema: {} } } }, responses: { '204': { description: ok } } }, delete: { responses: { '204': { description: gone } } } }\n",
			"boats by id: " + fields + "\n  get /boats/{id}\n  get /boats{?name,limit,offset} limit limit offset offset\n  change /boats/{id}\n  remove /boats/{id}"},
		"an envelope with pages": {head + "  /boats: { post: { requestBody: { content: { application/json: { schema: {} } } }, responses: { '201': { description: made } } }, get: { parameters: [{ name: page, in: query, schema: { type: integer } }, { name: per_page, in: query, schema: { type: integer } }], " + answers("{ type: object, properties: { boats: { type: array, items: "+boat+" }, total: { type: integer } } }") + " } }\n",
			"boats by id: " + fields + "\n  get /boats{?page} pick $.boats[*] pages {Link:false Next: Cursor: Number:page First:0 Count: Most:0}\n  add /boats"},
		"a cursor": {head + "  /boats: { get: { parameters: [{ name: cursor, in: query, schema: { type: string } }], " + answers("{ type: object, properties: { items: { type: array, items: "+boat+" }, nextCursor: { type: string } } }") + " } }\n",
			"boats by id: " + fields + "\n  get /boats{?cursor} pick $.items[*] pages {Link:false Next:$.nextCursor Cursor:cursor Number: First:0 Count: Most:0}"},
		"many keys": {head + "  /boats: { get: { parameters: [{ name: id, in: query, schema: { type: array, items: { type: integer } } }], " + answers("{ type: array, items: "+boat+" }") + " } }\n",
			"boats by id: " + fields + "\n  get /boats{?id*} many id"},
		"in a circle": {head + "  /nodes: { get: { " + answers("{ type: array, items: { $ref: '#/components/schemas/Node' } }") + " } }\ncomponents: { schemas: { Node: { type: object, required: [id], properties: { id: { type: string, format: uuid }, up: { $ref: '#/components/schemas/Node' }, all: { allOf: [{ $ref: '#/components/schemas/Node' }, { properties: { extra: { type: boolean } } }] } } } } }\n", "nodes by id: "},
		"what is no record": {head + "  /count: { get: { " + answers("{ type: integer }") + " } }\n  /text: { get: { responses: { '200': { description: ok, content: { text/plain: { schema: { type: string } } } } } } }\n  /boats/{port}/all: { parameters: [{ name: port, in: path, required: true, schema: { type: string } }], get: { " + answers("{ type: array, items: "+boat+" }") + " } }\n",
			"left GET /boats/{port}/all: {port} is no field of its records\nleft GET /count: what it answers with is no record, nor a list of them\nleft GET /text: it does not say which JSON it answers with"},
	} {
		s, err := openapi.Read(t.Context(), []byte(test.text))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got := told(s); got != test.want && (name != "in a circle" || !strings.HasPrefix(got, test.want) || strings.Count(got, "\n") > 2) {
			t.Errorf("%s is read as\n%s\nwant\n%s", name, got, test.want)
		}
	}
	for _, text := range []string{"", "{", "openapi: 3.0.3", "swagger: '2.0'\npaths: {}", head + "  /x: { get: { responses: { '200': { $ref: '#/components/responses/None' } } } }", head + "  /x: { get: { responses: { '200': { $ref: 'file:///etc/passwd' } } } }"} {
		if _, err := openapi.Read(t.Context(), []byte(text)); err == nil || !strings.HasPrefix(err.Error(), "it is no sound OpenAPI 3 document: ") || strings.Contains(err.Error(), "root:") {
			t.Errorf("%q is read: %v", text, err)
		}
	}
}
