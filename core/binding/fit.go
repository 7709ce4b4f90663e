package binding

import (
	"fmt"

	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

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
