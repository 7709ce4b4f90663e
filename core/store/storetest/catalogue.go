// Package storetest has what tests of the engine need of a store: catalogues
// written as text, and a store in memory that works.
package storetest

import (
	"fmt"
	"strings"

	"osprey/core/store"
)

// Catalogue reads a catalogue from text: a line for each record set, with its
// name, a colon, and its fields as name kind. Behind a kind, "?" says that the
// value may be missing, "!" that the field is a key by itself, "+" that it is
// indexed, "~" that the store fills it and "^" that it computes it, and "=a|b" gives the
// values of an enum. A field "(a,b)!" is a key of
// several fields. "[kind]" is a list.
//
//	craft: imo int! name text+ draught int? craft_type text=cargo|tug
//	berths: quay text number int (quay,number)!
func Catalogue(text string) *store.Catalogue {
	c := &store.Catalogue{Sets: map[string]*store.Set{}}
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		name, rest, ok := strings.Cut(strings.TrimSpace(line), ":")
		if !ok {
			continue
		}
		set := &store.Set{Name: name, What: "table"}
		words := strings.Fields(rest)
		for i := 0; i < len(words); i++ {
			if fields, ok := strings.CutPrefix(words[i], "("); ok {
				key := strings.Split(strings.TrimRight(fields, ")!+"), ",")
				set.Index = append(set.Index, key)
				if strings.HasSuffix(words[i], "!") {
					set.Keys = append(set.Keys, key)
				}
				continue
			}
			set.Fields = append(set.Fields, field(set, words[i], words[i+1]))
			i++
		}
		c.Sets[name] = set
	}
	return c
}

func field(set *store.Set, name, word string) store.Field {
	f := store.Field{Name: name}
	word, values, _ := strings.Cut(word, "=")
	if values != "" {
		f.Values = strings.Split(values, "|")
	}
	kind := strings.TrimRight(word, "?!+~^")
	if inner, ok := strings.CutPrefix(kind, "["); ok {
		f.Kind = store.List
		f.Elem = mustKind(strings.TrimSuffix(inner, "]"))
	} else {
		f.Kind = mustKind(kind)
	}
	f.Type = kind
	if f.Kind == store.JSON {
		f.Opens = []store.Kind{store.Text, store.Int, store.Float, store.Bool}
	}
	f.Nullable = strings.Contains(word, "?")
	f.Filled, f.Generated = strings.Contains(word, "~"), strings.Contains(word, "^")
	if strings.Contains(word, "!") {
		set.Keys = append(set.Keys, []string{name})
		set.Index = append(set.Index, []string{name})
	}
	if strings.Contains(word, "+") {
		set.Index = append(set.Index, []string{name})
	}
	return f
}

func mustKind(word string) store.Kind {
	if word == "any" {
		return store.Unknown
	}
	k, ok := store.KindNamed(word)
	if !ok {
		panic(fmt.Sprintf("storetest: no kind %q", word))
	}
	return k
}
