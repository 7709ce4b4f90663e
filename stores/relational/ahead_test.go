package relational_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"osprey/core/store"
	"osprey/stores/conform"
	"osprey/stores/relational"
)

// A breath stands between Osprey and PostgreSQL, and counts how often the server waits for the
// client: the messages ReadyForQuery (section 55.7 of its documentation), of which there is one
// for each round trip.
type breath struct {
	url   string
	waits atomic.Int64
}

func newBreath(t *testing.T, at string) *breath {
	t.Helper()
	u, err := url.Parse(at)
	if err != nil {
		t.Fatal(err)
	}
	target := u.Host
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	q := u.Query()
	q.Set("sslmode", "disable")
	u.Host, u.RawQuery = l.Addr().String(), q.Encode()
	b := &breath{url: u.String()}
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", target)
			if err != nil {
				client.Close()
				continue
			}
			go func() { io.Copy(server, client); server.Close() }()
			go func() { b.pass(server, client); client.Close() }()
		}
	}()
	return b
}

// pass copies messages of the server: a byte that says what it is, and the length of the rest.
func (b *breath) pass(from io.Reader, to io.Writer) {
	for {
		var head [5]byte
		if _, err := io.ReadFull(from, head[:]); err != nil {
			return
		}
		if head[0] == 'Z' {
			b.waits.Add(1)
		}
		if _, err := to.Write(head[:]); err != nil {
			return
		}
		if _, err := io.CopyN(to, from, int64(binary.BigEndian.Uint32(head[1:]))-4); err != nil {
			return
		}
	}
}

// TestOneBreath counts round trips at PostgreSQL: records are added and their answer is read,
// with lists and what is joined, in one, with the beginning of the transaction; its end is
// another one.
func TestOneBreath(t *testing.T) {
	db, at := emptyDatabase(t, relational.Postgres)
	run(t, db, voyageTables(relational.Postgres)+"\nCREATE TABLE tokens (id uuid PRIMARY KEY DEFAULT gen_random_uuid(), kind varchar(8) NOT NULL, number int NOT NULL, UNIQUE (kind, number))")
	b := newBreath(t, at)
	types := strings.Replace(voyageTypes, "  plan(", "  turn(id: ID!, ship: String): Voyage @change\n  token(kind: ID!, number: Int!): Token @add\n  tokens(tokens: [TokenAdd!]!): [Token!] @add\n  set(kind: ID!, number: Int!): Token @add(replaces: [\"kind\", \"number\"])\n  plan(", 1) +
		"\ntype Token @stored(in: \"db\", as: \"tokens\", key: \"id\") { id: ID! kind: ID! number: Int! }"
	e := conform.NewEngine(t, types, map[string]store.Source{"db": openAt(t, relational.Postgres, b.url)})
	for _, test := range []struct {
		op    string
		trips int64
		want  string
	}{
		{`plan(voyage: {ship: "S", code: "%s"}) { ship legs { to stops { at } } log { text } }`, 2, `{"ship":"S","legs":[],"log":null}`},
		{`planAll(voyages: [{ship: "A", code: "a%[1]s"}, {ship: "B", code: "b%[1]s"}, {ship: "C", code: "c%[1]s"}]) { ship legs { to } }`, 2, `[{"ship":"A","legs":[]},{"ship":"B","legs":[]},{"ship":"C","legs":[]}]`},
		{`token(kind: "k", number: %s) { kind }`, 2, `{"kind":"k"}`},
		{`tokens(tokens: [{kind: "x", number: %[1]s}, {kind: "y", number: %[1]s}]) { kind }`, 2, `[{"kind":"x"},{"kind":"y"}]`},
		{`set(kind: "k", number: %s) { kind }`, 2, `{"kind":"k"}`},
		{`turn(id: 1, ship: "T%s") { id legs { to } }`, 2, `{"id":"1","legs":[]}`},
		{`turn(id: 99, ship: "T%s") { id }`, 2, `null`},
		{`plan(voyage: {ship: "S", code: "%s", legs: [{to: "Holm"}]}) { ship legs { to } }`, 5, `{"ship":"S","legs":[{"to":"Holm"}]}`},
	} {
		for n := range 2 { // first, the statements are prepared
			before := b.waits.Load()
			op := fmt.Sprintf(test.op, fmt.Sprint(n+10*len(test.op)))
			o := e.Ask(t, "mutation { "+op+" }", nil)
			_, got, _ := strings.Cut(strings.TrimSuffix(o.Data, "}"), ":")
			if got != test.want || len(o.Errors) > 0 {
				t.Errorf("%s\ngives %s %v\nwant  %s", op, got, o.Errors, test.want)
			}
			if trips := b.waits.Load() - before; n == 1 && trips != test.trips {
				t.Errorf("%s takes %d round trips, want %d", op, trips, test.trips)
			}
		}
	}
	// What fails in the same breath is told as by itself, and undone.
	o := e.Ask(t, `mutation { plan(voyage: {ship: "much too long a name for it", code: "q"}) { ship } token(kind: "k", number: 99) { id } again: token(kind: "k", number: 99) { id } }`, nil)
	if got := strings.Join(o.Errors, " "); got != `[plan] CONSTRAINT Voyage.ship holds at most 20 characters [again] CONSTRAINT Token.kind "k" and Token.number 99 are taken together: another record has them` || !strings.HasPrefix(o.Data, `{"plan":null,"token":{"id":"`) {
		t.Error(o.Data, o.Errors)
	}
	// Connections that have died are replaced.
	run(t, db, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database()")
	if o := e.Ask(t, `mutation { token(kind: "dead", number: 1) { kind } }`, nil); o.Data != `{"token":{"kind":"dead"}}` {
		t.Error(o.Data, o.Errors)
	}
	holds(t, db, "SELECT count(*) FROM tokens WHERE kind = 'dead'", "1")
}
