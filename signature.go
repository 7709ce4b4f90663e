package osprey

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"osprey/core/scalar"
	"osprey/core/store"
)

// This file holds the Go types of a function against what a schema says.

// checkSignature compares the types of a function with what the schema says.
func checkSignature(s store.Signature, record, args, result reflect.Type) error {
	if s.Record == nil {
		s.Record = &store.ValueType{}
	}
	if err := takes("its record", s.Record, record); err != nil {
		return err
	}
	if err := takes("its arguments", s.Args, args); err != nil {
		return err
	}
	for _, a := range s.Args.Fields {
		if args.Kind() == reflect.Struct && fieldsOf(args)[a.Name] == nil {
			return fmt.Errorf("it does not take the argument %s", a.Name)
		}
	}
	return gives("its result", s.Result, result)
}

// takes reports whether what has the shape s can be read into a type.
func takes(what string, s *store.ValueType, t reflect.Type) error {
	if readsItself(t) {
		return nil
	}
	if t.Kind() == reflect.Pointer {
		return takes(what, &store.ValueType{Scalar: s.Scalar, Elem: s.Elem, Fields: s.Fields, Open: s.Open}, t.Elem())
	}
	if s.Nullable && !holdsNull(t) {
		return fmt.Errorf("%s may be null, and is %s; make it *%s", what, t, t)
	}
	switch {
	case t.Kind() == reflect.Interface && t.NumMethod() == 0:
		return nil
	case t.Kind() == reflect.Map && t.Key().Kind() == reflect.String && s.Scalar == "" && s.Elem == nil:
		for _, f := range s.Fields {
			if err := takes(f.Name+" of "+what, f, t.Elem()); err != nil {
				return err
			}
		}
		return nil
	case s.Elem != nil:
		if t.Kind() != reflect.Slice {
			return fmt.Errorf("%s is a list, and is read into %s", what, t)
		}
		return takes("an item of "+what, s.Elem, t.Elem())
	case s.Scalar != "":
		if !slices.Contains(scalarKinds(s.Scalar, t), t.Kind()) {
			return fmt.Errorf("%s is of the type %s, and cannot be read into %s", what, s.Scalar, t)
		}
		if wider, small := tooSmall[t.Kind()]; small {
			return fmt.Errorf("%s is of the type %s, not all values of which %s can hold; make it %s", what, s.Scalar, t, wider)
		}
		return nil
	case t.Kind() != reflect.Struct:
		return fmt.Errorf("%s is an object, and is read into %s", what, t)
	}
	for name, f := range fieldsOf(t) {
		i := slices.IndexFunc(s.Fields, func(s *store.ValueType) bool { return strings.EqualFold(s.Name, name) })
		if i < 0 {
			if s.Open {
				continue
			}
			return fmt.Errorf("%s has no %s, which %s.%s is read from; there are %s", what, name, t, f.Name, names(s.Fields))
		}
		if err := takes(s.Fields[i].Name+" of "+what, s.Fields[i], f.Type); err != nil {
			return err
		}
	}
	return nil
}

// gives reports whether what is written of a type has the shape s.
func gives(what string, s *store.ValueType, t reflect.Type) error {
	for t.Kind() == reflect.Pointer && !writesItself(t) {
		t = t.Elem()
	}
	if writesItself(t) || t.Kind() == reflect.Interface {
		return nil
	}
	switch {
	case s.Elem != nil:
		if t.Kind() != reflect.Slice && t.Kind() != reflect.Array {
			return fmt.Errorf("%s must be a list, and is %s", what, t)
		}
		return gives("an item of "+what, s.Elem, t.Elem())
	case s.Scalar != "":
		if !slices.Contains(scalarKinds(s.Scalar, t), t.Kind()) {
			return fmt.Errorf("%s must be of the type %s, and is %s", what, s.Scalar, t)
		}
		return nil
	case t.Kind() == reflect.Map:
		return nil
	case t.Kind() != reflect.Struct:
		return fmt.Errorf("%s must be an object, and is %s", what, t)
	}
	own := fieldsOf(t)
	for _, want := range s.Fields {
		f := own[want.Name]
		if f == nil {
			if want.Nullable {
				continue
			}
			return fmt.Errorf("%s has no %s, which is required", what, want.Name)
		}
		if err := gives(want.Name+" of "+what, want, f.Type); err != nil {
			return err
		}
	}
	return nil
}

// tooSmall has the kinds of numbers that cannot hold every Int or Float, and what can.
var tooSmall = map[reflect.Kind]string{
	reflect.Int8: "int32", reflect.Int16: "int32", reflect.Uint: "int", reflect.Uint8: "int32", reflect.Uint16: "int32", reflect.Uint32: "int64", reflect.Uint64: "int64",
	reflect.Float32: "float64",
}

// scalarKinds returns the kinds of Go types that can hold a scalar.
func scalarKinds(name string, t reflect.Type) []reflect.Kind {
	whole := []reflect.Kind{reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64}
	if s := scalar.Named(name); s != nil {
		switch s.Form {
		case scalar.AsWhole:
			return append(whole, reflect.Float64)
		case scalar.AsNumber:
			return []reflect.Kind{reflect.Float64, reflect.Float32}
		case scalar.AsTruth:
			return []reflect.Kind{reflect.Bool}
		case scalar.AsText:
			return []reflect.Kind{reflect.String}
		}
	}
	return []reflect.Kind{t.Kind()} // nobody knows how it is written
}

// holdsNull reports whether null in JSON can be told from other values.
func holdsNull(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Map, reflect.Interface:
		return true
	}
	return false
}

var (
	reader    = reflect.TypeFor[json.Unmarshaler]()
	writer    = reflect.TypeFor[json.Marshaler]()
	rawReader = reflect.TypeFor[json.RawMessage]()
)

func readsItself(t reflect.Type) bool {
	return t == rawReader || reflect.PointerTo(t).Implements(reader)
}

func writesItself(t reflect.Type) bool {
	return t.Implements(writer) || reflect.PointerTo(t).Implements(writer)
}

// fieldsOf returns the fields of a struct by their names in JSON.
func fieldsOf(t reflect.Type) map[string]*reflect.StructField {
	fields := map[string]*reflect.StructField{}
	for _, f := range reflect.VisibleFields(t) {
		if name, ok := jsonName(&f); ok {
			fields[name] = &f
		}
	}
	return fields
}

// jsonName returns the name of a field in JSON; false if it is not written. A
// field without a tag begins with a small letter, as fields of schemas do: JSON
// reads either.
func jsonName(f *reflect.StructField) (string, bool) {
	name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
	switch {
	case !f.IsExported(), name == "-", f.Anonymous && name == "":
		return "", false
	case name == "":
		return lowerFirst(f.Name), true
	}
	return name, true
}

// lowerFirst writes a Go name as fields are written: ID as id, LengthM as
// lengthM, URLPath as urlPath.
func lowerFirst(name string) string {
	capitals := 0
	for capitals < len(name) && name[capitals] >= 'A' && name[capitals] <= 'Z' {
		capitals++
	}
	if capitals > 1 && capitals < len(name) {
		capitals-- // the last begins the next word
	}
	return strings.ToLower(name[:capitals]) + name[capitals:]
}

func names(list []*store.ValueType) string {
	var all []string
	for _, s := range list {
		all = append(all, s.Name)
	}
	if len(all) == 0 {
		return "none"
	}
	return strings.Join(all, ", ")
}
