package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"osprey/project"
)

// This file answers operations over a WebSocket (RFC 6455), many on one connection, by the open sub-protocol
// graphql-transport-ws. Its messages are those of that; beside it, the extensions of a subscribe message may have "live":
// "on" and "calls": "on", as the headers of requests.

const subProtocol = "graphql-transport-ws"

// The codes with which a connection is closed: those of the sub-protocol.
const (
	closeInvalid   websocket.StatusCode = 4400
	closeUnknown   websocket.StatusCode = 4401
	closeForbidden websocket.StatusCode = 4403
	closeProtocol  websocket.StatusCode = 4406
	closeLate      websocket.StatusCode = 4408
	closeTwice     websocket.StatusCode = 4409
	closeAgain     websocket.StatusCode = 4429
)

// beginWithin is how long a client may take until it says who it is.
const beginWithin = 5 * time.Second

// A wireMessage is a message of the sub-protocol.
type wireMessage struct {
	Type    string          `json:"type"`
	ID      string          `json:"id,omitempty"`
	Payload json.RawMessage `json:"payload,omitempty"`
}

// A socket is one connection.
type socket struct {
	service *Service
	conn    *websocket.Conn
	request *http.Request // with who asks; written once, before acked
	ctx     context.Context
	end     context.CancelFunc

	mu      sync.Mutex // guards what follows
	acked   bool
	streams map[string]context.CancelFunc
}

// upgrades reports whether a request asks for a WebSocket.
func upgrades(r *http.Request) bool {
	return r.Method == http.MethodGet && strings.EqualFold(r.Header.Get("Upgrade"), "websocket")
}

// sockets answers requests for a WebSocket, and leaves others to next. Who asks may be said in the first message, since
// browsers send no header.
func (s *Service) sockets(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/graphql" || !upgrades(r) {
			next.ServeHTTP(w, r)
			return
		}
		var hosts []string
		for _, origin := range s.Project.Own.Origins {
			_, host, _ := strings.Cut(origin, "://")
			hosts = append(hosts, host)
		}
		conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{subProtocol}, OriginPatterns: hosts})
		if err != nil {
			return // which was answered
		}
		conn.SetReadLimit(s.MaxBody)
		ctx, end := context.WithCancel(r.Context())
		k := &socket{service: s, conn: conn, ctx: ctx, end: end, streams: map[string]context.CancelFunc{}}
		defer end()
		if conn.Subprotocol() != subProtocol {
			conn.Close(closeProtocol, "Subprotocol not acceptable")
			return
		}
		k.serve(r)
	})
}

// serve takes messages until the connection ends.
func (k *socket) serve(r *http.Request) {
	defer k.conn.CloseNow()
	late := time.AfterFunc(beginWithin, func() { k.conn.Close(closeLate, "Connection initialisation timeout") })
	defer late.Stop()
	go k.watch()
	for {
		kind, text, err := k.conn.Read(k.ctx)
		if err != nil {
			return
		}
		var m wireMessage
		if kind != websocket.MessageText || json.Unmarshal(text, &m) != nil {
			k.conn.Close(closeInvalid, "Invalid message: it is no JSON object")
			return
		}
		switch m.Type {
		case "connection_init":
			if !late.Stop() || k.isAcked() {
				k.conn.Close(closeAgain, "Too many initialisation requests")
				return
			}
			if !k.begin(r, m.Payload) {
				return
			}
		case "ping":
			k.send(wireMessage{Type: "pong", Payload: m.Payload})
		case "pong":
		case "subscribe":
			if !k.isAcked() {
				k.conn.Close(closeUnknown, "Unauthorized")
				return
			}
			if !k.subscribe(m) {
				return
			}
		case "complete":
			k.mu.Lock()
			end := k.streams[m.ID]
			delete(k.streams, m.ID)
			k.mu.Unlock()
			if end != nil {
				end()
			}
		default:
			k.conn.Close(closeInvalid, "Invalid message: there is no type "+clipped(m.Type))
			return
		}
	}
}

func (k *socket) isAcked() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.acked
}

// begin finds out who asks: by the headers, or by what the first message says in their place.
func (k *socket) begin(r *http.Request, payload json.RawMessage) bool {
	own := r.Clone(r.Context())
	var said map[string]any
	if len(payload) > 0 && json.Unmarshal(payload, &said) != nil {
		k.conn.Close(closeInvalid, "Invalid message: the payload is no object")
		return false
	}
	for name, value := range said {
		if text, ok := value.(string); ok && strings.EqualFold(name, "Authorization") {
			own.Header.Set("Authorization", text)
		}
	}
	if a := k.service.access; a != nil {
		who, no := a.Identify(own.Context(), own)
		if no != nil {
			k.service.tellRefused(own, no)
			k.conn.Close(closeForbidden, reason(no.Msg))
			return false
		}
		own = own.WithContext(context.WithValue(own.Context(), whoKey{}, who))
	}
	k.mu.Lock()
	k.request, k.acked = own, true
	k.mu.Unlock()
	return k.send(wireMessage{Type: "connection_ack"})
}

// reason clips a text to what a frame that closes can hold: 123 bytes.
func reason(text string) string {
	if len(text) > 120 {
		return text[:117] + "..."
	}
	return text
}

// watch ends the connection when the service stops, when the caller is not known any more, or when nobody is there.
func (k *socket) watch() {
	beat, again := time.NewTicker(heartbeat), time.NewTicker(stillKnown)
	defer beat.Stop()
	defer again.Stop()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-k.service.ends:
			k.conn.Close(websocket.StatusGoingAway, "the service stops: come back in a moment")
			return
		case <-again.C:
			k.mu.Lock()
			own := k.request
			k.mu.Unlock()
			if own == nil || whoOf(own) == nil {
				continue
			}
			if why := k.service.unknownNow(own); why != "" {
				k.conn.Close(closeForbidden, reason(why))
				return
			}
		case <-beat.C:
			ctx, cancel := context.WithTimeout(k.ctx, k.service.Patience)
			err := k.conn.Ping(ctx)
			cancel()
			if err != nil {
				k.end()
				return
			}
		}
	}
}

// send sends a message; false if it could not.
func (k *socket) send(m wireMessage) bool {
	text, err := json.Marshal(m)
	if err != nil {
		panic(err) // its payload is JSON
	}
	ctx, cancel := context.WithTimeout(k.ctx, k.service.Patience)
	defer cancel()
	if k.conn.Write(ctx, websocket.MessageText, text) != nil {
		k.end()
		return false
	}
	return true
}

// subscribe begins an operation; false if the connection is closed for it.
func (k *socket) subscribe(m wireMessage) bool {
	var asked struct {
		Extensions map[string]any `json:"extensions"`
	}
	if m.ID == "" || json.Unmarshal(m.Payload, &asked) != nil {
		k.conn.Close(closeInvalid, "Invalid message: subscribe needs an id, and an operation as its payload")
		return false
	}
	q, bad := decodeRequest(m.Payload)
	ctx, open := k.open(m.ID)
	if ctx == nil {
		k.conn.Close(closeTwice, reason(fmt.Sprintf("Subscriber for %s already exists", clipped(m.ID))))
		return false
	}
	on := func(name string) bool {
		text, _ := asked.Extensions[name].(string)
		return strings.EqualFold(text, "on")
	}
	w := &wire{socket: k, id: m.ID, ctx: ctx, calls: on("calls")}
	most := int(k.service.Project.Revision().Config.Limits.Streams)
	switch {
	case bad != nil:
		w.refused([]project.Fault{{Message: bad.msg, Fix: bad.fix, Code: "REQUEST"}})
	case most > 0 && open > most:
		w.refused([]project.Fault{tooManyStreams(most)})
	default:
		go w.run(q, on("live"))
	}
	return true
}

// open begins an operation of the connection, and returns how many are under way; nil if there is one of this id.
func (k *socket) open(id string) (context.Context, int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.streams[id] != nil {
		return nil, 0
	}
	ctx, end := context.WithCancel(k.ctx)
	k.streams[id] = end
	return ctx, len(k.streams)
}

// wire tells what one operation of a connection is answered.
type wire struct {
	socket *socket
	id     string
	ctx    context.Context
	calls  bool
}

// run answers the operation.
func (w *wire) run(q *project.Request, live bool) {
	k := w.socket
	s := k.service
	r := k.request.WithContext(w.ctx)
	revision, release := s.Project.Hold()
	release = sync.OnceFunc(release)
	defer release()
	q.Caller = callerOf(r)
	if bad := fill(w.ctx, q, revision); bad != nil {
		w.refused([]project.Fault{{Message: bad.msg, Fix: bad.fix, Code: "REQUEST"}})
		return
	}
	if live || revision.Streams(w.ctx, q) {
		stream, no, done := s.begin(r, revision, q, live, "")
		release()
		if no != nil {
			w.refused(no.Faults)
			return
		}
		defer done()
		s.tellAll(r, q, stream, w)
		return
	}
	after := 0
	q.Admit = s.admission.of(w.ctx, q.Caller.ID, &after)
	began := time.Now()
	a := revision.Ask(w.ctx, q)
	defer a.Free()
	if s.Keeper != nil {
		s.Keeper.Count(a, clientOf(r), q.RequestID(), time.Since(began))
	}
	if a.Refused {
		w.refused(a.Faults)
		return
	}
	if k.send(wireMessage{Type: "next", ID: w.id, Payload: a.AppendJSON(nil, w.calls)}) {
		w.done(wireMessage{Type: "complete", ID: w.id})
	}
}

// done sends the last message of the operation, unless the client has ended it.
func (w *wire) done(m wireMessage) {
	k := w.socket
	k.mu.Lock()
	end := k.streams[w.id]
	delete(k.streams, w.id)
	k.mu.Unlock()
	if end != nil && w.ctx.Err() == nil {
		k.send(m)
		end()
	}
}

// refused tells why the operation is not answered.
func (w *wire) refused(faults []project.Fault) {
	list := make([]*project.Fault, len(faults))
	for i := range faults {
		list[i] = &faults[i]
	}
	text, err := json.Marshal(slices.Clip(list))
	if err != nil {
		panic(err) // they are texts
	}
	w.done(wireMessage{Type: "error", ID: w.id, Payload: text})
}

func (w *wire) next(m project.Message) error {
	if !w.socket.send(wireMessage{Type: "next", ID: w.id, Payload: m.JSON(w.calls)}) {
		return context.Canceled
	}
	return nil
}

// here is left to the connection.
func (w *wire) here(string) error { return nil }

func (w *wire) over(why *project.Fault) { w.refused([]project.Fault{*why}) }
