package execute

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"strconv"
	"testing"

	"osprey/core/plan"
	"osprey/core/scalar"
	"osprey/core/store"
)

// TestAppendFloat compares with the shortest form of the standard library,
// for numbers as they are stored and for any bits.
func TestAppendFloat(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	numbers := []float64{0, math.Copysign(0, -1), 0.1, 0.3, 161.7, 1e21, 1e-7, 999999999999.999, 1e12, 0.0005, 0.001, 1.0005, 123456789.125, -2.5, 5e-324, math.MaxFloat64}
	for range 200_000 {
		numbers = append(numbers, float64(r.Int64N(1e15))/1000, -float64(r.IntN(1e6))/10, float64(r.IntN(1e6))/1e4, math.Float64frombits(r.Uint64()))
	}
	for _, v := range numbers {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			continue
		}
		format := byte('f')
		if a := math.Abs(v); a != 0 && (a < 1e-6 || a >= 1e21) {
			format = 'e'
		}
		if got, want := string(AppendFloat(nil, v)), strconv.FormatFloat(v, format, -1, 64); got != want {
			t.Fatalf("%b is written %s, want %s", v, got, want)
		}
	}
}

// TestMoments writes moments and days at the edges of what RFC 3339 can write, and
// nothing beyond.
func TestMoments(t *testing.T) {
	day := int64(24 * 3600 * 1_000_000)
	for _, test := range []struct {
		codec scalar.Codec
		kind  store.Kind
		value int64
		want  string
	}{
		{scalar.MomentText, store.Time, 253402300799999999, `"9999-12-31T23:59:59.999999Z"`}, {scalar.MomentText, store.Time, 253402300800000000, ""}, {scalar.MomentText, store.Time, -62167219200000000, `"0000-01-01T00:00:00Z"`},
		{scalar.MomentText, store.Time, -62167219200000001, ""}, {scalar.MomentText, store.Time, math.MaxInt64, ""}, {scalar.MomentText, store.Time, math.MinInt64, ""}, {scalar.DayOfMoment, store.Time, 253402300799999999, `"9999-12-31"`},
		{scalar.DayOfMoment, store.Time, math.MinInt64, ""}, {scalar.DateText, store.Date, 2932896, `"9999-12-31"`}, {scalar.DateText, store.Date, 2932897, ""}, {scalar.DateText, store.Date, -62167219200000000 / day, `"0000-01-01"`},
		{scalar.DateText, store.Date, -62167219200000000/day - 1, ""}, {scalar.DateText, store.Date, math.MaxInt32, ""},
	} {
		c := store.Column{Kind: test.kind}
		c.AppendInt(test.value)
		got, why := appendCoded(nil, &plan.Field{Codec: test.codec}, &c, 0)
		if string(got) != test.want || (why == "") != (test.want != "") {
			t.Errorf("%d by codec %d is %s (%s), want %s", test.value, test.codec, got, why, test.want)
		}
	}
}

// FuzzQuoted holds that every text is written as JSON that reads back as the
// text, or as its valid part.
func FuzzQuoted(f *testing.F) {
	for _, text := range []string{"", "Amber", `a"b\c`, "tab\tnewline\nbell\a", "é", "\xff", "a\xffé\xc3", "\u2028", "\x00"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var got, want string
		quoted := appendQuoted(nil, text)
		if err := json.Unmarshal(quoted, &got); err != nil {
			t.Fatalf("%q is written %s: %v", text, quoted, err)
		}
		for _, r := range string(text) {
			want += string(r) // what is no UTF-8 becomes U+FFFD
		}
		if got != want {
			t.Errorf("%q is written %s, which is %q", text, quoted, got)
		}
	})
}
