package demotest

import (
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"
)

// A Fault is what a [Proxy] does with what a store answers.
type Fault string

const (
	NoFault Fault = "none"
	Dead    Fault = "dead"    // nothing listens
	Hanging Fault = "hanging" // it takes connections and requests, and is silent
	Slow    Fault = "slow"    // each piece of an answer comes late, and all do in the end
	Garbage Fault = "garbage" // other bytes
	Cut     Fault = "cut"     // half of a piece, and then the end
	Trickle Fault = "trickle" // byte by byte
	Reset   Fault = "reset"   // the connection is reset
)

// A Proxy stands between Osprey and a store. Connections that are there when the
// fault changes have the new one from then on.
type Proxy struct {
	Address string // host:port
	target  string
	t       testing.TB

	mu    sync.Mutex // guards what follows
	fault Fault
	l     net.Listener
	conns map[net.Conn]bool
	turn  chan struct{} // closed when the fault changes
}

// NewProxy starts a proxy to host:port. It ends with the test.
func NewProxy(t testing.TB, target string) *Proxy {
	t.Helper()
	p := &Proxy{target: target, t: t, fault: NoFault, conns: map[net.Conn]bool{}, turn: make(chan struct{})}
	p.listen("127.0.0.1:0")
	p.Address = p.l.Addr().String()
	t.Cleanup(func() { p.Be(Dead) })
	return p
}

func (p *Proxy) listen(address string) {
	p.t.Helper()
	l, err := net.Listen("tcp", address)
	for range 50 { // the port was in use a moment ago
		if err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
		l, err = net.Listen("tcp", address)
	}
	if err != nil {
		p.t.Fatal(err)
	}
	p.l = l
	go p.accept(l)
}

// Be changes the fault.
func (p *Proxy) Be(fault Fault) {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	was := p.fault
	p.fault = fault
	close(p.turn)
	p.turn = make(chan struct{})
	switch {
	case fault == Dead && was != Dead:
		p.l.Close()
		for c := range p.conns {
			c.Close()
		}
	case fault != Dead && was == Dead:
		p.listen(p.Address)
	}
}

func (p *Proxy) now() (Fault, chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.fault, p.turn
}

func (p *Proxy) keep(c net.Conn, open bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if open {
		p.conns[c] = true
	} else {
		delete(p.conns, c)
		c.Close()
	}
}

func (p *Proxy) accept(l net.Listener) {
	for {
		client, err := l.Accept()
		if err != nil {
			return
		}
		p.keep(client, true)
		server, err := net.Dial("tcp", p.target)
		if err != nil {
			p.keep(client, false)
			continue
		}
		p.keep(server, true)
		go func() {
			defer p.keep(server, false)
			buf := make([]byte, 32<<10)
			for {
				n, err := client.Read(buf)
				if n > 0 {
					if _, err := server.Write(buf[:n]); err != nil {
						return
					}
				}
				if err != nil {
					return
				}
			}
		}()
		go func() {
			defer p.keep(client, false)
			buf := make([]byte, 32<<10)
			for {
				n, err := server.Read(buf)
				if n > 0 && !p.pass(client, buf[:n]) {
					return
				}
				if err != nil {
					return
				}
			}
		}()
	}
}

// pass passes a piece of an answer on, as the fault has it; false ends the
// connection.
func (p *Proxy) pass(to net.Conn, piece []byte) bool {
	fault, turn := p.now()
	switch fault {
	case Hanging:
		<-turn
		return p.pass(to, piece)
	case Slow:
		time.Sleep(30 * time.Millisecond)
	case Garbage:
		other := make([]byte, len(piece))
		for i := range other {
			other[i] = byte(rand.Uint32())
		}
		piece = other
	case Cut:
		to.Write(piece[:len(piece)/2])
		return false
	case Trickle:
		for i := range piece {
			if _, err := to.Write(piece[i : i+1]); err != nil {
				return false
			}
			select {
			case <-turn:
				_, err := to.Write(piece[i+1:])
				return err == nil
			case <-time.After(50 * time.Millisecond):
			}
		}
		return true
	case Reset:
		if tcp, ok := to.(*net.TCPConn); ok {
			tcp.SetLinger(0)
		}
		return false
	}
	_, err := to.Write(piece)
	return err == nil
}
