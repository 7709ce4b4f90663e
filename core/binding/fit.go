package binding

import (
	"fmt"

	"osprey/core/schema"
	"osprey/core/store"
)

// A Codec is how a stored value is written into an answer: chosen once, by the
// kind of the column and the scalar of the field.
type Codec uint8

const (
	NoCodec       Codec = iota
	Quoted              // bytes as a JSON string
	Number              // a whole number within 64 bits
	Number32            // a whole number that must be within 32 bits (Int)
	Fraction            // a float; NaN and infinities are errors
	Truth               // true or false
	QuotedInt           // a whole number as a JSON string (ID, Int64)
	NumberAsFloat       // a whole number where Float is wanted
	FloatAsNumber       // a float that must be whole and within 32 bits
	DecimalAsIs         // decimal text as a JSON number
	MomentText          // Time as RFC 3339
	DateText            // Date as 2006-01-02
	DayOfMoment         // Time as the day it falls on in UTC
	ClockText           // Clock as 15:04:05
	RawJSON             // JSON as it is stored
	EnumName            // a stored spelling as the enum's name
	Base64              // binary data as text
)

// codecs has, for each scalar, the kinds of columns that can serve it. The
// first kind is the one asked for where the store does not say its own.
var codecs = map[string][]struct {
	kind  store.Kind
	codec Codec
}{
	"ID":      {{store.Text, Quoted}, {store.Int, QuotedInt}, {store.UUID, Quoted}, {store.Decimal, Quoted}},
	"String":  {{store.Text, Quoted}, {store.UUID, Quoted}, {store.Decimal, Quoted}, {store.Date, DateText}, {store.Time, MomentText}, {store.Clock, ClockText}, {store.Int, QuotedInt}, {store.Binary, Base64}},
	"Int":     {{store.Int, Number32}, {store.Float, FloatAsNumber}},
	"Float":   {{store.Float, Fraction}, {store.Int, NumberAsFloat}, {store.Decimal, DecimalAsIs}},
	"Boolean": {{store.Bool, Truth}},
	"Int64":   {{store.Int, QuotedInt}},
	"Decimal": {{store.Decimal, Quoted}, {store.Int, QuotedInt}, {store.Text, Quoted}},

	"DateTime": {{store.Time, MomentText}},
	"Date":     {{store.Date, DateText}, {store.Time, DayOfMoment}},
	"Time":     {{store.Clock, ClockText}},
	"Duration": {{store.Text, Quoted}},
	"UUID":     {{store.UUID, Quoted}, {store.Text, Quoted}},
	"URL":      {{store.Text, Quoted}},
	"JSON":     {{store.JSON, RawJSON}, {store.Text, Quoted}, {store.Int, Number}, {store.Float, Fraction}, {store.Bool, Truth}, {store.Decimal, DecimalAsIs}},
}

// fit chooses how a column of a kind serves a leaf type. An Unknown kind means
// that the store leaves the choice. It returns an error that says which types
// would fit.
func fit(t schema.Named, kind store.Kind) (store.Kind, Codec, error) {
	if _, ok := t.(*schema.Enum); ok {
		if kind == store.Unknown || kind == store.Text {
			return store.Text, EnumName, nil
		}
		return kind, NoCodec, fmt.Errorf("an enum needs text")
	}
	list, ok := codecs[t.String()]
	if !ok { // a scalar of the schema's own: any single value, as JSON
		list = codecs["JSON"]
		if own, is := t.(*schema.Scalar); is && own.Coding != nil {
			list = codecs["ID"] // as text
		}
	}
	if kind == store.Unknown {
		return list[0].kind, list[0].codec, nil
	}
	for _, c := range list {
		if c.kind == kind {
			return kind, c.codec, nil
		}
	}
	if name, ok := natural[kind]; ok {
		return kind, NoCodec, fmt.Errorf("%s fits", name)
	}
	return kind, NoCodec, fmt.Errorf("no scalar can hold it")
}

// natural has the scalar that holds a kind as it is, for hints.
var natural = map[store.Kind]string{
	store.Bool: "Boolean", store.Int: "Int", store.Float: "Float", store.Text: "String", store.Decimal: "Decimal", store.Time: "DateTime",
	store.Date: "Date", store.Clock: "Time", store.UUID: "UUID", store.JSON: "JSON", store.Binary: "String",
}
