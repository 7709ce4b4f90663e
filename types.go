package osprey

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"osprey/core/language"
	"osprey/core/schema"
)

// WithTypes adds the types of Go structs to the schema, as [Types] writes them.
func WithTypes(values ...any) Option {
	return func(s *settings) error {
		text, err := Types(values...)
		if err != nil {
			return err
		}
		s.add.Texts = append(s.add.Texts, schema.Text{Name: "(types of the program)", Body: text})
		return nil
	}
}

// Types writes Go structs as the types of a schema, with the structs that their
// fields refer to. A field has its name in JSON and its type:
//
//	string                    String!
//	bool                      Boolean!
//	int, int8, int16, int32   Int!
//	int64, uint32, uint64     Int64!
//	float32, float64          Float!
//	time.Time                 DateTime!
//	struct T                  T!
//	[]T                       [T]!, with T as above
//	*T                        T that may be null
//	map, any                  JSON
//
// Tags say the rest: type:"ID!" gives another type, about:"…" a description,
// and bind:"@related(here: …)" the directives. A field called _ has those of the
// type itself:
//
//	type Berth struct {
//		_      struct{} `about:"A place at a quay." bind:"@stored(in: \"registry\", as: \"berths\")"`
//		Number int      `json:"number" type:"ID!"`
//		Depth  *float64 `json:"depthM" about:"At low water."`
//	}
//
// What is written can be kept as a file of the folder schema/, or added to the
// schema as it is with [WithTypes].
func Types(values ...any) (string, error) {
	w := &typeWriter{done: map[string]reflect.Type{}}
	for _, v := range values {
		t := reflect.TypeOf(v)
		for t != nil && t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t == nil || t.Kind() != reflect.Struct {
			return "", fmt.Errorf("osprey: %T is no struct, and has no type in a schema", v)
		}
		w.later = append(w.later, t)
	}
	for i := 0; i < len(w.later); i++ {
		if err := w.object(w.later[i]); err != nil {
			return "", err
		}
	}
	src := language.NewSource("(types)", w.text.String())
	doc, problems := language.Parse(src)
	if problems.Failed() {
		return "", fmt.Errorf("osprey: a tag cannot be read: %s", problems[0].Msg)
	}
	return language.Tidy(doc), nil
}

type typeWriter struct {
	text  strings.Builder
	later []reflect.Type
	done  map[string]reflect.Type
}

// object writes the type of a struct, once.
func (w *typeWriter) object(t reflect.Type) error {
	name := t.Name()
	if known, ok := w.done[name]; ok {
		if known != t {
			return fmt.Errorf("osprey: %s and %s would both be the type %s", known, t, name)
		}
		return nil
	}
	if name == "" {
		return fmt.Errorf("osprey: %s has no name, and a type of a schema needs one", t)
	}
	w.done[name] = t
	var fields strings.Builder
	bind := ""
	for _, f := range reflect.VisibleFields(t) {
		if f.Name == "_" {
			writeDescription(&w.text, "", f.Tag.Get("about"))
			bind = " " + f.Tag.Get("bind")
			continue
		}
		field, ok := jsonName(&f)
		if !ok {
			continue
		}
		typ := f.Tag.Get("type")
		if typ == "" {
			var err error
			if typ, err = w.typeOf(f.Type); err != nil {
				return fmt.Errorf("osprey: %s.%s: %w", t, f.Name, err)
			}
		}
		writeDescription(&fields, "  ", f.Tag.Get("about"))
		fmt.Fprintf(&fields, "  %s: %s %s\n", field, typ, f.Tag.Get("bind"))
	}
	if fields.Len() == 0 {
		return fmt.Errorf("osprey: %s has no fields that can be seen", t)
	}
	fmt.Fprintf(&w.text, "type %s%s {\n%s}\n\n", name, bind, fields.String())
	return nil
}

// typeOf returns the type of values of a Go type.
func (w *typeWriter) typeOf(t reflect.Type) (string, error) {
	if t.Kind() == reflect.Pointer {
		inner, err := w.typeOf(t.Elem())
		return strings.TrimSuffix(inner, "!"), err
	}
	if t == reflect.TypeFor[time.Time]() {
		return "DateTime!", nil
	}
	switch t.Kind() {
	case reflect.String:
		return "String!", nil
	case reflect.Bool:
		return "Boolean!", nil
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Uint8, reflect.Uint16:
		return "Int!", nil
	case reflect.Int64, reflect.Uint32, reflect.Uint64:
		return "Int64!", nil
	case reflect.Float32, reflect.Float64:
		return "Float!", nil
	case reflect.Map, reflect.Interface:
		return "JSON", nil
	case reflect.Slice, reflect.Array:
		if t.Elem().Kind() == reflect.Uint8 {
			return "String!", nil // as encoding/json writes bytes
		}
		elem, err := w.typeOf(t.Elem())
		return "[" + elem + "]!", err
	case reflect.Struct:
		w.later = append(w.later, t)
		return t.Name() + "!", nil
	}
	return "", fmt.Errorf("values of %s have no type in a schema; give one with a tag such as type:\"String\"", t)
}

// writeDescription writes a description, if there is one.
func writeDescription(b *strings.Builder, indent, text string) {
	if text == "" {
		return
	}
	fmt.Fprintf(b, "%s%s\n", indent, language.PrintValue(&language.StringValue{Text: text}))
}
