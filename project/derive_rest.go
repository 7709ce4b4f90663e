package project

import (
	"regexp"
	"slices"
	"strings"

	"osprey/core/derive"
	"osprey/core/scaffold"
	"osprey/core/words"
)

// This file makes the fields by which the records of a service are read that it gives by some
// values alone:
//
//	get: /stations/{station}/events{?kind}     eventsOf(station: String!, kind: String): [Event!] @read

var templateVariable = regexp.MustCompile(`\{([?&]?)([^{}]*)\}`)

// restRoots returns a field of the query type for each resource of a service whose reads all need
// something.
func (p *Project) restRoots(source string, d *derive.Derived, known []scaffold.Field) []scaffold.Field {
	var fields []scaffold.Field
	for _, t := range d.Types {
		set, isRest := p.Config.Sources[source].Sets[t.Set]
		if !isRest || t.Set == "" || len(set.Reads) == 0 {
			continue
		}
		if slices.ContainsFunc(set.Reads, func(r ReadConfig) bool { return len(needed(r.Get)) == 0 }) {
			continue // it can be read as a whole
		}
		get := set.Reads[0].Get
		if len(t.Key) > 0 && !slices.ContainsFunc(needed(get), func(v string) bool { return !slices.Contains(t.Key, v) }) {
			continue // it is read by its key
		}
		var arguments []string
		for _, m := range templateVariable.FindAllStringSubmatch(get, -1) {
			for _, name := range strings.Split(m[2], ",") {
				name = strings.TrimSuffix(name, "*")
				i := slices.IndexFunc(t.Fields, func(f *derive.Field) bool { return f.Name == name })
				if i < 0 {
					continue
				}
				typ := strings.Trim(t.Fields[i].Type, "!")
				if m[1] == "" {
					typ += "!"
				}
				arguments = append(arguments, name+": "+typ)
			}
		}
		name := words.Plural(words.Lower(t.Name)) + "Of"
		if len(arguments) == 0 || slices.ContainsFunc(known, func(f scaffold.Field) bool { return f.Name == name }) {
			continue
		}
		text := "\"The " + words.Spoken(words.Plural(t.Name)) + " of what is given.\"\n" + name + "(" + strings.Join(arguments, ", ") + "): [" + t.Name + "!] @read"
		fields = append(fields, scaffold.Field{Root: "Query", Name: name, Text: text})
	}
	return fields
}

// needed returns the variables that an address must have.
func needed(get string) []string {
	var list []string
	for _, m := range templateVariable.FindAllStringSubmatch(get, -1) {
		if m[1] == "" {
			list = append(list, m[2])
		}
	}
	return list
}
