package binding

import (
	"errors"
	"fmt"
	"slices"

	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// fitField chooses how a stored field serves a leaf type: as its own kind, or as
// another that the store can make of it. A field of which nothing is known is nil.
func fitField(t schema.Named, info *store.Field) (store.Kind, scalar.Codec, error) {
	if info == nil {
		return fit(t, store.Unknown)
	}
	kind, codec, err := fit(t, info.Kind)
	if err == nil {
		return kind, codec, nil
	}
	for _, also := range preferred(t) {
		if slices.Contains(info.Also, also) {
			return fit(t, also)
		}
	}
	return kind, codec, err
}

// fitCompared chooses how values that are given are compared with a stored field: inside
// JSON as texts, if their type is none that Osprey knows. A column of JSON is not
// compared as a whole.
func fitCompared(t schema.Named, info *store.Field) (store.Kind, scalar.Codec, error) {
	kind, codec, err := fitField(t, info)
	switch {
	case err != nil || kind != store.JSON || info == nil:
	case info.Column != "":
		if c, ok := scalar.Named("ID").Column(info.Usual()); ok {
			return c.Kind, c.Codec, nil
		}
	case info.Opens != nil:
		err = errors.New("JSON is not compared as a whole")
	}
	return kind, codec, err
}

// preferred are the kinds that a leaf type can be read from, the best first.
func preferred(t schema.Named) []store.Kind {
	if _, isEnum := t.(*schema.Enum); isEnum {
		return []store.Kind{store.Text}
	}
	var kinds []store.Kind
	if s := scalar.Named(t.String()); s != nil {
		for _, c := range s.Columns {
			kinds = append(kinds, c.Kind)
		}
	}
	return kinds
}

// valueOf returns a field, or what the items of a list are.
func valueOf(info *store.Field) *store.Field {
	if info == nil || info.Kind != store.List {
		return info
	}
	return &store.Field{Name: info.Name, Kind: info.Elem, Type: info.Type}
}

// fit chooses how a column of a kind serves a leaf type. An Unknown kind means
// that the store leaves the choice. It returns an error that says which types
// would fit.
func fit(t schema.Named, kind store.Kind) (store.Kind, scalar.Codec, error) {
	if _, ok := t.(*schema.Enum); ok {
		if kind == store.Unknown || kind == store.Text {
			return store.Text, scalar.EnumName, nil
		}
		return kind, scalar.NoCodec, fmt.Errorf("an enum needs text")
	}
	s := scalar.Named(t.String())
	if s == nil { // a scalar of the schema's own: any single value, as JSON
		s = scalar.Named("JSON")
		if own, is := t.(*schema.Scalar); is && own.Coding != nil {
			s = scalar.Named("ID") // as text
		}
	}
	if c, ok := s.Column(kind); ok {
		return c.Kind, c.Codec, nil
	}
	if natural := scalar.Natural(kind); natural != nil {
		return kind, scalar.NoCodec, fmt.Errorf("%s fits", natural.Name)
	}
	return kind, scalar.NoCodec, fmt.Errorf("no scalar can hold it")
}
