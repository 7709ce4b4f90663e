package demo

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"
)

// This file answers operations on the harbour by walking the made-up records
// one by one: slow, without stores, and simple enough to be believed. The
// engine's answers are compared with it.

// An oracle knows the harbour.
type oracle struct {
	port   *port
	fields map[string]map[string]oracleField // by type and field
}

// An oracleField is one field: its value for a record, and what it leads to.
type oracleField struct {
	leaf func(v any) any
	// to returns records of the type target; many says that there is a list.
	to     func(v any, a arguments) []any
	target string
	many   bool
	// args makes up arguments.
	args func(r *rand.Rand) arguments
}

// arguments are the arguments of a field as they are written.
type arguments map[string]any

func (a arguments) String() string {
	if len(a) == 0 {
		return ""
	}
	var parts []string
	for name, v := range a {
		parts = append(parts, fmt.Sprintf("%s: %v", name, v))
	}
	slices.Sort(parts)
	return "(" + strings.Join(parts, ", ") + ")"
}

// page cuts a list as limit and offset say.
func (a arguments) page(list []any, limit int) []any {
	if n, ok := a["offset"].(int); ok {
		list = list[min(n, len(list)):]
	}
	if n, ok := a["limit"].(int); ok {
		limit = n
	}
	if limit >= 0 {
		list = list[:min(limit, len(list))]
	}
	return list
}

func pages(r *rand.Rand, offset bool) arguments {
	a := arguments{}
	if r.IntN(2) == 0 {
		a["limit"] = r.IntN(12)
	}
	if offset && r.IntN(4) == 0 {
		a["offset"] = r.IntN(5)
	}
	return a
}

// where returns pointers to the records that fit, in their order.
func where[T any](list []T, fits func(*T) bool) []any {
	var found []any
	for i := range list {
		if fits(&list[i]) {
			found = append(found, &list[i])
		}
	}
	return found
}

// by sorts records, equal ones in the order they have.
func by[T any, K cmp.Ordered](list []any, desc bool, key func(*T) K) []any {
	slices.SortStableFunc(list, func(a, b any) int {
		c := cmp.Compare(key(a.(*T)), key(b.(*T)))
		if desc {
			return -c
		}
		return c
	})
	return list
}

func text[T any](get func(*T) any) oracleField {
	return oracleField{leaf: func(v any) any { return get(v.(*T)) }}
}

func orNil[T any](p *T) any {
	if p == nil {
		return nil
	}
	return *p
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }

var purposes = map[string]string{"load": "LOADING", "unload": "UNLOADING", "bunker": "BUNKERING", "passengers": "PASSENGERS", "repair": "REPAIR"}

func newOracle(p *port) *oracle {
	o := &oracle{port: p, fields: map[string]map[string]oracleField{}}
	o.craftFields()
	o.callFields()
	o.documentFields()
	o.tideFields()
	o.roots()
	return o
}

// pick makes an argument of one of some values.
func pick(r *rand.Rand, name string, values ...any) arguments {
	return arguments{name: values[r.IntN(len(values))]}
}

func merge(a, b arguments) arguments {
	for name, v := range b {
		a[name] = v
	}
	return a
}

func (o *oracle) roots() {
	p := o.port
	direction := func(r *rand.Rand, fields ...string) arguments {
		if r.IntN(2) == 0 {
			return nil
		}
		return arguments{"sort": fmt.Sprintf("[{%s: %s}]", fields[r.IntN(len(fields))], []string{"ASC", "DESC"}[r.IntN(2)])}
	}
	o.fields["Query"] = map[string]oracleField{
		"craft": {target: "Craft", to: func(_ any, a arguments) []any {
			return where(p.craft, func(c *craft) bool { return fmt.Sprint(c.imo) == a["imo"] })
		}, args: func(r *rand.Rand) arguments { return arguments{"imo": fmt.Sprint(9100000 + 7*r.IntN(620))} }},
		"fleet": {target: "Craft", many: true, args: func(r *rand.Rand) arguments { return merge(pages(r, true), direction(r, "name", "lengthM", "builtOn")) },
			to: func(_ any, a arguments) []any {
				list := where(p.craft, func(*craft) bool { return true })
				desc := strings.Contains(fmt.Sprint(a["sort"]), "DESC")
				switch s := fmt.Sprint(a["sort"]); {
				case strings.Contains(s, "name"):
					by(list, desc, func(c *craft) string { return c.name })
				case strings.Contains(s, "lengthM"):
					by(list, desc, func(c *craft) float64 { return c.length })
				case strings.Contains(s, "builtOn"):
					by(list, desc, func(c *craft) int64 {
						if c.built == nil {
							return -1 << 62
						}
						return c.built.Unix()
					})
				}
				return a.page(list, 20)
			}},
		"tankers": {target: "Tanker", many: true, args: func(r *rand.Rand) arguments { return merge(pages(r, false), pick(r, "doubleHull", true, false)) },
			to: func(_ any, a arguments) []any {
				return a.page(where(p.craft, func(c *craft) bool { return c.kind == "tanker" && *c.doubleHull == a["doubleHull"] }), 20)
			}},
		"operators": {target: "Operator", many: true, args: func(r *rand.Rand) arguments {
			return merge(pages(r, true), arguments{"country": fmt.Sprintf("[%q, %q]", countries[r.IntN(len(countries))], "Nowhere")})
		}, to: func(_ any, a arguments) []any {
			return a.page(where(p.operators, func(x *operator) bool { return strings.Contains(fmt.Sprint(a["country"]), `"`+x.country+`"`) }), 20)
		}},
		"portCalls": {target: "PortCall", many: true, args: func(r *rand.Rand) arguments {
			a := merge(pages(r, true), direction(r, "arrivedAt"))
			if r.IntN(2) == 0 {
				a = merge(a, pick(r, "purpose", "LOADING", "REPAIR", "PASSENGERS"))
			}
			return a
		}, to: func(_ any, a arguments) []any {
			list := where(p.calls, func(c *portCall) bool { return a["purpose"] == nil || purposes[c.purpose] == a["purpose"] })
			if s := fmt.Sprint(a["sort"]); a["sort"] != nil {
				by(list, strings.Contains(s, "DESC"), func(c *portCall) int64 { return c.arrived.Unix() })
			}
			return a.page(list, 25)
		}},
		"portCall": {target: "PortCall", args: func(r *rand.Rand) arguments { return arguments{"id": r.IntN(4100)} },
			to: func(_ any, a arguments) []any {
				return where(p.calls, func(c *portCall) bool { return int(c.id) == a["id"] })
			}},
		"quays": {target: "Quay", many: true, to: func(any, arguments) []any { return where(p.quays, func(*quay) bool { return true }) }},
		"pilot": {target: "Pilot", args: func(r *rand.Rand) arguments {
			return arguments{"licence": fmt.Sprintf("%q", fmt.Sprintf("SK-%03d", 100+7*r.IntN(65)))}
		},
			to: func(_ any, a arguments) []any {
				return where(p.pilots, func(x *pilot) bool { return fmt.Sprintf("%q", x.licence) == a["licence"] })
			}},
		"stations": {target: "TideStation", many: true, to: func(any, arguments) []any { return where(stations, func(*station) bool { return true }) }},
		"station": {target: "TideStation", args: func(r *rand.Rand) arguments { return pick(r, "code", `"SKE"`, `"LUN"`, `"ZZZ"`) },
			to: func(_ any, a arguments) []any {
				return where(stations, func(s *station) bool { return fmt.Sprintf("%q", s.Code) == a["code"] })
			}},
	}
}

func (o *oracle) craftFields() {
	p := o.port
	craftLeaf := text[craft]
	all := map[string]oracleField{
		"imo": craftLeaf(func(c *craft) any { return fmt.Sprint(c.imo) }), "name": craftLeaf(func(c *craft) any { return c.name }),
		"lengthM": craftLeaf(func(c *craft) any { return c.length }), "draughtDm": craftLeaf(func(c *craft) any { return orNil(c.draught) }),
		"builtOn": craftLeaf(func(c *craft) any {
			if c.built == nil {
				return nil
			}
			return c.built.Format(time.DateOnly)
		}),
		"operator": {target: "Operator", to: func(v any, _ arguments) []any {
			return where(p.operators, func(x *operator) bool { return x.id == v.(*craft).operator })
		}},
		"fittings": {target: "Fittings", to: func(v any, _ arguments) []any {
			if v.(*craft).fittings == nil {
				return nil
			}
			var f fittings
			if err := json.Unmarshal([]byte(*v.(*craft).fittings), &f); err != nil {
				panic(err)
			}
			return []any{&f}
		}},
		"calls": {target: "PortCall", many: true, args: func(r *rand.Rand) arguments { return pages(r, true) }, to: func(v any, a arguments) []any {
			return a.page(by(where(p.calls, func(c *portCall) bool { return c.craft == v.(*craft).imo }), true, func(c *portCall) int64 { return c.arrived.Unix() }), 10)
		}},
		"inspections": {target: "Inspection", many: true, args: func(r *rand.Rand) arguments {
			if r.IntN(3) == 0 {
				return pick(r, "outcome", "PASSED", "DETAINED")
			}
			return arguments{"limit": r.IntN(4)}
		}, to: func(v any, a arguments) []any {
			list := where(p.inspections, func(x *inspection) bool {
				return x.craft == v.(*craft) && (a["outcome"] == nil || strings.ToUpper(x.outcome) == a["outcome"])
			})
			return a.page(by(list, true, func(x *inspection) int64 { return x.day.Unix() }), 10)
		}},
	}
	o.fields["Craft"] = all
	kind := func(more map[string]oracleField) map[string]oracleField {
		for name, f := range all {
			more[name] = f
		}
		return more
	}
	o.fields["CargoShip"] = kind(map[string]oracleField{"deadweightT": craftLeaf(func(c *craft) any { return orNil(c.deadweight) }), "containers": craftLeaf(func(c *craft) any { return orNil(c.containers) })})
	o.fields["Tanker"] = kind(map[string]oracleField{"doubleHull": craftLeaf(func(c *craft) any { return orNil(c.doubleHull) })})
	o.fields["Ferry"] = kind(map[string]oracleField{"passengers": craftLeaf(func(c *craft) any { return orNil(c.passengers) }), "cars": craftLeaf(func(c *craft) any { return orNil(c.cars) })})
	o.fields["Tug"] = kind(map[string]oracleField{"bollardPullT": craftLeaf(func(c *craft) any { return orNil(c.pull) }),
		"tow": {target: "Craft", to: func(v any, _ arguments) []any {
			return where(p.craft, func(c *craft) bool { return v.(*craft).tow != nil && c.imo == *v.(*craft).tow })
		}}})
	o.fields["Fittings"] = map[string]oracleField{
		"cranes": text(func(f *fittings) any { return f.Cranes }), "radioCallSign": text(func(f *fittings) any { return f.Radio.CallSign }), "navigation": text(func(f *fittings) any { return f.Navigation }),
		"thrusters": {target: "Thruster", many: true, to: func(v any, _ arguments) []any {
			return where(v.(*fittings).Thrusters, func(*thruster) bool { return true })
		}},
	}
	o.fields["Thruster"] = map[string]oracleField{"place": text(func(x *thruster) any { return x.Place }), "powerKw": text(func(x *thruster) any { return x.PowerKw })}
	o.fields["Operator"] = map[string]oracleField{
		"id": text(func(x *operator) any { return fmt.Sprint(x.id) }), "name": text(func(x *operator) any { return x.name }), "country": text(func(x *operator) any { return x.country }),
		"parent": {target: "Operator", to: func(v any, _ arguments) []any {
			return where(p.operators, func(x *operator) bool { return v.(*operator).parent != nil && x.id == *v.(*operator).parent })
		}},
		"subsidiaries": {target: "Operator", many: true, to: func(v any, _ arguments) []any {
			return by(where(p.operators, func(x *operator) bool { return x.parent != nil && *x.parent == v.(*operator).id }), false, func(x *operator) string { return x.name })
		}},
		"fleet": {target: "Craft", many: true, args: func(r *rand.Rand) arguments { return pages(r, true) }, to: func(v any, a arguments) []any {
			return a.page(by(where(p.craft, func(c *craft) bool { return c.operator == v.(*operator).id }), false, func(c *craft) string { return c.name }), 20)
		}},
	}
}

type fittings struct {
	Cranes int
	Radio  struct {
		CallSign string `json:"call_sign"`
	}
	Thrusters  []thruster
	Navigation []string
}

type thruster struct {
	Place   string
	PowerKw int `json:"power_kw"`
}

func (o *oracle) callFields() {
	p := o.port
	o.fields["PortCall"] = map[string]oracleField{
		"id": text(func(c *portCall) any { return fmt.Sprint(c.id) }), "arrivedAt": text(func(c *portCall) any { return moment(c.arrived) }),
		"departedAt": text(func(c *portCall) any {
			if c.left == nil {
				return nil
			}
			return moment(*c.left)
		}),
		"purpose": text(func(c *portCall) any { return purposes[c.purpose] }), "cargoT": text(func(c *portCall) any { return orNil(c.cargo) }),
		"craft": {target: "Craft", to: func(v any, _ arguments) []any {
			return where(p.craft, func(c *craft) bool { return c.imo == v.(*portCall).craft })
		}},
		"berth": {target: "Berth", to: func(v any, _ arguments) []any {
			c := v.(*portCall)
			return where(p.berths, func(b *berth) bool { return c.quay != nil && b.quay == *c.quay && b.number == *c.berth })
		}},
		"pilots": {target: "Pilot", many: true, to: func(v any, _ arguments) []any {
			return by(where(p.pilots, func(x *pilot) bool {
				return slices.ContainsFunc(p.pilotage, func(g pilotage) bool { return g.call == v.(*portCall).id && g.pilot == x.id })
			}), false, func(x *pilot) string { return x.name })
		}},
		"pilotage": {target: "Pilotage", many: true, to: func(v any, _ arguments) []any {
			return by(where(p.pilotage, func(g *pilotage) bool { return g.call == v.(*portCall).id }), false, func(g *pilotage) int64 { return g.boarded.Unix() })
		}},
		"incidents": {target: "Incident", many: true, to: func(v any, _ arguments) []any {
			return by(where(p.incidents, func(x *incident) bool { return x.call == v.(*portCall).id }), false, func(x *incident) int64 { return x.at.Unix() })
		}},
		"manifest": {target: "Manifest", to: func(v any, _ arguments) []any {
			return where(p.manifests, func(m *manifest) bool { return m.call == v.(*portCall).id })
		}},
	}
	o.fields["Quay"] = map[string]oracleField{
		"code": text(func(q *quay) any { return q.code }), "name": text(func(q *quay) any { return q.name }),
		"berths": {target: "Berth", many: true, to: func(v any, _ arguments) []any {
			return where(p.berths, func(b *berth) bool { return b.quay == v.(*quay).code })
		}},
		"station": {target: "TideStation", to: func(v any, _ arguments) []any {
			return where(stations, func(s *station) bool { return s.Code == v.(*quay).station })
		}},
	}
	o.fields["Berth"] = map[string]oracleField{
		"number": text(func(b *berth) any { return b.number }), "name": text(func(b *berth) any { return b.name }), "lengthM": text(func(b *berth) any { return b.length }), "maxDraughtDm": text(func(b *berth) any { return b.draught }),
		"quay": {target: "Quay", to: func(v any, _ arguments) []any {
			return where(p.quays, func(q *quay) bool { return q.code == v.(*berth).quay })
		}},
		"calls": {target: "PortCall", many: true, args: func(r *rand.Rand) arguments { return pages(r, true) }, to: func(v any, a arguments) []any {
			b := v.(*berth)
			return a.page(by(where(p.calls, func(c *portCall) bool { return c.quay != nil && *c.quay == b.quay && *c.berth == b.number }), true, func(c *portCall) int64 { return c.arrived.Unix() }), 10)
		}},
	}
	o.fields["Pilot"] = map[string]oracleField{
		"id": text(func(x *pilot) any { return fmt.Sprint(x.id) }), "name": text(func(x *pilot) any { return x.name }), "licence": text(func(x *pilot) any { return x.licence }),
		"calls": {target: "PortCall", many: true, args: func(r *rand.Rand) arguments { return pages(r, false) }, to: func(v any, a arguments) []any {
			piloted := map[int64]bool{}
			for _, g := range p.pilotage {
				if g.pilot == v.(*pilot).id {
					piloted[g.call] = true
				}
			}
			return a.page(by(where(p.calls, func(c *portCall) bool { return piloted[c.id] }), true, func(c *portCall) int64 { return c.arrived.Unix() }), 10)
		}},
	}
	o.fields["Pilotage"] = map[string]oracleField{
		"id": text(func(g *pilotage) any { return fmt.Sprint(g.id) }), "boardedAt": text(func(g *pilotage) any { return moment(g.boarded) }),
		"role": text(func(g *pilotage) any {
			return map[string]string{"lead": "LEAD", "assist": "ASSISTANT", "trainee": "TRAINEE"}[g.role]
		}),
		"pilot": {target: "Pilot", to: func(v any, _ arguments) []any {
			return where(p.pilots, func(x *pilot) bool { return x.id == v.(*pilotage).pilot })
		}},
		"call": {target: "PortCall", to: func(v any, _ arguments) []any {
			return where(p.calls, func(c *portCall) bool { return c.id == v.(*pilotage).call })
		}},
	}
}

func (o *oracle) documentFields() {
	p := o.port
	o.fields["Inspection"] = map[string]oracleField{
		"heldOn": text(func(x *inspection) any { return x.day.Format(time.DateOnly) }), "outcome": text(func(x *inspection) any { return strings.ToUpper(x.outcome) }),
		"inspector": {target: "Inspector", to: func(v any, _ arguments) []any { return []any{v} }},
		"findings": {target: "Finding", many: true, to: func(v any, _ arguments) []any {
			return where(v.(*inspection).findings, func(*finding) bool { return true })
		}},
		"craft": {target: "Craft", to: func(v any, _ arguments) []any { return []any{v.(*inspection).craft} }},
	}
	o.fields["Inspector"] = map[string]oracleField{"name": text(func(x *inspection) any { return x.inspector }), "badge": text(func(x *inspection) any { return x.badge })}
	o.fields["Finding"] = map[string]oracleField{"code": text(func(f *finding) any { return f.code }), "severity": text(func(f *finding) any { return strings.ToUpper(f.severity) }), "text": text(func(f *finding) any { return f.text })}
	call := func(id func(v any) int64) oracleField {
		return oracleField{target: "PortCall", to: func(v any, _ arguments) []any { return where(p.calls, func(c *portCall) bool { return c.id == id(v) }) }}
	}
	o.fields["Incident"] = map[string]oracleField{"at": text(func(x *incident) any { return moment(x.at) }), "kind": text(func(x *incident) any { return x.kind }), "call": call(func(v any) int64 { return v.(*incident).call })}
	o.fields["Manifest"] = map[string]oracleField{"call": call(func(v any) int64 { return v.(*manifest).call }),
		"lines": {target: "CargoLine", many: true, to: func(v any, _ arguments) []any {
			return where(v.(*manifest).lines, func(*cargoLine) bool { return true })
		}}}
	o.fields["CargoLine"] = map[string]oracleField{"goods": text(func(l *cargoLine) any { return l.goods }), "tonnes": text(func(l *cargoLine) any { return l.tonnes }), "hazardous": text(func(l *cargoLine) any { return l.hazardous })}
}

func (o *oracle) tideFields() {
	p := o.port
	o.fields["TideStation"] = map[string]oracleField{
		"code": text(func(s *station) any { return s.Code }), "name": text(func(s *station) any { return s.Name }), "latitude": text(func(s *station) any { return s.Latitude }), "datum": text(func(s *station) any { return orNil(s.Datum) }),
		"events": {target: "TideEvent", many: true, args: func(r *rand.Rand) arguments {
			if r.IntN(2) == 0 {
				return merge(arguments{"limit": r.IntN(6)}, pick(r, "kind", "HIGH", "LOW"))
			}
			return arguments{}
		}, to: func(v any, a arguments) []any {
			list := where(tideEvents(v.(*station).Code), func(e *tideEvent) bool {
				return a["kind"] == nil || map[string]string{"H": "HIGH", "L": "LOW"}[e.Kind] == a["kind"]
			})
			return a.page(list, 4)
		}},
		"quays": {target: "Quay", many: true, to: func(v any, _ arguments) []any {
			return by(where(p.quays, func(q *quay) bool { return q.station == v.(*station).Code }), false, func(q *quay) string { return q.name })
		}},
	}
	o.fields["TideEvent"] = map[string]oracleField{
		"at": text(func(e *tideEvent) any { return moment(e.At) }), "heightM": text(func(e *tideEvent) any { return e.HeightM }),
		"kind": text(func(e *tideEvent) any { return map[string]string{"H": "HIGH", "L": "LOW"}[e.Kind] }),
	}
}
