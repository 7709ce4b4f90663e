package demo

import (
	"fmt"
	"math/rand/v2"
	"time"
)

// This file makes who asks the harbour, and what concerns some of them only.

type someone struct {
	login, name, email string
	operator, pilot    *int32
}

type due struct {
	id       int32
	operator int32
	call     int64
	amount   string
	paid     *time.Time
}

// A Key is a key of the demo, which osprey.yaml lists by its hash.
type Key struct{ Name, Who, Key string }

// Keys are the keys of the demo. They are for the demo alone, and anybody can read them here.
var Keys = []Key{
	{"admin", "runs the service, and may see everything", "osprey_admin_demo-admin-of-skerrow"},
	{"clerk", "of the harbour office", "osprey_clerk_demo-clerk-of-skerrow"},
	{"dagny", "a pilot", "osprey_dagny_demo-dagny-of-skerrow"},
	{"brandal", "of Brandal Line, an operator: its dues, and no others", "osprey_brandal_demo-brandal-of-skerrow"},
	{"board", "a screen at a quay, a client program", "osprey_board_demo-board-of-skerrow"},
}

// makePeople makes who works with the port, and what operators owe. It has numbers of its own, so that the
// others stay what they are.
func (p *port) makePeople() {
	r := rand.New(rand.NewPCG(20261130, 7420))
	p.people = []someone{
		{"key:clerk", "Kari Marwick", "kari.marwick@office.skerrow.example", nil, nil},
		{"key:dagny", "Dagny Tarnvik", "dagny.tarnvik@pilots.skerrow.example", nil, ptr(int32(7))},
		{"key:brandal", "Joss Brandal", "joss@brandal.example", ptr(int32(2)), nil},
		{"key:ostrand", "Vera Ostrand", "vera@ostrand.example", ptr(int32(15)), nil},
	}
	operators := map[int32]int32{}
	for _, c := range p.craft {
		operators[c.imo] = c.operator
	}
	for i := range p.calls {
		c := &p.calls[i]
		if i%4 != 0 || c.left == nil {
			continue
		}
		d := due{int32(len(p.dues) + 1), operators[c.craft], c.id, fmt.Sprintf("%d.%02d", 200+r.IntN(4000), r.IntN(100)), nil}
		if r.IntN(3) > 0 {
			d.paid = ptr(c.left.AddDate(0, 0, 3+r.IntN(30)).Truncate(24 * time.Hour))
		}
		p.dues = append(p.dues, d)
	}
}
