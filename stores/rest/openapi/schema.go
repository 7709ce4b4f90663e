package openapi

import (
	"encoding/json"
	"slices"
	"strings"
)

// This file writes what lists of records are as a JSON Schema (2020-12), of which those of OpenAPI
// are a kind.

// kept are the keywords that say what values are; "nullable" is OpenAPI 3.0's own.
var kept = []string{"type", "properties", "items", "required", "enum", "format", "nullable", "description", "title", "allOf", "oneOf", "anyOf", "$ref", "maximum"}

// schema writes the schema of the lists that were noted.
func (r *reader) schema() {
	if len(r.lists) == 0 {
		return
	}
	defs := map[string]any{}
	if c := r.doc.Components; c != nil {
		for name, ref := range c.Schemas {
			defs[name] = plain(ref)
		}
	}
	for name, ref := range r.lists {
		defs[name] = plain(ref)
		r.service.Lists = append(r.service.Lists, name)
	}
	slices.Sort(r.service.Lists)
	text, err := json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "$defs": defs}, "", "  ")
	if err == nil {
		r.service.Schema = append(text, '\n')
	}
}

// plain returns a schema as JSON has it, with what is kept of it.
func plain(schema any) any {
	text, err := json.Marshal(schema)
	var v any
	if err != nil || json.Unmarshal(text, &v) != nil {
		return true // anything
	}
	return reduced(v, true)
}

// reduced leaves out what does not say what values are; of the names of properties, all are kept.
func reduced(v any, isSchema bool) any {
	switch v := v.(type) {
	case []any:
		for i := range v {
			v[i] = reduced(v[i], true)
		}
	case map[string]any:
		for name, inner := range v {
			_, isNumber := inner.(float64)
			switch {
			case isSchema && (!slices.Contains(kept, name) || name == "maximum" && !isNumber):
				delete(v, name)
			case name == "$ref" && isSchema:
				if ref, ok := inner.(string); ok {
					v[name] = strings.Replace(ref, "#/components/schemas/", "#/$defs/", 1)
				}
			case name == "enum" && isSchema:
			default:
				v[name] = reduced(inner, !isSchema || name != "properties")
			}
		}
	}
	return v
}
