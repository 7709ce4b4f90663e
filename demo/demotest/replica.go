package demotest

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// A Replica stands before the document server and makes it look like the one member of a replica
// set: it says that it is, takes what is about transactions out of the commands, and answers
// their ends itself. So it shows what would be done in transactions, and undoes nothing.
type Replica struct {
	URL string // leads through it

	mu    sync.Mutex
	notes []string
	modes []string          // of the reads
	fail  map[string]bson.D // what is answered to the next command of a name

	changes changes
}

// NewReplica starts one.
func NewReplica(t *testing.T) *Replica {
	t.Helper()
	p := &Replica{fail: map[string]bson.D{}}
	p.URL = between(t, p.serve)
	return p
}

// Notes returns the commands that came in transactions since the last call, as "insert watches",
// of which the first of each transaction says "begin".
func (p *Replica) Notes() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	notes := p.notes
	p.notes = nil
	return notes
}

// Modes returns which members were asked for by the commands that read records since the last call, as "find secondary".
func (p *Replica) Modes() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	modes := p.modes
	p.modes = nil
	return modes
}

// Fail makes the next command of a name fail with an error that has labels.
func (p *Replica) Fail(command string, code int, labels ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fail[command] = bson.D{{Key: "ok", Value: 0}, {Key: "code", Value: code}, {Key: "codeName", Value: "Made"}, {Key: "errmsg", Value: "made to fail"}, {Key: "errorLabels", Value: labels}}
}

const (
	opReply = 1
	opMsg   = 2013
)

// serve passes requests and answers on, one after the other.
func (p *Replica) serve(client, server net.Conn, address string) {
	for {
		request, err := readMessage(client)
		if err != nil {
			return
		}
		command := ""
		if request.op == opMsg {
			if told, is := p.stream(request); is {
				if write(client, told) != nil {
					return
				}
				continue
			}
			var own bson.D
			if command, own = p.strip(request); own != nil {
				if write(client, reply(request, own)) != nil {
					return
				}
				continue
			}
		}
		if write(server, request) != nil {
			return
		}
		answer, err := readMessage(server)
		if err != nil {
			return
		}
		if request.op == opMsg {
			p.changes.note(request)
		}
		if request.op != opMsg || strings.EqualFold(command, "hello") || strings.EqualFold(command, "isMaster") {
			member(answer, address)
		}
		if write(client, answer) != nil {
			return
		}
	}
}

// A message has a header of 16 bytes: its size, its number, that of the message it answers, and
// what it is.
type message struct {
	id, to uint32
	op     uint32
	body   []byte
}

func readMessage(from io.Reader) (*message, error) {
	var header [16]byte
	if _, err := io.ReadFull(from, header[:]); err != nil {
		return nil, err
	}
	size := binary.LittleEndian.Uint32(header[:])
	if size < 16 || size > 64<<20 {
		return nil, io.ErrUnexpectedEOF
	}
	m := &message{binary.LittleEndian.Uint32(header[4:]), binary.LittleEndian.Uint32(header[8:]), binary.LittleEndian.Uint32(header[12:]), make([]byte, size-16)}
	_, err := io.ReadFull(from, m.body)
	return m, err
}

func write(to io.Writer, m *message) error {
	var b bytes.Buffer
	for _, n := range []uint32{uint32(len(m.body) + 16), m.id, m.to, m.op} {
		binary.Write(&b, binary.LittleEndian, n)
	}
	b.Write(m.body)
	_, err := to.Write(b.Bytes())
	return err
}

// reply answers a request with a document.
func reply(request *message, doc bson.D) *message {
	raw, _ := bson.Marshal(doc)
	return &message{id: request.id + 1<<20, to: request.id, op: opMsg, body: append([]byte{0, 0, 0, 0, 0}, raw...)}
}

// strip takes what is about transactions out of a command, and notes it. What it returns with the
// name is answered instead of passing the command on.
func (p *Replica) strip(m *message) (command string, answer bson.D) {
	raw, rest, ok := bsoncore.ReadDocument(m.body[5:])
	var doc bson.D
	if !ok || m.body[4] != 0 || bson.Unmarshal(raw, &doc) != nil || len(doc) == 0 {
		return "", nil
	}
	command = doc[0].Key
	inside := false
	kept := bson.D{}
	for _, e := range doc {
		switch e.Key {
		case "autocommit":
			inside = true
		case "$readPreference":
			p.prefer(command, e.Value)
		case "lsid", "txnNumber", "startTransaction", "readConcern", "writeConcern", "$clusterTime":
		default:
			kept = append(kept, e)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if inside {
		note := command
		if set, isText := doc[0].Value.(string); isText {
			note += " " + set
		}
		if slices.ContainsFunc(doc, func(e bson.E) bool { return e.Key == "startTransaction" }) {
			note = "begin " + note
		}
		p.notes = append(p.notes, note)
	}
	if failure := p.fail[command]; failure != nil {
		delete(p.fail, command)
		return command, failure
	}
	if command == "commitTransaction" || command == "abortTransaction" || command == "endSessions" {
		return command, bson.D{{Key: "ok", Value: 1}}
	}
	raw, _ = bson.Marshal(kept)
	m.body = append(append(append([]byte{}, m.body[:5]...), raw...), rest...)
	m.body[0] &^= 1 // without a checksum
	return command, nil
}

// prefer notes the mode of a read preference.
func (p *Replica) prefer(command string, preference any) {
	if command != "find" && command != "aggregate" {
		return
	}
	of, _ := preference.(bson.D)
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, e := range of {
		if mode, ok := e.Value.(string); ok && e.Key == "mode" {
			p.modes = append(p.modes, command+" "+mode)
		}
	}
}

// member makes an answer to a greeting that of a member of a replica set.
func member(m *message, address string) {
	from := 5
	if m.op == opReply {
		from = 20
	}
	raw, _, ok := bsoncore.ReadDocument(m.body[from:])
	var doc bson.D
	if !ok || bson.Unmarshal(raw, &doc) != nil {
		return
	}
	doc = append(doc, bson.E{Key: "setName", Value: "harbour"}, bson.E{Key: "hosts", Value: bson.A{address}}, bson.E{Key: "primary", Value: address},
		bson.E{Key: "me", Value: address}, bson.E{Key: "setVersion", Value: 1})
	if !slices.ContainsFunc(doc, func(e bson.E) bool { return e.Key == "logicalSessionTimeoutMinutes" }) {
		doc = append(doc, bson.E{Key: "logicalSessionTimeoutMinutes", Value: 30})
	}
	raw, _ = bson.Marshal(doc)
	m.body = append(append([]byte{}, m.body[:from]...), raw...)
}
