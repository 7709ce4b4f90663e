package document

import (
	"sync/atomic"

	"go.mongodb.org/mongo-driver/v2/event"

	"osprey/core/store"
)

// A pool counts the connections of a client, which tells of each what becomes of it.
type pool struct {
	most       int // to each server
	open, busy atomic.Int64
}

func (p *pool) note(e *event.PoolEvent) {
	switch e.Type {
	case event.ConnectionCreated:
		p.open.Add(1)
	case event.ConnectionClosed:
		p.open.Add(-1)
	case event.ConnectionCheckedOut:
		p.busy.Add(1)
	case event.ConnectionCheckedIn:
		p.busy.Add(-1)
	}
}

// Figures tells of the pool of connections.
func (s *Source) Figures() store.Figures {
	return store.Figures{Connections: &store.Connections{Most: s.pool.most, Open: int(s.pool.open.Load()), Busy: int(s.pool.busy.Load())}}
}
