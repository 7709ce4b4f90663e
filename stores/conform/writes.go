package conform

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// WriteTypes are records that are written in all ways: by key, by another unique key, and by
// filter; with others that refer to them.
const WriteTypes = `type Query { things(filter: ThingFilter): [Thing!]! @read(sort: "id") }
type Mutation {
  add(thing: NewThing!): Thing @add
  addAll(things: [NewThing!]!): [Thing!] @add
  put(thing: PutThing!): Thing @add(replaces: "code")
  change(id: ID!, change: ThingChange!): Thing @change
  rename(code: String!, name: String): Thing @change
  swap(id: ID!, was: Int @at(path: "n"), n: Int): Thing @change(expect: "was")
  count(id: ID!, by: Int! @at(path: "n")): Thing @change(adjust: "by")
  changeAll(filter: ThingFilter!, name: String): Changed @change
  remove(id: ID!): Thing @remove
  removeAll(filter: ThingFilter!): Int @remove(of: "Thing")
}
input NewThing { id: ID! code: String! name: String n: Int parts: [NewPart!] }
input PutThing { id: ID! code: String! name: String n: Int }
input NewPart { id: ID! size: Int! }
type Changed { things: [Thing!]! ids: [ID!]! @at(path: "id") count: Int! }
type Thing @stored(in: "db", as: "things", key: "id") { id: ID! code: String! name: String n: Int parts: [Part!]! @related(here: "id", there: "thing", sort: "id") }
type Part @stored(in: "db", as: "parts", key: "id") { id: ID! size: Int! thing: Thing @related(here: "thing", there: "id") }`

// A thing is a record of the model.
type thing struct {
	ID    int
	Code  string
	Name  *string
	N     *int
	Parts []part
}

type part struct{ ID, Size int }

// shown is a thing as an answer and a store's own words have it.
func (x *thing) shown(parts bool) string {
	name, n := "null", "null"
	if x.Name != nil {
		text, _ := json.Marshal(*x.Name)
		name = string(text)
	}
	if x.N != nil {
		n = fmt.Sprint(*x.N)
	}
	text := fmt.Sprintf(`{"id":"%d","code":"%s","name":%s,"n":%s`, x.ID, x.Code, name, n)
	if parts {
		var list []string
		for _, p := range x.Parts {
			list = append(list, fmt.Sprintf(`{"id":"%d","size":%d}`, p.ID, p.Size))
		}
		text += `,"parts":[` + strings.Join(list, ",") + "]"
	}
	return text + "}"
}

// A model is what a store must hold.
type model struct {
	r      *rand.Rand
	things []*thing
	next   int
	// replaces says that records can be put.
	replaces bool
	whole    bool // as Written has it
	loose    bool // nothing but the id is unique
}

func (m *model) sorted() {
	slices.SortFunc(m.things, func(a, b *thing) int { return a.ID - b.ID })
}

func (m *model) find(fits func(*thing) bool) *thing {
	if i := slices.IndexFunc(m.things, fits); i >= 0 {
		return m.things[i]
	}
	return nil
}

// some returns the id of a record, mostly of one that is there.
func (m *model) some() int {
	if len(m.things) > 0 && m.r.IntN(6) > 0 {
		return m.things[m.r.IntN(len(m.things))].ID
	}
	return 100000 + m.r.IntN(5)
}

func (m *model) code() string { return fmt.Sprintf("c%d", m.r.IntN(14)) }

func (m *model) name() (*string, string) {
	names := []string{"a", "b", `q"uo'te`, "ü ⚓"}
	switch i := m.r.IntN(6); {
	case i < 4:
		text, _ := json.Marshal(names[i])
		return &names[i], string(text)
	default:
		return nil, "null"
	}
}

// newThing makes a record and what is given of it.
func (m *model) newThing(parts bool) (*thing, string) {
	m.next++
	x := &thing{ID: m.next, Code: m.code()}
	if m.r.IntN(12) == 0 && len(m.things) > 0 {
		x.ID = m.things[0].ID
	}
	given := fmt.Sprintf(`id: %d, code: "%s"`, x.ID, x.Code)
	if m.r.IntN(3) > 0 {
		name, text := m.name()
		x.Name, given = name, given+", name: "+text
	}
	if m.r.IntN(2) == 0 {
		n := m.r.IntN(5)
		x.N, given = &n, given+fmt.Sprintf(", n: %d", n)
	}
	if parts && m.whole && m.r.IntN(2) == 0 {
		var list []string
		for range m.r.IntN(4) {
			m.next++
			p := part{m.next, m.r.IntN(9)}
			x.Parts = append(x.Parts, p)
			list = append(list, fmt.Sprintf("{id: %d, size: %d}", p.ID, p.Size))
		}
		given += ", parts: [" + strings.Join(list, ", ") + "]"
	}
	return x, "{" + given + "}"
}

// same reports whether two records cannot both be there.
func (m *model) same(a, b *thing) bool { return a.ID == b.ID || a.Code == b.Code && !m.loose }

func (m *model) taken(x *thing) bool {
	return m.find(func(o *thing) bool { return m.same(o, x) }) != nil
}

// all is what is selected of each.
const all = " { id code name n parts { id size } }"

// step makes up an operation, does it to the model, and returns it with what its field must
// answer; "" for an error, after which nothing is done.
func (m *model) step() (op, want string) {
	shown := func(x *thing) string {
		if x == nil {
			return "null"
		}
		return x.shown(true)
	}
	switch m.r.IntN(10) {
	case 0, 1:
		x, given := m.newThing(true)
		op = "add(thing: " + given + ")" + all
		if m.taken(x) {
			return op, ""
		}
		m.things = append(m.things, x)
		return op, shown(x)
	case 2:
		var list, made []string
		var things []*thing
		broken := false
		for range m.r.IntN(4) {
			x, given := m.newThing(true)
			broken = broken || m.taken(x) || slices.ContainsFunc(things, func(o *thing) bool { return m.same(o, x) })
			things, list, made = append(things, x), append(list, given), append(made, shown(x))
		}
		op = "addAll(things: [" + strings.Join(list, ", ") + "])" + all
		switch {
		case broken && !m.whole:
			return op, "?" // those before are written
		case broken:
			return op, ""
		}
		m.things = append(m.things, things...)
		return op, "[" + strings.Join(made, ",") + "]"
	case 3:
		if !m.replaces {
			return m.step()
		}
		x, given := m.newThing(false)
		op = "put(thing: " + given + ")" + all
		is := m.find(func(o *thing) bool { return o.Code == x.Code })
		if m.loose { // it is put by its id
			if is = m.find(func(o *thing) bool { return o.ID == x.ID }); is != nil {
				is.Code = x.Code
			}
		}
		switch other := m.find(func(o *thing) bool { return o.ID == x.ID }); {
		case is == nil && other != nil || is != nil && other != nil && other != is:
			return op, "?" // which databases see differently: nothing is compared
		case is == nil:
			m.things = append(m.things, x)
			return op, shown(x)
		}
		if strings.Contains(given, "name:") {
			is.Name = x.Name
		}
		if x.N != nil {
			is.N = x.N
		}
		return op, shown(is)
	case 4:
		id := m.some()
		x := m.find(func(o *thing) bool { return o.ID == id })
		name, text := m.name()
		op = fmt.Sprintf("change(id: %d, change: {name: %s})", id, text) + all
		if x != nil {
			x.Name = name
		}
		return op, shown(x)
	case 5:
		if m.loose { // not found by its code
			return m.step()
		}
		code := m.code()
		x := m.find(func(o *thing) bool { return o.Code == code })
		name, text := m.name()
		if x != nil {
			x.Name = name
		}
		return fmt.Sprintf(`rename(code: "%s", name: %s)`, code, text) + all, shown(x)
	case 6:
		id, was, n := m.some(), m.r.IntN(5), m.r.IntN(5)
		x := m.find(func(o *thing) bool { return o.ID == id })
		op = fmt.Sprintf("swap(id: %d, was: %d, n: %d)", id, was, n) + all
		switch {
		case x == nil:
			return op, "null"
		case x.N == nil || *x.N != was:
			return op, ""
		}
		x.N = &n
		return op, shown(x)
	case 7:
		id, by := m.some(), m.r.IntN(7)-3
		x := m.find(func(o *thing) bool { return o.ID == id })
		if x != nil {
			sum := by
			if x.N != nil {
				sum += *x.N
			}
			x.N = &sum
		}
		return fmt.Sprintf("count(id: %d, by: %d)", id, by) + all, shown(x)
	case 8:
		n := m.r.IntN(5)
		name, text := m.name()
		m.sorted()
		var ids, list []string
		for _, x := range m.things {
			if x.N != nil && *x.N == n {
				x.Name = name
				ids, list = append(ids, fmt.Sprintf(`"%d"`, x.ID)), append(list, shown(x))
			}
		}
		return fmt.Sprintf("changeAll(filter: {n: {is: %d}}, name: %s) { ids count things", n, text) + all + " }",
			fmt.Sprintf(`{"ids":[%s],"count":%d,"things":[%s]}`, strings.Join(ids, ","), len(ids), strings.Join(list, ","))
	default:
		if m.r.IntN(2) == 0 {
			id := m.some()
			x := m.find(func(o *thing) bool { return o.ID == id })
			want = shown(x)
			m.drop(func(o *thing) bool { return o.ID == id })
			return fmt.Sprintf("remove(id: %d)", id) + all, want
		}
		code := m.code()
		before := len(m.things)
		m.drop(func(o *thing) bool { return o.Code == code })
		return fmt.Sprintf(`removeAll(filter: {code: {is: "%s"}})`, code), fmt.Sprint(before - len(m.things))
	}
}

// drop removes records. What refers to them stays, and belongs to nothing.
func (m *model) drop(fits func(*thing) bool) { m.things = slices.DeleteFunc(m.things, fits) }

// A Written is a store that is put to random writes.
type Written struct {
	// Whole says that it has transactions: several root fields can be one, records are added
	// with what refers to them, and a list is added as a whole.
	Whole    bool
	Replaces bool // put is among its fields
	// Loose says that nothing but the id is unique: put is by that, and nothing is found by code.
	Loose bool
	// State returns the store's records, each as JSON of id, code, name and n, in the order of
	// their ids, read past Osprey.
	State func() []string
}

// LooseTypes are [WriteTypes] of a store in which nothing but the id is unique.
var LooseTypes = strings.Replace(strings.Replace(WriteTypes, `replaces: "code"`, `replaces: "id"`, 1), "  rename(code: String!, name: String): Thing @change\n", "", 1)

// Writes asks random operations that write and read, one behind the other, some of them
// together in one mutation, and holds each answer, and after each what the store itself says,
// to a model in memory.
func (w Written) Writes(t *testing.T, e *Engine, seed uint64, steps int) {
	t.Helper()
	m := &model{r: rand.New(rand.NewPCG(seed, 16)), replaces: w.Replaces, whole: w.Whole, loose: w.Loose}
	for n := range steps {
		before := slices.Clone(m.things)
		for i, x := range before {
			c := *x
			before[i] = &c
		}
		count := 1
		if n%5 == 0 {
			count = 2 + m.r.IntN(3)
		}
		whole := w.Whole && count > 1 && m.r.IntN(2) == 0
		var fields, wants []string
		compare, failed := true, false
		for i := range count {
			if i > 0 && m.r.IntN(3) == 0 && !whole { // what comes before is seen by a read
				continue
			}
			op, want := m.step()
			if want == "?" {
				compare = false
			}
			failed = failed || want == ""
			fields, wants = append(fields, fmt.Sprintf("f%d: %s", i, op)), append(wants, want)
			if want == "" && whole {
				break
			}
		}
		if !compare { // nothing is asked
			m.things = before
			continue
		}
		op := "mutation { " + strings.Join(fields, " ") + " }"
		if whole {
			op = "mutation @transaction { " + strings.Join(fields, " ") + " }"
		}
		if whole && failed {
			m.things = before
		}
		o := e.Ask(t, op, nil)
		var answer map[string]json.RawMessage
		if err := json.Unmarshal([]byte(o.Data), &answer); err != nil {
			t.Fatalf("seed %d step %d: %s\ngives %s %v", seed, n, op, o.Data, o.Errors)
		}
		for i, want := range wants {
			name, _, _ := strings.Cut(fields[i], ":")
			got := string(answer[name])
			if want == "" || whole && failed {
				want = "null"
			}
			if got != want {
				t.Fatalf("seed %d step %d: %s\n%s gives %s %v\nwant     %s", seed, n, op, name, got, o.Errors, want)
			}
		}
		if failed != (len(o.Errors) > 0) {
			t.Fatalf("seed %d step %d: %s\ngives %s %v", seed, n, op, o.Data, o.Errors)
		}
		m.sorted()
		var want []string
		for _, x := range m.things {
			want = append(want, x.shown(false))
		}
		if got := w.State(); !slices.Equal(got, want) {
			t.Fatalf("seed %d step %d: %s\nthe store has\n%s\nwant\n%s", seed, n, op, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}
