package conform

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// A World is a random schema with its records: types in several sources that
// refer to each other every which way.
type World struct {
	Types []*WorldType
}

// A WorldType is a type of a world. Its records have the fields id, name, n,
// any_kind and any_id, and one for each reference, all of which but id may be
// missing. All types are of the interface Item, and any is one of them. The
// source "calc" has a function about that is given a record. A record has lists,
// too: of keys, of nested records, and of lists of these, with nulls in them; a
// pair of values that is a key together, and a UUID, which each source stores in
// a form of its own.
type WorldType struct {
	Name, Source, Set string
	Refs              []WorldRef
	Pals              *WorldType // whose ids the list pal_ids holds, with nulls and twice the same
	Mates             *WorldType // that have the same p and q
	Inside            []string   // the fields that are inside the field doc, a document or JSON
	Told              bool       // the schema has fields for those of the references, too
	Records           []Record
	Rule              string // a directive that says who may see which records; or ""
	// Double is a directive that says of which records the field double may be seen; or "". Masked says that
	// the records have the field ok, which says it, in place of that.
	Double string
	Masked bool
}

// At returns the path of a field.
func (t *WorldType) At(field string) string {
	if slices.Contains(t.Inside, field) {
		return "doc." + field
	}
	return field
}

// nest moves the fields of a record that are inside another.
func (t *WorldType) nest(record Record) {
	doc := Record{}
	for _, field := range t.Inside {
		if v, given := record[field]; given {
			doc[field] = v
			delete(record, field)
		}
	}
	if len(doc) > 0 {
		record["doc"] = doc
	}
}

// A WorldRef is a reference to a type by the field that holds its id.
type WorldRef struct {
	Name, Field string
	To          *WorldType
	Required    bool // by the schema; a record may lack it all the same
}

// NewWorld makes a world whose types are in the sources, each of which gets at
// least one.
func NewWorld(r *rand.Rand, sources []string) *World {
	w := &World{}
	for i := range len(sources) + 1 + r.IntN(4) {
		source := sources[i%len(sources)]
		if i >= len(sources) {
			source = sources[r.IntN(len(sources))]
		}
		w.Types = append(w.Types, &WorldType{Name: fmt.Sprintf("T%d", i), Source: source, Set: fmt.Sprintf("t%d", i)})
	}
	for _, t := range w.Types {
		for i := range 1 + r.IntN(3) {
			t.Refs = append(t.Refs, WorldRef{Name: fmt.Sprintf("r%d", i), Field: fmt.Sprintf("r%d_id", i), To: w.Types[r.IntN(len(w.Types))], Required: r.IntN(5) == 0})
		}
	}
	for _, t := range w.Types {
		t.Pals = w.Types[r.IntN(len(w.Types))]
		// A remote service takes pairs one at a time.
		if t.Mates = w.Types[r.IntN(len(w.Types))]; t.Mates.Source == "rest" {
			t.Mates = nil
		}
	}
	for _, t := range w.Types {
		if t.Source == "rest" { // which is asked by fields of its records
			continue
		}
		// Texts inside JSON are in the order of the database, which need not be that of bytes.
		t.Told = r.IntN(2) == 0
		for _, field := range []string{"n", "name", "any_id", "any_kind", "p", "q", "uid", "r1_id", "r2_id"} {
			if r.IntN(4) == 0 && (field != "name" || t.Source != "postgres") && (field != "uid" || t.Source != "mongodb") {
				t.Inside = append(t.Inside, field)
			}
		}
	}
	for _, t := range w.Types {
		for id := 1; id <= 3+r.IntN(25); id++ {
			record := Record{"id": id}
			if r.IntN(5) > 0 {
				record["name"] = names[r.IntN(len(names))]
			}
			if r.IntN(5) > 0 {
				record["n"] = r.IntN(10)
			}
			if r.IntN(4) > 0 {
				record["any_id"] = 1 + r.IntN(20)
				record["any_kind"] = w.Types[r.IntN(len(w.Types))].Name
			}
			for _, ref := range t.Refs {
				if r.IntN(4) > 0 {
					record[ref.Field] = 1 + r.IntN(20)
				}
			}
			t.lists(r, record)
			t.nest(record)
			t.Records = append(t.Records, record)
		}
	}
	return w
}

// lists fills in what is a list, a pair or a UUID.
func (t *WorldType) lists(r *rand.Rand, record Record) {
	if r.IntN(4) > 0 {
		ids := []any{}
		for range r.IntN(5) {
			if id := any(1 + r.IntN(20)); r.IntN(5) > 0 {
				ids = append(ids, id)
			} else {
				ids = append(ids, nil)
			}
		}
		record["pal_ids"] = ids
	}
	if r.IntN(4) > 0 {
		record["p"], record["q"] = 1+r.IntN(3), names[r.IntN(3)]
	}
	if r.IntN(4) > 0 {
		record["uid"] = fmt.Sprintf("00000000-0000-4000-8000-%012d", r.IntN(12))
	}
	marks := func() any {
		list := []any{}
		for range r.IntN(4) {
			switch r.IntN(4) {
			case 0:
				list = append(list, nil)
			case 1:
				list = append(list, map[string]any{"label": names[r.IntN(len(names))]})
			default:
				list = append(list, map[string]any{"label": names[r.IntN(len(names))], "to_id": 1 + r.IntN(20)})
			}
		}
		return list
	}
	if r.IntN(4) > 0 {
		record["marks"] = marks()
	}
	if r.IntN(3) > 0 && t.Source != "mongodb" { // the demo's document server stores no lists of lists
		record["grid"] = []any{marks(), nil, marks()}[:r.IntN(4)]
	}
}

// Fields returns the fields of a type with their kinds, as [Fields] has them.
func (t *WorldType) Fields() [][2]string {
	fields := [][2]string{{"id", "int"}, {"name", "text?"}, {"n", "int?"}, {"any_id", "int?"}, {"any_kind", "text?"},
		{"p", "int?"}, {"q", "text?"}, {"uid", "uuid?"}, {"pal_ids", "[int]?"}, {"marks", "json?"}, {"grid", "json?"}}
	for _, ref := range t.Refs {
		fields = append(fields, [2]string{ref.Field, "int?"})
	}
	if t.Masked {
		fields = append(fields, [2]string{"ok", "bool"})
	}
	for i := range fields {
		fields[i][0] = t.At(fields[i][0])
	}
	return fields
}

// A worldList is the records that refer to one of a type.
type worldList struct {
	name string
	of   *WorldType
	ref  WorldRef
}

func (w *World) lists(to *WorldType) []worldList {
	var lists []worldList
	for _, t := range w.Types {
		for _, ref := range t.Refs {
			if ref.To == to {
				lists = append(lists, worldList{strings.ToLower(t.Name) + ref.Name, t, ref})
			}
		}
	}
	return lists
}

const (
	itemArguments     = "(filter: ItemFilter, sort: [ItemSort!], limit: Int, offset: Int)"
	itemPageArguments = "(first: Int, after: String, last: Int, before: String, filter: ItemFilter, sort: [ItemSort!])"
)

// Schema returns the types.
func (w *World) Schema() string {
	var b strings.Builder
	b.WriteString("type Query {\n")
	for _, t := range w.Types {
		fmt.Fprintf(&b, "  one%s(id: ID!): %s @read\n  all%s(filter: %sFilter, sort: [%sSort!], limit: Int, offset: Int): [%s] @read\n  pages%s(first: Int, last: Int, filter: %sFilter, sort: [%sSort!]): %sConnection! @read\n  count%s(filter: %sFilter): Int! @total(of: \"all%s\")\n",
			t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name, t.Name)
	}
	b.WriteString("  items" + itemArguments + ": [Item!]! @read\n  itemPages" + itemPageArguments + ": ItemConnection! @read\n}\ninterface Item { id: ID! name: String n: Int }\nunion Some = ")
	b.WriteString(w.Types[0].Name + " | " + w.Types[1].Name + " | " + w.Types[len(w.Types)-1].Name + "\n")
	b.WriteString("type Mark { label: String to: " + w.Types[0].Name + " @related(here: \"to_id\", there: \"id\") }\n")
	for _, t := range w.Types {
		fmt.Fprintf(&b, "type %s implements Item @stored(in: %q, as: %q, key: \"id\") %s{\n  id: ID!\n  name: String @at(path: %q)\n  n: Int @at(path: %q)\n", t.Name, t.Source, t.Set, t.Rule, t.At("name"), t.At("n"))
		fmt.Fprintf(&b, "  any: Item @related(here: %q, there: \"id\") @kind(by: %q)\n", t.At("any_id"), t.At("any_kind"))
		if t.Masked {
			b.WriteString("  ok: Boolean\n  double: Int @computed(expr: \"record.ok ? record.n * 2 : null\")\n")
		} else {
			fmt.Fprintf(&b, "  double: Int %s@computed(expr: \"record.n * 2\")\n", t.Double)
		}
		b.WriteString("  twice: Int @computed(expr: \"record.n * 2\")\n  size: Int @computed(expr: \"record.mentions.size() + record.twice\")\n")
		fmt.Fprintf(&b, "  about(n: Int = 1): String @computed(by: \"calc.about\", needs: \"id %s { name n } twice\")\n", t.Refs[0].Name)
		b.WriteString("  some(limit: Int, offset: Int): [Some!]! @related(here: \"id\", there: \"r0_id\", sort: [\"n desc\", \"id\"])\n")
		b.WriteString("  mentions" + itemArguments + ": [Item!]! @related(here: \"id\", there: \"r0_id\")\n")
		b.WriteString("  mentionPages" + itemPageArguments + ": ItemConnection! @related(here: \"id\", there: \"r0_id\")\n")
		const arguments = "(filter: %[1]sFilter, sort: [%[1]sSort!], limit: Int, offset: Int)"
		fmt.Fprintf(&b, "  palIds: [Int] @at(path: \"pal_ids\")\n  pals"+arguments+": [%[1]s!]! @related(here: \"pal_ids\", there: \"id\")\n  palcount: Int! @total(of: \"pals\")\n", t.Pals.Name)
		fmt.Fprintf(&b, "  palpages(first: Int, last: Int, filter: %[1]sFilter, sort: [%[1]sSort!]): %[1]sConnection! @related(here: \"pal_ids\", there: \"id\")\n", t.Pals.Name)
		fmt.Fprintf(&b, "  uid: UUID @at(path: %[2]q)\n  twins"+arguments+": [%[1]s!]! @related(here: %[2]q, there: %[3]q)\n  marks(limit: Int, offset: Int): [Mark]\n  grid: [[Mark]]\n", t.Pals.Name, t.At("uid"), t.Pals.At("uid"))
		if t.Mates != nil {
			fmt.Fprintf(&b, "  mates"+arguments+": [%[1]s!]! @related(here: [%[2]q, %[3]q], there: [%[4]q, %[5]q])\n", t.Mates.Name, t.At("p"), t.At("q"), t.Mates.At("p"), t.Mates.At("q"))
		}
		for _, from := range w.Types {
			if from.Pals == t {
				fmt.Fprintf(&b, "  in%[2]s"+arguments+": [%[1]s!]! @related(here: \"id\", there: \"pal_ids\")\n", from.Name, from.Name)
			}
		}
		for _, ref := range t.Refs {
			required := ""
			if ref.Required {
				required = "!"
			}
			fmt.Fprintf(&b, "  %s: %s%s @related(here: %q, there: \"id\")\n", ref.Name, ref.To.Name, required, t.At(ref.Field))
			if t.Told && t.At(ref.Field) != ref.Field {
				fmt.Fprintf(&b, "  %sKey: Int @at(path: %q)\n", ref.Name, t.At(ref.Field))
			}
		}
		for _, l := range w.lists(t) {
			fmt.Fprintf(&b, "  %s(filter: %sFilter, sort: [%sSort!], limit: Int, offset: Int): [%s] @related(here: \"id\", there: %q)\n", l.name, l.of.Name, l.of.Name, l.of.Name, l.of.At(l.ref.Field))
			fmt.Fprintf(&b, "  %spages(first: Int, last: Int, filter: %sFilter, sort: [%sSort!]): %sConnection! @related(here: \"id\", there: %q)\n", l.name, l.of.Name, l.of.Name, l.of.Name, l.of.At(l.ref.Field))
			fmt.Fprintf(&b, "  %scount(filter: %sFilter): Int! @total(of: %q)\n", l.name, l.of.Name, l.name)
		}
		b.WriteString("}\n")
	}
	return b.String()
}

// Operation returns a random operation.
func (w *World) Operation(r *rand.Rand) string {
	var fields []string
	for i := range 1 + r.IntN(2) {
		t := w.Types[r.IntN(len(w.Types))]
		alias := fmt.Sprintf("f%d: ", i)
		switch r.IntN(8) {
		case 7:
			fields = append(fields, alias+"all"+t.Name+"(limit: 5, sort: [{id: ASC}])"+w.deep(r, t, 9))
		case 5:
			fields = append(fields, alias+"items"+worldArguments(r)+w.items(r, 2))
		case 6:
			fields = append(fields, alias+"itemPages"+worldPage(r)+w.itemPage(r, 2))
		case 0:
			fields = append(fields, fmt.Sprintf("%sone%s(id: %d)%s", alias, t.Name, 1+r.IntN(12), w.selection(r, t, 4)))
		case 1:
			fields = append(fields, alias+"pages"+t.Name+worldPage(r)+w.page(r, t, 3))
		case 2:
			fields = append(fields, alias+"count"+t.Name+"(filter: "+worldFilter(r)+")")
		default:
			fields = append(fields, alias+"all"+t.Name+worldArguments(r)+w.selection(r, t, 4))
		}
	}
	return "{ " + strings.Join(fields, " ") + " }"
}

// deep returns a selection that goes on to related records, so many levels deep.
func (w *World) deep(r *rand.Rand, t *WorldType, levels int) string {
	if levels == 0 {
		return " { id name }"
	}
	ref := t.Refs[r.IntN(len(t.Refs))]
	if lists := w.lists(t); len(lists) > 0 && r.IntN(4) > 0 {
		l := lists[r.IntN(len(lists))]
		return fmt.Sprintf(" { id %s(limit: %d, sort: [{n: DESC}, {id: ASC}])%s }", l.name, 1+r.IntN(2), w.deep(r, l.of, levels-1))
	}
	return fmt.Sprintf(" { id %s%s }", ref.Name, w.deep(r, ref.To, levels-1))
}

func (w *World) selection(r *rand.Rand, t *WorldType, depth int) string {
	fields := []string{"id", "name"}
	switch r.IntN(7) {
	case 6:
		fields = append(fields, "double")
	case 0:
		fields = append(fields, "twice")
	case 1:
		fields = append(fields, "about")
	case 2:
		fields = append(fields, fmt.Sprintf("about(n: %d) twice", r.IntN(3)))
	case 3:
		if depth > 1 {
			fields = append(fields, "size")
		}
	}
	for i := 0; depth > 0 && i < 1+r.IntN(3); i++ {
		alias := fmt.Sprintf("a%d: ", i)
		if r.IntN(3) == 0 {
			fields = append(fields, alias+w.list(r, t, depth))
			continue
		}
		switch r.IntN(10) {
		case 0:
			fields = append(fields, alias+"mentions"+worldArguments(r)+w.items(r, depth-1))
			continue
		case 1:
			fields = append(fields, alias+"mentionPages"+worldPage(r)+w.itemPage(r, depth-1))
			continue
		case 2:
			fields = append(fields, alias+"any"+w.items(r, depth-1))
			continue
		case 3:
			fields = append(fields, fmt.Sprintf("%ssome(limit: %d, offset: %d) { __typename ... on Item { id n } ... on %s%s }", alias, r.IntN(5), r.IntN(2), w.Types[0].Name, w.selection(r, w.Types[0], depth-1)))
			continue
		}
		lists := w.lists(t)
		if len(lists) == 0 || r.IntN(2) == 0 {
			ref := t.Refs[r.IntN(len(t.Refs))]
			fields = append(fields, alias+ref.Name+w.selection(r, ref.To, depth-1))
			continue
		}
		switch l := lists[r.IntN(len(lists))]; r.IntN(4) {
		case 0:
			fields = append(fields, alias+l.name+"count(filter: "+worldFilter(r)+")")
		case 1:
			fields = append(fields, alias+l.name+"pages"+worldPage(r)+w.page(r, l.of, depth-1))
		default:
			fields = append(fields, alias+l.name+worldArguments(r)+w.selection(r, l.of, depth-1))
		}
	}
	return " { " + strings.Join(fields, " ") + " }"
}

// list returns a field that is made of lists, pairs or UUIDs.
func (w *World) list(r *rand.Rand, t *WorldType, depth int) string {
	switch r.IntN(8) {
	case 0:
		return "palcount palIds"
	case 1:
		return "palpages" + worldPage(r) + w.page(r, t.Pals, depth-1)
	case 2:
		return "twins" + worldArguments(r) + w.selection(r, t.Pals, depth-1)
	case 3:
		return fmt.Sprintf("marks(limit: %d, offset: %d) { label to", r.IntN(4), r.IntN(2)) + w.selection(r, w.Types[0], depth-1) + " } uid"
	case 4:
		return "grid { label to" + w.selection(r, w.Types[0], depth-1) + " }"
	case 5:
		if t.Mates != nil {
			return "mates" + worldArguments(r) + w.selection(r, t.Mates, depth-1)
		}
	case 6:
		for _, from := range w.Types {
			if from.Pals == t {
				return "in" + from.Name + worldArguments(r) + w.selection(r, from, depth-1)
			}
		}
	}
	return "pals" + worldArguments(r) + w.selection(r, t.Pals, depth-1)
}

func (w *World) page(r *rand.Rand, t *WorldType, depth int) string {
	return " { totalCount pageInfo { hasNextPage hasPreviousPage } edges { node" + w.selection(r, t, depth) + " } }"
}

// items returns what is selected of items of any type.
func (w *World) items(r *rand.Rand, depth int) string {
	switch r.IntN(3) {
	case 0:
		return " { __typename }"
	case 1:
		return " { __typename id }"
	}
	t := w.Types[r.IntN(len(w.Types))]
	return " { __typename name ... on " + t.Name + w.selection(r, t, depth) + " }"
}

func (w *World) itemPage(r *rand.Rand, depth int) string {
	return " { totalCount pageInfo { hasNextPage hasPreviousPage } edges { node" + w.items(r, depth) + " } }"
}

// Walk returns an operation that reads items by a random order: all of them, or
// with what it returns second a page at a time, as arguments first and after, or
// last and before.
func (w *World) Walk(r *rand.Rand) (whole, page string) {
	rest := "filter: " + worldFilter(r) + ", sort: " + worldSort(r)
	if r.IntN(4) == 0 {
		rest = "filter: {}"
	}
	owner, end := "", ""
	list, pages := "items", "itemPages"
	if r.IntN(2) == 0 {
		owner, end = fmt.Sprintf("one%s(id: %d) { ", w.Types[r.IntN(len(w.Types))].Name, 1+r.IntN(3)), " }"
		list, pages = "mentions", "mentionPages"
	}
	whole = "{ " + owner + list + "(" + rest + ") { __typename id }" + end + " }"
	page = "{ " + owner + pages + "(%s, " + rest + ") { pageInfo { startCursor endCursor hasNextPage hasPreviousPage } edges { cursor node { __typename id } } }" + end + " }"
	return whole, page
}

func worldFilter(r *rand.Rand) string {
	return "{" + []string{`n: {above: 4}`, `n: {in: [1, 3, 5, 7]}`, `name: {contains: "r"}`, `name: {missing: true}`, `not: {n: {atMost: 6}}`, `any: [{n: {is: 2}}, {name: {startsWith: "A"}}]`, `id: {notIn: [1, 2, 3]}`}[r.IntN(7)] + "}"
}

func worldSort(r *rand.Rand) string {
	return "[{" + []string{"n", "name", "id"}[r.IntN(3)] + ": " + []string{"ASC", "DESC", "ASC_NULLS_LAST", "DESC_NULLS_FIRST"}[r.IntN(4)] + "}]"
}

func worldArguments(r *rand.Rand) string {
	args := []string{fmt.Sprintf("limit: %d", 1+r.IntN(6))}
	if r.IntN(2) == 0 {
		args = append(args, "sort: "+worldSort(r))
	}
	if r.IntN(3) == 0 {
		args = append(args, "filter: "+worldFilter(r))
	}
	if r.IntN(5) == 0 {
		args = append(args, fmt.Sprintf("offset: %d", r.IntN(3)))
	}
	if r.IntN(4) == 0 {
		args = args[1:]
	}
	if len(args) == 0 {
		return ""
	}
	return "(" + strings.Join(args, ", ") + ")"
}

func worldPage(r *rand.Rand) string {
	page := fmt.Sprintf("(%s: %d", []string{"first", "last"}[r.IntN(2)], r.IntN(4))
	if r.IntN(2) == 0 {
		page += ", sort: " + worldSort(r)
	}
	if r.IntN(3) == 0 {
		page += ", filter: " + worldFilter(r)
	}
	return page + ")"
}
