package scalar

import (
	"net/url"
	"time"

	"osprey/core/expression"
	"osprey/core/store"
)

// scalars is the table. In its order, the predeclared ones come first.
var scalars = []Scalar{
	{
		Name: "Int", Example: "5", Predeclared: true, Description: "A signed whole number of at most 32 bits.",
		Parse: parseInt, Form: AsWhole, Ordered: true, Holds: expression.Int, Typed: wholeOf,
		Natural: []store.Kind{store.Int},
		Columns: []Column{{store.Int, Number32}, {store.Float, FloatAsNumber}},
	},
	{
		Name: "Float", Example: "1.5", Predeclared: true, Description: "A signed number with a fraction, in double precision (IEEE 754).",
		Parse: parseFloat, Form: AsNumber, Ordered: true, Holds: expression.Float,
		Natural: []store.Kind{store.Float},
		Columns: []Column{{store.Float, Fraction}, {store.Int, NumberAsFloat}, {store.Decimal, DecimalAsIs}},
	},
	{
		Name: "String", Example: "\"text\"", Predeclared: true, Description: "Text in Unicode.",
		Parse: texts("a string", func(string) bool { return true }), Form: AsText, Ordered: true, Searched: true, Holds: expression.Text,
		Natural: []store.Kind{store.Text, store.Binary},
		Columns: []Column{{store.Text, Quoted}, {store.UUID, Quoted}, {store.Decimal, Quoted}, {store.Date, DateText}, {store.Time, MomentText}, {store.Clock, ClockText}, {store.Int, QuotedInt}, {store.Binary, Base64}},
	},
	{
		Name: "Boolean", Example: "true", Predeclared: true, Description: "true or false.",
		Parse: parseBoolean, Form: AsTruth, Holds: expression.Bool,
		Natural: []store.Kind{store.Bool},
		Columns: []Column{{store.Bool, Truth}},
	},
	{
		Name: "ID", Example: "\"9100112\"", Predeclared: true, Description: "An identifier: written as text, given as text or a whole number, not meant to be read by people.",
		Parse: parseID, Form: AsText, Holds: expression.Text,
		Columns: []Column{{store.Text, Quoted}, {store.Int, QuotedInt}, {store.UUID, Quoted}, {store.Decimal, Quoted}},
	},
	{
		Name: "DateTime", Example: "\"2026-03-01T08:30:00Z\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc3339", Description: "A moment: date, time and offset, as in 2026-03-01T08:30:00Z.",
		Parse: texts("a moment such as \"2026-03-01T08:30:00Z\"", isTime(time.RFC3339Nano)), Form: AsText, Ordered: true, Holds: expression.Moment, Typed: momentOf,
		Natural: []store.Kind{store.Time},
		Columns: []Column{{store.Time, MomentText}},
	},
	{
		Name: "Date", Example: "\"2026-03-01\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc3339", Description: "A day, as in 2026-03-01.",
		Parse: texts("a day such as \"2026-03-01\"", isTime(time.DateOnly)), Form: AsText, Ordered: true, Holds: expression.Moment, Typed: momentOf,
		Natural: []store.Kind{store.Date},
		Columns: []Column{{store.Date, DateText}, {store.Time, DayOfMoment}},
	},
	{
		Name: "Time", Example: "\"08:30:00\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc3339", Description: "A time of day, as in 08:30:00.",
		Parse: texts("a time of day such as \"08:30:00\"", isTime("15:04:05.999999999")), Form: AsText, Ordered: true, Holds: expression.Text,
		Natural: []store.Kind{store.Clock},
		Columns: []Column{{store.Clock, ClockText}},
	},
	{
		Name: "Duration", Example: "\"PT36H\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc3339#appendix-A", Description: "A length of time, as in PT36H or P3D.",
		Parse: texts("a length of time such as \"PT36H\"", matches(durationForm)), Form: AsText, Holds: expression.Text,
		Columns: []Column{{store.Text, Quoted}},
	},
	{
		Name: "UUID", Example: "\"6f2c1b3e-8a4d-4e7f-9b0a-1c2d3e4f5a6b\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc9562", Description: "A universally unique identifier.",
		Parse: texts("a UUID such as \"0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f\"", matches(uuidForm)), Form: AsText, Holds: expression.Text,
		Natural: []store.Kind{store.UUID},
		Columns: []Column{{store.UUID, Quoted}, {store.Text, Quoted}},
	},
	{
		Name: "URL", Example: "\"https://port.example/\"", SpecifiedBy: "https://url.spec.whatwg.org/", Description: "An absolute address.",
		Parse: texts("an address such as \"https://example.org/a\"", func(s string) bool {
			u, err := url.Parse(s)
			return err == nil && u.Scheme != ""
		}), Form: AsText, Holds: expression.Text,
		Columns: []Column{{store.Text, Quoted}},
	},
	{
		Name: "JSON", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc8259", Description: "Any JSON value.",
		Parse: func(v any) (any, error) { return v, nil }, Form: AsAny, Holds: expression.Any,
		Natural: []store.Kind{store.JSON},
		Columns: []Column{{store.JSON, RawJSON}, {store.Text, Quoted}, {store.Int, Number}, {store.Float, Fraction}, {store.Bool, Truth}, {store.Decimal, DecimalAsIs}},
	},
	{
		Name: "Decimal", Example: "\"12.50\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc8259#section-6", Description: "An exact number of any size, written as text, as in \"12.50\".",
		Parse: parseDecimal, Form: AsText, Ordered: true, Holds: expression.Float, Typed: numberOf,
		Natural: []store.Kind{store.Decimal},
		Columns: []Column{{store.Decimal, Quoted}, {store.Int, QuotedInt}, {store.Text, Quoted}},
	},
	{
		Name: "Int64", Example: "\"9007199254740993\"", SpecifiedBy: "https://www.rfc-editor.org/rfc/rfc8259#section-6", Description: "A signed whole number of at most 64 bits, written as text.",
		Parse: parseInt64, Form: AsText, Ordered: true, Holds: expression.Int, Typed: wholeOf,
		Columns: []Column{{store.Int, QuotedInt}},
	},
}
