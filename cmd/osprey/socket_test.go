package main_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"

	"osprey/access"
)

// A talk is a connection that speaks the sub-protocol.
type talk struct {
	t    *testing.T
	conn *websocket.Conn
}

// talking opens a connection.
func talking(t *testing.T, address string, header http.Header, protocols ...string) *talk {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	conn, res, err := websocket.Dial(ctx, "ws://"+address+"/graphql", &websocket.DialOptions{Subprotocols: protocols, HTTPHeader: header})
	if err != nil {
		t.Fatalf("the connection is refused: %v %v", err, res)
	}
	t.Cleanup(func() { conn.CloseNow() })
	return &talk{t, conn}
}

func (k *talk) send(text string) {
	k.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := k.conn.Write(ctx, websocket.MessageText, []byte(text)); err != nil {
		k.t.Fatal(err)
	}
}

// next returns the next message, or with which code the connection was closed.
func (k *talk) next() string {
	k.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 7*time.Second)
	defer cancel()
	_, text, err := k.conn.Read(ctx)
	if err != nil {
		return fmt.Sprint(int(websocket.CloseStatus(err)))
	}
	var m map[string]any
	if json.Unmarshal(text, &m) != nil {
		return string(text)
	}
	text, _ = json.Marshal(m)
	return string(text)
}

// says holds what comes next.
func (k *talk) says(parts ...string) {
	k.t.Helper()
	got := k.next()
	for _, part := range parts {
		if !strings.Contains(got, part) {
			k.t.Errorf("said is %s, without %s", got, part)
			return
		}
	}
}

// TestSocket speaks the sub-protocol graphql-transport-ws, with all of its codes.
func TestSocket(t *testing.T) {
	key := access.Make()
	dir, db := harbourOf(t, fmt.Sprintf("limits: { streams: 3, live: 50ms }\naccess:\n  keys:\n    %s: { name: board, roles: [screen], hash: %q }\n", key.ID, key.Hash))
	address, _, _ := served(t, dir)
	const protocol = "graphql-transport-ws"
	begin := `{"type":"connection_init","payload":{"authorization":"Bearer ` + key.String() + `"}}`
	t.Run("codes", func(t *testing.T) {
		for name, test := range map[string]struct {
			send []string
			want string
		}{
			"no JSON":             {[]string{"x"}, "4400"},
			"an unknown type":     {[]string{begin, `{"type":"start"}`}, "4400"},
			"no id":               {[]string{begin, `{"type":"subscribe","payload":{"query":"{ boats { id } }"}}`}, "4400"},
			"before it is begun":  {[]string{`{"id":"1","type":"subscribe","payload":{"query":"{ boats { id } }"}}`}, "4401"},
			"nobody":              {[]string{`{"type":"connection_init"}`}, "4403"},
			"a wrong key":         {[]string{`{"type":"connection_init","payload":{"Authorization":"Bearer osprey_x_y"}}`}, "4403"},
			"begun twice":         {[]string{begin, begin}, "4429"},
			"one id, twice":       {[]string{begin, `{"id":"1","type":"subscribe","payload":{"query":"subscription { moved { id } }"}}`, `{"id":"1","type":"subscribe","payload":{"query":"{ boats { id } }"}}`}, "4409"},
			"a payload that is 1": {[]string{`{"type":"connection_init","payload":1}`}, "4400"},
			"never begun":         {nil, "4408"},
		} {
			t.Run(name, func(t *testing.T) {
				k := talking(t, address, nil, protocol)
				for _, text := range test.send {
					k.send(text)
				}
				got := k.next()
				for strings.HasPrefix(got, "{") {
					got = k.next()
				}
				if got != test.want {
					t.Errorf("closed with %s, and not %s", got, test.want)
				}
			})
		}
		if got := talking(t, address, nil, "chat").next(); got != "4406" {
			t.Errorf("another protocol is closed with %s", got)
		}
	})
	k := talking(t, address, http.Header{"Authorization": {"Bearer " + key.String()}}, protocol)
	k.send(`{"type":"connection_init"}`)
	k.says(`"connection_ack"`)
	k.send(`{"type":"ping","payload":{"a":1}}`)
	k.says(`"pong"`, `{"a":1}`)
	k.send(`{"id":"q","type":"subscribe","payload":{"query":"{ boats { name } }"}}`)
	k.says(`"id":"q"`, `"next"`, `{"data":{"boats":[]}}`)
	k.says(`"id":"q"`, `"complete"`)
	k.send(`{"id":"b","type":"subscribe","payload":{"query":"{ boats { nme } }"}}`)
	k.says(`"id":"b"`, `"error"`, `Boat has no field`)
	k.send(`{"id":"n","type":"subscribe","payload":{"query":3}}`)
	k.says(`"id":"n"`, `"error"`, `REQUEST`)
	k.send(`{"id":"s","type":"subscribe","payload":{"query":"subscription { moved { what id now { name } } }","extensions":{"calls":"on"}}}`)
	time.Sleep(300 * time.Millisecond) // nothing says that it has begun
	k.send(`{"id":"m","type":"subscribe","payload":{"query":"mutation { launch(name: \"Auk\") { name } }"}}`)
	var got []string
	for range 3 {
		got = append(got, k.next())
	}
	all := strings.Join(got, "\n")
	for _, part := range []string{`"launch":{"name":"Auk"}`, `"complete"`, `"moved":{"id":"1","now":{"name":"Auk"},"what":"ADDED"}`, `"calls":[`} {
		if !strings.Contains(all, part) {
			t.Errorf("said is %s, without %s", all, part)
		}
	}
	k.send(`{"id":"l","type":"subscribe","payload":{"query":"{ boats { name } }","extensions":{"live":"on"}}}`)
	k.says(`"id":"l"`, `"boats":[{"name":"Auk"}]`)
	k.send(`{"id":"x","type":"subscribe","payload":{"query":"subscription { added { name } }"}}`)
	time.Sleep(200 * time.Millisecond)
	k.send(`{"id":"y","type":"subscribe","payload":{"query":"subscription { added { name } }"}}`)
	k.says(`"id":"y"`, `"error"`, `3 streams open`)
	k.send(`{"id":"x","type":"complete"}`)
	k.send(`{"id":"s","type":"complete"}`)
	time.Sleep(200 * time.Millisecond)
	if _, err := db.Exec("INSERT INTO boats (name) VALUES ('Bittern')"); err != nil {
		t.Fatal(err)
	}
	k.says(`"id":"l"`, `"next"`, `Bittern`)
	k.send(`{"type":"ping"}`)
	k.says(`"pong"`) // and nothing of what was ended
	// Another site's page is refused.
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if _, res, err := websocket.Dial(ctx, "ws://"+address+"/graphql", &websocket.DialOptions{Subprotocols: []string{protocol}, HTTPHeader: http.Header{"Origin": {"https://elsewhere.example"}}}); err == nil || res == nil || res.StatusCode != http.StatusForbidden {
		t.Errorf("another origin is answered %v", res)
	}
}
