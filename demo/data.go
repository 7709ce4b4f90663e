package demo

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// This file makes the harbour up. The same scale gives the same harbour, on
// every machine and every day.

// seedVersion changes when the data does, so that data kept from an older
// version is made again.
const seedVersion = 10

// lastDay is the day on which the harbour's two years of records end.
var lastDay = time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)

type operator struct {
	id            int32
	name, country string
	parent        *int32
	token         string
}

type craft struct {
	imo, operator                            int32
	kind, name                               string
	length                                   float64
	draught                                  *int16
	built                                    *time.Time
	tow                                      *int32
	deadweight, containers, passengers, cars *int32
	doubleHull                               *bool
	pull                                     *string
	fittings                                 *string
}

type portCall struct {
	id      int64
	craft   int32
	quay    *string
	berth   *int32
	arrived time.Time
	left    *time.Time
	purpose string
	cargo   *string
}

type pilotage struct {
	id, call int64
	pilot    int32
	role     string
	boarded  time.Time
}

type quay struct{ code, name, station string }

type berth struct {
	quay, name string
	number     int32
	length     float64
	draught    int16
}

type pilot struct {
	id            int32
	name, licence string
}

type inspection struct {
	craft     *craft
	day       time.Time
	outcome   string
	inspector string
	badge     string
	findings  []finding
	call      *int64 // during which it was held, if it was
	evidence  []evidence
}

// evidence is a photo, or a measurement with a value.
type evidence struct {
	kind, about string
	value       float64
}

type finding struct{ code, severity, text string }

type incident struct {
	call          int64
	at            time.Time
	kind, summary string
	subject       string // what it is about: the kind of its record
	subjectID     string // and its key
}

type manifest struct {
	call  int64
	lines []cargoLine
}

type cargoLine struct {
	goods     string
	tonnes    float64
	hazardous bool
}

// port is everything in the stores that the demo fills.
type port struct {
	operators   []operator
	craft       []craft
	quays       []quay
	berths      []berth
	calls       []portCall
	pilots      []pilot
	pilotage    []pilotage
	inspections []inspection
	incidents   []incident
	manifests   []manifest
	people      []someone
	dues        []due
}

var (
	firstNames = strings.Fields("Aila Bram Corin Dagny Edda Finn Greta Hakon Ingrid Joss Kari Lorne Maren Nils Oda Piet Runa Sten Tove Ulf Vera Wim Ysolde Zander")
	lastNames  = strings.Fields("Ansgar Brandal Corvik Dunmore Eskeland Farquist Grimsey Holmquay Innisvale Jorvald Kestrel Lundby Marwick Norrisund Ostrand Pellow Quarrie Rensgard Skarholt Tarnvik Ullock Vestby Westray Yarrow")
	seaWords   = strings.Fields("Amber Bright Cold Distant Eastern Fair Grey High Iron Jolly Kindly Little Morning Northern Old Proud Quiet Rising Silver True Upland Vivid Western Young")
	seaThings  = strings.Fields("Anchor Beacon Current Dolphin Ebb Fathom Gannet Heron Islander Jetty Kelp Lantern Mariner Narwhal Osprey Petrel Quill Reef Skua Tern Undertow Voyager Wave Yawl")
	countries  = strings.Fields("Norland Estmark Faroway Kelder Auvary Sundria Brettany Oskar-Isles")
	goods      = strings.Fields("timber grain salt steel fertiliser paper cement fish machinery wool paint fuel-oil solvents")
	findings   = []string{"life rafts past their date", "fire door does not close", "charts out of date", "bilge alarm silent", "mooring lines worn", "crew lists incomplete"}
	mishaps    = []string{"line parted", "fender damaged", "small spill", "gangway slipped", "late pilot", "engine alarm"}
)

// makePort makes the harbour of a scale; 1 has 4,000 port calls.
func makePort(scale int) *port {
	r := rand.New(rand.NewPCG(20260301, 7420))
	p := &port{}
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	person := func() string { return pick(firstNames) + " " + pick(lastNames) }

	for i := range 40 {
		o := operator{id: int32(i + 1), name: lastNames[i%len(lastNames)] + []string{" Line", " Shipping"}[i/len(lastNames)%2], country: pick(countries), token: fmt.Sprintf("bt-%08x", r.Uint32())}
		if i >= 12 && r.IntN(3) == 0 {
			o.parent = ptr(int32(r.IntN(12) + 1))
		}
		p.operators = append(p.operators, o)
	}
	p.makeCraft(r, 600*min(scale, 10))
	stations := []string{"SKE", "NOR", "HOL", "TAR", "BRA", "LUN", "VES", "KEL"}
	for i, name := range []string{"Old Quay", "Timber Quay", "Herring Quay", "Northern Mole", "Oil Jetty", "Ferry Pier"} {
		q := quay{code: fmt.Sprintf("Q%d", i+1), name: name, station: stations[i]}
		p.quays = append(p.quays, q)
		for n := range 4 {
			p.berths = append(p.berths, berth{q.code, fmt.Sprintf("%s %c", name, 'A'+n), int32(n + 1), float64(120 + 20*r.IntN(12)), int16(70 + 5*r.IntN(14))})
		}
	}
	for i := range 60 {
		p.pilots = append(p.pilots, pilot{int32(i + 1), person(), fmt.Sprintf("SK-%03d", 100+i*7)})
	}
	p.makeCalls(r, 4000*scale)
	p.makeInspections(r, 900*min(scale, 4), person)
	for i := range 120 {
		c := &p.calls[r.IntN(len(p.calls))]
		x := incident{call: c.id, at: c.arrived.Add(time.Duration(r.IntN(300)) * time.Minute), kind: pick(mishaps), summary: "noted by the watch; no further action"}
		switch {
		case i%4 == 3:
			x.subject, x.subjectID = "pilot", fmt.Sprint(p.pilots[i%len(p.pilots)].id)
		case i%4 == 2 && c.quay != nil:
			x.subject, x.subjectID = "quay", *c.quay
		case i%4 != 1:
			x.subject, x.subjectID = "craft", fmt.Sprint(c.craft)
		}
		p.incidents = append(p.incidents, x)
	}
	taken := map[int64]bool{}
	for len(p.manifests) < 300 {
		c := &p.calls[len(p.calls)-1-r.IntN(min(len(p.calls), 1200))]
		if taken[c.id] {
			continue
		}
		taken[c.id] = true
		m := manifest{call: c.id}
		for range 1 + r.IntN(5) {
			g := pick(goods)
			m.lines = append(m.lines, cargoLine{g, float64(r.IntN(9000)) / 10, g == "fuel-oil" || g == "solvents" || g == "paint"})
		}
		p.manifests = append(p.manifests, m)
	}
	p.makePeople()
	return p
}

func ptr[T any](v T) *T { return &v }

func (p *port) makeCraft(r *rand.Rand, n int) {
	for i := range n {
		c := craft{
			imo: int32(9100000 + i*7), operator: p.operators[r.IntN(len(p.operators))].id,
			name:   seaWords[r.IntN(len(seaWords))] + " " + seaThings[r.IntN(len(seaThings))],
			length: float64(300+r.IntN(2400)) / 10,
		}
		if r.IntN(10) > 0 {
			c.draught = ptr(int16(25 + r.IntN(110)))
			c.built = ptr(time.Date(1985+r.IntN(38), time.Month(1+r.IntN(12)), 1+r.IntN(28), 0, 0, 0, 0, time.UTC))
		}
		switch k := r.IntN(10); {
		case k < 5:
			c.kind, c.deadweight, c.containers = "cargo", ptr(int32(2000+r.IntN(60000))), ptr(int32(r.IntN(4000)))
		case k < 7:
			c.kind, c.deadweight, c.doubleHull = "tanker", ptr(int32(3000+r.IntN(90000))), ptr(r.IntN(4) > 0)
		case k < 9:
			c.kind, c.passengers, c.cars = "ferry", ptr(int32(80+r.IntN(1800))), ptr(int32(r.IntN(600)))
		default:
			c.kind, c.length, c.pull = "tug", 20+float64(r.IntN(180))/10, ptr(fmt.Sprintf("%d.%d", 20+r.IntN(60), r.IntN(10)))
			if i > 50 && r.IntN(3) == 0 {
				c.tow = ptr(p.craft[r.IntN(len(p.craft))].imo)
			}
		}
		if r.IntN(5) > 0 {
			c.fittings = ptr(fmt.Sprintf(`{"cranes": %d, "radio": {"call_sign": "SK%c%c%d"}, "thrusters": [{"place": "bow", "power_kw": %d}%s], "navigation": ["radar", "echo sounder"]}`,
				r.IntN(5), 'A'+rune(r.IntN(26)), 'A'+rune(r.IntN(26)), r.IntN(10), 200+50*r.IntN(20),
				[]string{"", `, {"place": "stern", "power_kw": 450}`}[r.IntN(2)]))
		}
		p.craft = append(p.craft, c)
	}
}

func (p *port) makeCalls(r *rand.Rand, n int) {
	const span = 2 * 365 * 24 * time.Hour
	step := span / time.Duration(n)
	var next int64
	for i := range n {
		k := &p.craft[r.IntN(len(p.craft))]
		c := portCall{id: int64(i + 1), craft: k.imo, arrived: lastDay.Add(-span + step*time.Duration(i) + time.Duration(r.Int64N(int64(step)))).Truncate(time.Second)}
		stay := time.Duration(4+r.IntN(68)) * time.Hour
		if left := c.arrived.Add(stay); left.Before(lastDay) {
			c.left = &left
		}
		if r.IntN(20) > 0 {
			b := &p.berths[r.IntN(len(p.berths))]
			c.quay, c.berth = &b.quay, &b.number
		}
		switch k.kind {
		case "ferry":
			c.purpose = "passengers"
		case "tug":
			c.purpose = []string{"bunker", "repair"}[r.IntN(2)]
		default:
			c.purpose = []string{"load", "unload", "load", "unload", "bunker", "repair"}[r.IntN(6)]
			c.cargo = ptr(fmt.Sprintf("%d.%d", 100+r.IntN(30000), r.IntN(10)))
		}
		p.calls = append(p.calls, c)
		roles := []string{"lead", "assist", "trainee"}
		first := r.IntN(len(p.pilots))
		for j := range r.IntN(4) {
			next++
			p.pilotage = append(p.pilotage, pilotage{next, c.id, p.pilots[(first+j*17)%len(p.pilots)].id, roles[j], c.arrived.Add(-time.Duration(30+r.IntN(90)) * time.Minute)})
		}
	}
}

func (p *port) makeInspections(r *rand.Rand, n int, person func() string) {
	var inspectors []string
	for range 14 {
		inspectors = append(inspectors, person())
	}
	for range n {
		who := r.IntN(len(inspectors))
		x := inspection{
			craft: &p.craft[r.IntN(len(p.craft))], day: lastDay.AddDate(0, 0, -r.IntN(730)).Truncate(24 * time.Hour),
			inspector: inspectors[who], badge: fmt.Sprintf("I-%02d", who+1), outcome: "passed",
		}
		for range max(r.IntN(6)-2, 0) {
			k := r.IntN(len(findings))
			x.findings = append(x.findings, finding{fmt.Sprintf("F%02d", k+1), []string{"minor", "minor", "major", "critical"}[r.IntN(4)], findings[k]})
		}
		for _, f := range x.findings {
			if f.severity == "critical" {
				x.outcome = "detained"
			} else if x.outcome == "passed" {
				x.outcome = "deficient"
			}
		}
		for i, f := range x.findings {
			if i%2 == 0 {
				x.evidence = append(x.evidence, evidence{kind: "photo", about: f.code + ", seen from the deck"})
			} else {
				x.evidence = append(x.evidence, evidence{kind: "measurement", about: f.code, value: float64(len(f.text)) / 10})
			}
		}
		p.inspections = append(p.inspections, x)
	}
	p.inspectDuringCalls()
}

// inspectDuringCalls moves every other inspection to a call of its craft.
func (p *port) inspectDuringCalls() {
	calls := map[int32][]*portCall{}
	for i := range p.calls {
		calls[p.calls[i].craft] = append(calls[p.calls[i].craft], &p.calls[i])
	}
	for i := range p.inspections {
		x := &p.inspections[i]
		if own := calls[x.craft.imo]; i%2 == 0 && len(own) > 0 {
			c := own[i%len(own)]
			x.call, x.day = &c.id, c.arrived.Truncate(24*time.Hour)
		}
	}
}
