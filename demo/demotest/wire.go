package demotest

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"slices"
	"sync"
	"testing"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// A Wire stands between Osprey and the document server and notes the name of
// every command that passes.
type Wire struct {
	URL string // leads through the wire

	mu       sync.Mutex
	commands []string
	texts    []string
}

// NewWire starts a wire to the harbour's document server.
func NewWire(t *testing.T) *Wire {
	t.Helper()
	w := &Wire{}
	w.URL = between(t, func(client, server net.Conn, _ string) {
		go io.Copy(client, server)
		w.pass(client, server)
	})
	return w
}

// between listens before the harbour's document server, and serves each connection with one to
// the server; it returns the address that leads there. Both are closed when serve returns.
func between(t *testing.T, serve func(client, server net.Conn, address string)) (leads string) {
	t.Helper()
	target, err := url.Parse(running.InspectionsURL)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", target.Host)
			if err != nil {
				client.Close()
				continue
			}
			go func() {
				serve(client, server, l.Addr().String())
				client.Close()
				server.Close()
			}()
		}
	}()
	return "mongodb://" + l.Addr().String() + target.Path + "?directConnection=true"
}

// Reads returns the commands that read records since the last call.
func (w *Wire) Reads() []string {
	return slices.DeleteFunc(w.Commands(), func(c string) bool { return slices.Contains(writes, c) })
}

// writes are the commands that write records.
var writes = []string{"insert", "update", "delete", "findAndModify"}

// Commands returns the commands that read or write records since the last call.
func (w *Wire) Commands() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	commands := slices.DeleteFunc(w.commands, func(c string) bool {
		return !slices.Contains(writes, c) && !slices.Contains([]string{"find", "getMore", "aggregate", "count", "distinct"}, c)
	})
	w.commands = nil
	return commands
}

// Texts returns the commands that have passed since the last call as JSON, those
// that read records or not.
func (w *Wire) Texts() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	texts := w.texts
	w.texts = nil
	return texts
}

// note reads a command: a document whose first element is named for it, and behind it
// sections of kind 1 with more documents, each with its size and name.
func (w *Wire) note(sections []byte) {
	command, rest, ok := bsoncore.ReadDocument(sections)
	first, err := bson.Raw(command).IndexErr(0)
	if !ok || err != nil {
		return
	}
	text := bson.Raw(command).String()
	for len(rest) > 5 && rest[0] == 1 {
		size := int(binary.LittleEndian.Uint32(rest[1:]))
		if size < 4 || size+1 > len(rest) {
			break
		}
		section := rest[5 : size+1]
		rest = rest[size+1:]
		for docs := section[bytes.IndexByte(section, 0)+1:]; len(docs) > 0; {
			doc, others, ok := bsoncore.ReadDocument(docs)
			if !ok {
				break
			}
			text += " " + bson.Raw(doc).String()
			docs = others
		}
	}
	w.mu.Lock()
	w.commands = append(w.commands, first.Key())
	w.texts = append(w.texts, text)
	w.mu.Unlock()
}

// pass copies messages and notes the command of each: OP_MSG has flags of 4 bytes, and a section
// of kind 0 with one document.
func (w *Wire) pass(from io.Reader, to io.Writer) {
	for {
		m, err := readMessage(from)
		if err != nil {
			return
		}
		if m.op == opMsg && len(m.body) > 5 && m.body[4] == 0 {
			w.note(m.body[5:])
		}
		if write(to, m) != nil {
			return
		}
	}
}
