package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"
)

// column makes a column of values written as text.
func column(kind Kind, values ...string) *Column {
	c := &Column{Kind: kind}
	for _, v := range values {
		if v == "-" {
			c.AppendNull()
		} else {
			c.appendString(v)
		}
	}
	return c
}

func TestKeysAreEqualByValue(t *testing.T) {
	same := [][]*Column{
		{column(Text, "42"), column(Int, "42"), column(Float, "42"), column(Decimal, "42")},
		{column(Text, "-7"), column(Int, "-7"), column(Float, "-7.0")},
		{column(UUID, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"), column(Text, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f")},
	}
	for _, group := range same {
		first, _ := AppendKey(nil, group[0], 0)
		for _, c := range group[1:] {
			if key, ok := AppendKey(nil, c, 0); !ok || string(key) != string(first) {
				t.Errorf("the key of %s is %q, that of %s %q", c.Kind, key, group[0].Kind, first)
			}
		}
	}
	if _, ok := AppendKey(nil, column(Int, "-"), 0); ok {
		t.Errorf("null has a key")
	}
	rowKey := func(a, b string) []byte {
		t := Table{Columns: []Column{*column(Text, a), *column(Text, b)}}
		key, _ := t.AppendKey(nil, []int{0, 1}, 0)
		return key
	}
	for _, two := range [][4]string{{"a", "bc", "ab", "c"}, {"a\x00", "b", "a", "\x00b"}, {"a\x01", "b", "a", "\x01b"}, {"a", "\x00\x01", "a\x00", "\x01"}, {"\x00", "", "", "\x00"}, {"\x01\x01", "\x02", "\x00", "\x02"}} {
		if a, b := rowKey(two[0], two[1]), rowKey(two[2], two[3]); string(a) == string(b) {
			t.Errorf("%q have the same key %q", two, a)
		}
	}
	if half, _ := AppendKey(nil, column(Float, "1.5"), 0); string(half) != "1.5\x00" {
		t.Errorf("the key of 1.5 is %q", half)
	}
}

// TestAppendAs converts values; "!" means that there is no such value.
func TestAppendAs(t *testing.T) {
	for _, test := range []struct {
		from  Kind
		value string
		to    Kind
		want  string
	}{
		{Text, "42", Int, "42"}, {Text, "4x", Int, "!"}, {Text, "99999999999999999999", Int, "!"}, {Int, "42", Text, "42"}, {Float, "42", Int, "42"}, {Float, "1.5", Int, "!"},
		{Int, "3", Float, "3"}, {Text, "1.5", Float, "1.5"}, {Text, "x", Float, "!"}, {Text, "2026-03-01", Date, "2026-03-01"}, {Text, "2026-13-01", Date, "!"},
		{Text, "2026-03-01T06:00:00Z", Time, "2026-03-01T06:00:00Z"}, {Text, "2026-03-01T06:00:00+02:00", Time, "2026-03-01T04:00:00Z"}, {Time, "2026-03-01T06:00:00Z", Text, "2026-03-01T06:00:00Z"},
		{Date, "2026-03-01", Text, "2026-03-01"}, {Text, "08:30:00", Clock, "08:30:00"}, {Text, "true", Bool, "true"}, {Text, "yes", Bool, "!"}, {Bool, "true", Int, "!"},
		{Text, "0196F2A1-7C3E-7B7E-9D0C-5A8B1C2D3E4F", UUID, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"}, {Text, "0196f2a1", UUID, "!"}, {Text, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4g", UUID, "!"},
		{Text, "12.50", Decimal, "12.50"}, {Int, "-", Text, "-"}, {Float, "0.1", Text, "0.1"},
	} {
		from := column(test.from, test.value)
		to := &Column{Kind: test.to}
		got := "!"
		if to.AppendAs(from, 0) {
			got = show(to, 0)
		} else if to.Len() != 0 {
			t.Errorf("%s %q as %s adds a row and says it did not", test.from, test.value, test.to)
		}
		if got != test.want {
			t.Errorf("%s %q as %s is %s, want %s", test.from, test.value, test.to, got, test.want)
		}
	}
}

// TestMeet holds every pair of kinds of keys: values that are the same meet as
// [Column.AppendAs] makes them, in both directions, or the kinds are said never to.
func TestMeet(t *testing.T) {
	same := [][]struct {
		kind  Kind
		value string
	}{
		{{Int, "42"}, {Float, "42"}, {Decimal, "42.00"}, {Decimal, "4.2e1"}, {Text, "42"}},
		{{Float, "-1.5"}, {Decimal, "-1.500"}, {Text, "-1.5"}},
		{{Int, "9223372036854775807"}, {Decimal, "9223372036854775807"}, {Text, "9223372036854775807"}},
		{{UUID, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"}, {Binary, "\x01\x96\xf2\xa1\x7c\x3e\x7b\x7e\x9d\x0c\x5a\x8b\x1c\x2d\x3e\x4f"}},
		{{UUID, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"}, {Text, "0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"}},
		{{Binary, "\x00\xffkey"}, {Text, "AP9rZXk="}},
		{{Time, "2026-03-01T06:00:00Z"}, {Text, "2026-03-01T06:00:00Z"}},
		{{Date, "2026-03-01"}, {Text, "2026-03-01"}},
		{{Clock, "08:30:00"}, {Text, "08:30:00"}},
		{{Bool, "true"}, {Text, "true"}},
	}
	meet := map[[2]Kind]bool{}
	key := func(from *Column, as Kind) string {
		to := &Column{Kind: as}
		if !to.AppendAs(from, 0) {
			return "none"
		}
		text, _ := AppendKey(nil, to, 0)
		return string(text)
	}
	for _, values := range same {
		for _, a := range values {
			for _, b := range values {
				meet[[2]Kind{a.kind, b.kind}] = true
				if x, y := key(column(a.kind, a.value), b.kind), key(column(b.kind, b.value), b.kind); x != y || !Meet(a.kind, b.kind) {
					t.Errorf("%s %q is %q as %s, and the same there is %q; Meet says %t", a.kind, a.value, x, b.kind, y, Meet(a.kind, b.kind))
				}
			}
		}
	}
	for a := Bool; a <= Record; a++ {
		for b := Bool; b <= Record; b++ {
			if a != b && Meet(a, b) != meet[[2]Kind{a, b}] {
				t.Errorf("Meet(%s, %s) is %t", a, b, Meet(a, b))
			}
		}
	}
}

// show writes a value as tests expect it.
func show(c *Column, row int) string {
	if c.Null[row] {
		if why, bad := c.Bad[row]; bad {
			return "bad: " + why
		}
		return "-"
	}
	switch c.Kind {
	case Int:
		return fmt.Sprint(c.Ints[row])
	case Bool:
		return fmt.Sprint(c.Ints[row] != 0)
	case Float:
		return fmt.Sprint(c.Floats[row])
	case Time:
		return FormatTime(c.Ints[row])
	case Date:
		return FormatDate(c.Ints[row])
	case Clock:
		return string(AppendClock(nil, c.Ints[row]))
	case List:
		var items []string
		start, end := c.Items(row)
		for i := start; i < end; i++ {
			items = append(items, show(c.Elem, i))
		}
		return "[" + strings.Join(items, " ") + "]"
	case Record:
		var cells []string
		for j := range c.Rows.Columns {
			cells = append(cells, show(&c.Rows.Columns[j], row))
		}
		return "{" + strings.Join(cells, " ") + "}"
	}
	return string(c.At(row))
}

// TestAppendJSON reads JSON of every shape as every kind.
func TestAppendJSON(t *testing.T) {
	record := Wanted{Kind: Record, Fields: []Wanted{{Path: "a", Kind: Int}, {Path: "b.c", Kind: Text}}}
	records := Wanted{Kind: List, Elem: &record}
	lists := Wanted{Kind: List, Elem: &records}
	list := Wanted{Kind: List, Elem: &Wanted{Kind: Int}}
	for _, test := range []struct {
		wanted     Wanted
		json, want string
	}{
		{Wanted{Kind: Int}, `1`, "1"}, {Wanted{Kind: Int}, `1.0`, "1"}, {Wanted{Kind: Int}, `1.5`, "bad: expected a whole number, found 1.5"}, {Wanted{Kind: Int}, `1e999`, "bad: expected a whole number, found 1e999"}, {Wanted{Kind: Float}, `1e999`, "bad: 1e999 is beyond the numbers of 64 bits"}, {Wanted{Kind: Int}, `"7"`, "7"},
		{Wanted{Kind: Int}, `18446744073709551615`, "bad: expected a whole number, found 18446744073709551615"}, {Wanted{Kind: Int}, `9223372036854775807`, "9223372036854775807"}, {Wanted{Kind: Int}, `-9223372036854775808`, "-9223372036854775808"}, {Wanted{Kind: Int}, `-0`, "0"}, {Wanted{Kind: Int}, `1e3`, "1000"}, {Wanted{Kind: Int}, `1e18`, "bad: expected a whole number, found 1e18"},
		{Wanted{Kind: Float}, `1e-999`, "0"}, {Wanted{Kind: Float}, `1.7976931348623157e308`, "1.7976931348623157e+308"}, {Wanted{Kind: Decimal}, `1e999`, "1e999"}, {Wanted{Kind: Decimal}, `0.1000000000000000055511151231257827`, "0.1000000000000000055511151231257827"}, {Wanted{Kind: Decimal}, `"NaN"`, "bad: expected a number, found text"}, {Wanted{Kind: Text}, `1e999`, "1e999"}, {Wanted{Kind: Text}, `18446744073709551615`, "18446744073709551615"}, {Wanted{Kind: Text}, `""`, ""}, {Wanted{Kind: JSON}, `18446744073709551615`, "18446744073709551615"},
		{Wanted{Kind: Int}, `true`, "bad: expected a whole number, found true or false"}, {Wanted{Kind: Int}, `null`, "-"}, {Wanted{Kind: Float}, `1e3`, "1000"}, {Wanted{Kind: Float}, `"x"`, "bad: expected a number, found text"},
		{Wanted{Kind: Text}, `"é"`, "é"}, {Wanted{Kind: Text}, `12`, "12"}, {Wanted{Kind: Text}, `true`, "true"}, {Wanted{Kind: Text}, `{}`, "bad: expected text, found an object"}, {Wanted{Kind: Text}, `[]`, "bad: expected text, found a list"},
		{Wanted{Kind: Bool}, `true`, "true"}, {Wanted{Kind: Bool}, `"false"`, "false"}, {Wanted{Kind: Bool}, `1`, "bad: expected true or false, found 1"},
		{Wanted{Kind: Time}, `"2026-03-01T06:00:00.5Z"`, "2026-03-01T06:00:00.5Z"}, {Wanted{Kind: Time}, `"soon"`, "bad: expected a moment, found text"}, {Wanted{Kind: Date}, `"2026-03-01T23:00:00Z"`, "2026-03-01"},
		{Wanted{Kind: Decimal}, `12.50`, "12.50"}, {Wanted{Kind: JSON}, `{"a": [1, null]}`, `{"a":[1,null]}`}, {Wanted{Kind: JSON}, `null`, "-"},
		{list, `[1, null, "x"]`, "[1 - bad: expected a whole number, found text]"}, {list, `[]`, "[]"}, {list, `1`, "bad: expected a list, found a number"},
		{record, `{"a": 1, "b": {"c": "x"}}`, "{1 x}"}, {record, `{"b": 5}`, "{- -}"}, {record, `[1]`, "bad: expected an object, found a list"}, {record, `null`, "-"},
		{records, `[{"a": 1}, {"b.c": "dotted"}]`, "[{1 -} {- dotted}]"}, {records, `{"a": 2}`, "bad: expected a list, found an object"}, {records, `[]`, "[]"}, {records, `[{"a": 1}, null, 1, {"a": 2}]`, "[{1 -} - bad: expected an object, found a number {2 -}]"},
		{lists, `[[{"a": 1}], null, [], [null, {"a": 2}], {"a": 3}]`, "[[{1 -}] - [] [- {2 -}] bad: expected a list, found an object]"},
	} {
		d := json.NewDecoder(strings.NewReader(test.json))
		d.UseNumber()
		var v any
		if err := d.Decode(&v); err != nil {
			t.Fatal(err)
		}
		table := NewTable([]Wanted{test.wanted})
		c := &table.Columns[0]
		c.AppendNull() // so that the row is not the first
		c.AppendJSON(&test.wanted, v)
		if got := show(c, 1); got != test.want || c.Len() != 2 {
			t.Errorf("%s as %s is %q, want %q", test.json, test.wanted.Kind, got, test.want)
		}
	}
}

func TestColumnsKeepStep(t *testing.T) {
	for _, kind := range []Kind{Bool, Int, Float, Text, Decimal, Time, Date, Clock, UUID, JSON, Binary} {
		c := column(kind, "-", "-")
		c.AppendBad("why")
		if c.Len() != 3 || c.Bad[2] != "why" {
			t.Errorf("%s has %d rows", kind, c.Len())
		}
		other := &Column{Kind: kind}
		for row := range 3 {
			other.AppendFrom(c, row)
		}
		if other.Len() != 3 || other.Bad[2] != "why" {
			t.Errorf("the copy of %s has %d rows and %v", kind, other.Len(), other.Bad)
		}
	}
}

func TestMoments(t *testing.T) {
	for _, text := range []string{"1969-12-31T23:59:59.999999Z", "0001-01-01T00:00:00Z", "2026-03-01T06:00:00Z", "9999-12-31T23:59:59Z"} {
		micros, ok := ParseMoment(Time, text)
		if !ok || FormatTime(micros) != text {
			t.Errorf("%s reads back as %s", text, FormatTime(micros))
		}
	}
	for _, text := range []string{"1969-12-31", "0001-01-01", "2024-02-29"} {
		days, ok := ParseMoment(Date, text)
		if !ok || FormatDate(days) != text {
			t.Errorf("%s reads back as %s", text, FormatDate(days))
		}
	}
	if _, ok := ParseMoment(Date, "2023-02-29"); ok {
		t.Errorf("2023-02-29 is a day")
	}
	if micros, ok := ParseMoment(Clock, "23:59:59.5"); !ok || string(AppendClock(nil, micros)) != "23:59:59.5" {
		t.Errorf("23:59:59.5 reads back as %s", AppendClock(nil, micros))
	}
}

func TestKindNames(t *testing.T) {
	for k := Bool; k <= Record; k++ {
		if got, ok := KindNamed(k.String()); !ok || got != k {
			t.Errorf("KindNamed(%q) = %v, %t", k, got, ok)
		}
	}
	if _, ok := KindNamed("unknown"); ok {
		t.Errorf("unknown is a kind")
	}
}

func TestSets(t *testing.T) {
	s := &Set{Fields: []Field{{Name: "id"}, {Name: "a.b"}}, Keys: [][]string{{"id"}, {"x", "y"}}, Index: [][]string{{"id"}, {"p", "q"}}}
	if !s.Unique([]string{"z", "id"}) || !s.Unique([]string{"y", "x"}) || s.Unique([]string{"x"}) || s.Unique(nil) {
		t.Errorf("Unique is wrong")
	}
	if !s.Indexed([]string{"p"}) || s.Indexed([]string{"q"}) {
		t.Errorf("Indexed is wrong")
	}
	if !s.Nested("a") || s.Nested("a.b") || s.Field("a.b") == nil || s.Field("a") != nil {
		t.Errorf("Nested or Field is wrong")
	}
}

// TestFail sorts the errors of drivers.
func TestFail(t *testing.T) {
	cancelled, cancel := context.WithCancel(context.Background())
	cancel()
	late, stop := context.WithTimeout(context.Background(), time.Nanosecond)
	defer stop()
	<-late.Done()
	now := context.Background()
	own := &Error{Code: BadValue, Msg: "own"}
	for _, test := range []struct {
		ctx  context.Context
		err  error
		want Code
	}{
		{now, &net.OpError{Op: "dial", Err: errors.New("refused")}, Down}, {now, errors.New("odd"), BadAnswer}, {now, context.DeadlineExceeded, Timeout},
		{late, errors.New("odd"), Timeout}, {cancelled, errors.New("odd"), Cancelled}, {now, fmt.Errorf("wrapped: %w", own), BadValue}, {now, &net.DNSError{IsTimeout: true}, Timeout},
	} {
		if got := Fail(test.ctx, test.err, "message"); got.Code != test.want {
			t.Errorf("Fail(%v) = %s, want %s", test.err, got.Code, test.want)
		}
	}
	if e := NotReady(own); !errors.Is(e, own) || strings.Contains(e.Msg, "own") || !strings.Contains(e.Error(), "own") {
		t.Errorf("NotReady tells %q to callers and %q to the log", e.Msg, e)
	}
}
