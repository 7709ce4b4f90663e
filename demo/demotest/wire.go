package demotest

import (
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"sync"
	"testing"

	"go.mongodb.org/mongo-driver/v2/bson"
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
	target, err := url.Parse(running.InspectionsURL)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	w := &Wire{URL: "mongodb://" + l.Addr().String() + target.Path + "?directConnection=true"}
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
			go func() { io.Copy(client, server); client.Close() }()
			go func() { w.pass(client, server); server.Close() }()
		}
	}()
	return w
}

// Reads returns the commands that read records since the last call.
func (w *Wire) Reads() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	var reads []string
	for _, c := range w.commands {
		switch c {
		case "find", "getMore", "aggregate", "count", "distinct":
			reads = append(reads, c)
		}
	}
	w.commands = nil
	return reads
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

// pass copies messages and reads the command of each: OP_MSG has a header of
// 16 bytes, flags of 4, and a section of kind 0 with one document, whose first
// element is named for the command.
func (w *Wire) pass(from io.Reader, to io.Writer) {
	const opMsg = 2013
	for {
		var header [16]byte
		if _, err := io.ReadFull(from, header[:]); err != nil {
			return
		}
		size := binary.LittleEndian.Uint32(header[:])
		if size < 16 || size > 64<<20 {
			return
		}
		body := make([]byte, size-16)
		if _, err := io.ReadFull(from, body); err != nil {
			return
		}
		if binary.LittleEndian.Uint32(header[12:]) == opMsg && len(body) > 5 && body[4] == 0 {
			if first, err := bson.Raw(body[5:]).IndexErr(0); err == nil {
				w.mu.Lock()
				w.commands = append(w.commands, first.Key())
				w.texts = append(w.texts, bson.Raw(body[5:]).String())
				w.mu.Unlock()
			}
		}
		if _, err := to.Write(append(header[:], body...)); err != nil {
			return
		}
	}
}
