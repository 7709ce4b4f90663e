package conform

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// A generator writes random operations on the suite's types.
type generator struct {
	r       *rand.Rand
	related bool // tests of related records, and sort keys of theirs
	depth   int
}

func (g *generator) pick(list ...string) string { return list[g.r.IntN(len(list))] }

func (g *generator) operation() string {
	var fields []string
	for i := range 1 + g.r.IntN(3) {
		fields = append(fields, fmt.Sprintf("f%d: ", i)+g.root())
	}
	return "{ " + strings.Join(fields, " ") + " }"
}

func (g *generator) root() string {
	switch g.r.IntN(6) {
	case 0:
		return "owners" + g.list("Owner") + g.owner()
	case 1:
		return "fleet" + g.paged() + g.connection()
	case 2:
		return g.pick("vesselCount", "longest", "first", "lengths", "mean") + "(filter: " + g.vesselFilter() + ")"
	}
	return "vessels" + g.list("Vessel") + g.vessel()
}

// list writes the arguments of a list.
func (g *generator) list(of string) string {
	var args []string
	if of == "Vessel" && g.r.IntN(3) > 0 {
		args = append(args, "filter: "+g.vesselFilter())
	}
	if of == "Owner" && g.r.IntN(3) == 0 {
		args = append(args, "filter: "+g.ownerFilter())
	}
	if g.r.IntN(2) == 0 {
		args = append(args, "sort: "+g.sort(of))
	}
	if g.r.IntN(2) == 0 {
		args = append(args, fmt.Sprintf("limit: %d", g.r.IntN(9)))
	}
	if g.r.IntN(4) == 0 {
		args = append(args, fmt.Sprintf("offset: %d", g.r.IntN(6)))
	}
	if len(args) == 0 {
		return ""
	}
	return "(" + strings.Join(args, ", ") + ")"
}

func (g *generator) paged() string {
	args := []string{fmt.Sprintf("%s: %d", g.pick("first", "last"), g.r.IntN(7))}
	if g.r.IntN(2) == 0 {
		args = append(args, "filter: "+g.vesselFilter())
	}
	if g.r.IntN(2) == 0 {
		args = append(args, "sort: "+g.sort("Vessel"))
	}
	return "(" + strings.Join(args, ", ") + ")"
}

func (g *generator) connection() string {
	count := ""
	if g.r.IntN(2) == 0 {
		count = "totalCount "
	}
	return " { " + count + "pageInfo { hasNextPage hasPreviousPage startCursor endCursor } edges { cursor node" + g.vessel() + " } }"
}

func (g *generator) vessel() string {
	fields := []string{"id"}
	for _, f := range []string{"code", "name", "length", "built", "seen", "active", "grade", "price", "big"} {
		if g.r.IntN(4) == 0 {
			fields = append(fields, f)
		}
	}
	if g.depth < 3 && g.r.IntN(3) == 0 {
		g.depth++
		fields = append(fields, "owner"+g.owner())
		g.depth--
	}
	if g.related && g.depth < 3 && g.r.IntN(3) == 0 {
		g.depth++
		switch g.r.IntN(3) {
		case 0:
			fields = append(fields, "crew"+g.list("Owner")+g.owner())
		case 1:
			fields = append(fields, fmt.Sprintf("crewPages(%s: %d) { totalCount edges { node%s } }", g.pick("first", "last"), g.r.IntN(3), g.owner()))
		default:
			fields = append(fields, "crewSize(filter: "+g.ownerFilter()+")")
		}
		g.depth--
	}
	return " { " + strings.Join(fields, " ") + " }"
}

func (g *generator) owner() string {
	fields := []string{"name"}
	if g.related && g.r.IntN(3) == 0 {
		fields = append(fields, "lengths(filter: "+g.vesselFilter()+")")
	}
	if g.related && g.depth < 3 && g.r.IntN(3) == 0 {
		g.depth++
		fields = append(fields, fmt.Sprintf("sails(filter: %s, limit: %d)%s", g.vesselFilter(), g.r.IntN(4), g.vessel()))
		g.depth--
	}
	if g.depth < 3 {
		g.depth++
		for i, n := 0, g.r.IntN(3); i < n; i++ {
			name := fmt.Sprintf("o%d: ", i)
			switch g.r.IntN(5) {
			case 0:
				fields = append(fields, name+"parent"+g.owner())
			case 1:
				fields = append(fields, name+"children"+g.owner())
			case 2:
				fields = append(fields, name+"fleet"+g.paged()+g.connection())
			case 3:
				fields = append(fields, name+"size(filter: "+g.vesselFilter()+")", "longest", "mean")
			default:
				fields = append(fields, name+"vessels"+g.list("Vessel")+g.vessel())
			}
		}
		g.depth--
	}
	return " { " + strings.Join(fields, " ") + " }"
}

func (g *generator) sort(of string) string {
	keys := map[string][]string{
		"Vessel": {"id", "code", "name", "length", "built", "seen", "active", "grade", "price", "big"},
		"Owner":  {"id", "name"},
	}[of]
	direction := func() string { return g.pick("ASC", "DESC", "ASC_NULLS_LAST", "DESC_NULLS_FIRST") }
	var list []string
	for range 1 + g.r.IntN(2) {
		if g.related && g.r.IntN(3) == 0 {
			list = append(list, map[string]string{"Vessel": "{owner: {parent: {name: ", "Owner": "{parent: {name: "}[of]+direction()+map[string]string{"Vessel": "}}}", "Owner": "}}"}[of])
			continue
		}
		list = append(list, "{"+g.pick(keys...)+": "+direction()+"}")
	}
	return "[" + strings.Join(list, ", ") + "]"
}

func (g *generator) ownerFilter() string {
	if g.related && g.depth < 5 && g.r.IntN(2) == 0 {
		g.depth += 2
		defer func() { g.depth -= 2 }()
		if g.r.IntN(3) == 0 {
			return "{parent: {" + g.pick("with", "without", "only") + ": " + g.ownerFilter() + "}}"
		}
		return "{vessels: {" + g.pick("with", "without", "only") + ": " + g.vesselFilter() + "}}"
	}
	return "{name: {" + g.pick(`contains: "A"`, `endsWith: "1"`, `above: "Owner B"`, `notIn: ["Owner B1", "Owner C2"]`) + "}}"
}

func (g *generator) vesselFilter() string {
	var tests []string
	for range 1 + g.r.IntN(2) {
		tests = append(tests, g.vesselTest())
	}
	seen := map[string]bool{}
	var kept []string
	for _, t := range tests {
		if name, _, _ := strings.Cut(t, ":"); !seen[name] {
			seen[name] = true
			kept = append(kept, t)
		}
	}
	return "{" + strings.Join(kept, ", ") + "}"
}

func (g *generator) vesselTest() string {
	if g.related && g.depth < 5 && g.r.IntN(6) == 0 {
		return "crew: {" + g.pick("with", "without", "only") + ": " + g.ownerFilter() + "}"
	}
	if g.related && g.depth < 5 && g.r.IntN(4) == 0 {
		return "owner: {" + g.pick("with", "without", "only") + ": " + g.ownerFilter() + "}"
	}
	switch g.r.IntN(12) {
	case 0, 1:
		if g.depth > 5 {
			break
		}
		g.depth += 2
		defer func() { g.depth -= 2 }()
		switch g.r.IntN(3) {
		case 0:
			return "not: " + g.vesselFilter()
		case 1:
			return "any: [" + g.vesselFilter() + ", " + g.vesselFilter() + "]"
		}
		return "all: [" + g.vesselFilter() + ", " + g.vesselFilter() + "]"
	case 2:
		return "name: {" + g.pick(`is: "tern"`, `isNot: "Aurora"`, `contains: "u"`, `startsWith: "A"`, `endsWith: "r"`, `missing: true`, `in: ["", "Été", "?"]`, `above: "a"`, `atMost: "Zephyr"`, `notIn: ["aurora", "Aurora "]`) + "}"
	case 3, 4:
		return fmt.Sprintf("length: {%s: %d}", g.pick("above", "below", "atLeast", "atMost", "is", "isNot"), 10+g.r.IntN(100))
	case 5:
		return fmt.Sprintf(`built: {%s: "2019-05-%02d"}`, g.pick("above", "below", "is", "isNot", "atMost"), 1+g.r.IntN(31))
	case 6:
		return fmt.Sprintf(`seen: {%s: "2019-05-%02dT10:00:00Z"}`, g.pick("above", "below", "atLeast"), 1+g.r.IntN(31))
	case 7:
		return "active: {" + g.pick("is: true", "is: false", "isNot: true", "missing: false", "is: null") + "}"
	case 8:
		return "grade: {" + g.pick("is: FIRST", "in: [SECOND, THIRD]", "notIn: [FIRST]", "isNot: null") + "}"
	case 9:
		return fmt.Sprintf(`price: {%s: "%d.%d5"}`, g.pick("above", "below", "is", "atLeast"), g.r.IntN(25), 1+g.r.IntN(9))
	case 10:
		return fmt.Sprintf("big: {%s: %q}", g.pick("above", "below", "is", "isNot"), g.pick("9007199254740993", "9007199254740992", "5", "-1"))
	}
	return fmt.Sprintf("id: {%s: [%d, %d]}", g.pick("in", "notIn"), g.r.IntN(90), g.r.IntN(90))
}
