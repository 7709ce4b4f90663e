package logical

import (
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pglogrepl"

	"osprey/core/store"
)

// This file keeps what was heard, for those who go on where they were: a database has few slots, and there may be
// many who come back at once.

// A position is a place in the log: behind all transactions that were committed before lsn, and behind the first n changes of
// the one that was committed there.
type position struct {
	system string // of which database server
	lsn    pglogrepl.LSN
	n      int
}

func (p position) String() string { return fmt.Sprintf("log|%s|%s|%d", p.system, p.lsn, p.n) }

// positionOf reads what String has written; false if it is no position.
func positionOf(text string) (p position, ok bool) {
	parts := strings.Split(text, "|")
	if len(parts) != 4 || parts[0] != "log" {
		return p, false
	}
	var err1, err2 error
	p.system = parts[1]
	p.lsn, err1 = pglogrepl.ParseLSN(parts[2])
	p.n, err2 = strconv.Atoi(parts[3])
	return p, err1 == nil && err2 == nil && p.n >= 0
}

func (p position) before(other position) bool {
	return p.lsn < other.lsn || p.lsn == other.lsn && p.n < other.n
}

// id returns a number of what stands at a position.
func (p position) id() int64 {
	h := fnv.New64a()
	_ = binary.Write(h, binary.BigEndian, []uint64{uint64(p.lsn), uint64(p.n)}) // which a hash takes always
	return int64(h.Sum64())
}

// logged is something that the log tells.
type logged struct {
	at, behind position
	when       time.Time
	event      store.Event
	emptied    string // the table that was emptied as a whole, instead of an event
}

// mostKept is how many changes are kept.
const mostKept = 50_000

// history is what a reader has heard.
type history struct {
	list    []logged
	from    position // behind what is not kept any more
	reached position
	until   pglogrepl.LSN // where the log was when the reading began
}

// keep keeps what was heard, and notes how far the log was read.
func (r *reader) keep(list []logged, reached position) {
	l := r.log
	l.mu.Lock()
	defer l.mu.Unlock()
	h := &r.history
	h.list = append(h.list, list...)
	if h.reached.before(reached) {
		h.reached = reached
	}
	gone := max(0, len(h.list)-mostKept)
	for gone < len(h.list) && time.Since(h.list[gone].when) > l.Keeps {
		gone++
	}
	if gone > 0 {
		h.from = h.list[gone-1].behind
		h.list = append([]logged{}, h.list[gone:]...)
	}
	close(l.news)
	l.news = make(chan struct{})
}

// isBehind reports whether the log has not been read up to where it was when the reading began. It needs mu of the log.
func (h *history) isBehind() bool { return h.reached.lsn < h.until }

// since returns what was heard since a position. It needs mu of the log.
func (h *history) since(at position) (store.Batch, error) {
	if at.system != h.from.system || at.before(h.from) {
		return store.Batch{}, store.ErrTooOld
	}
	return batchOf(h.list, at, h.reached), nil
}

// batchOf returns what is told of what was heard from one position up to another.
func batchOf(list []logged, from, to position) store.Batch {
	b := store.Batch{At: to.String()}
	for _, e := range list {
		switch {
		case e.at.before(from):
		case e.emptied != "":
			b.Lost = append(b.Lost, e.emptied)
		default:
			b.Events = append(b.Events, e.event)
		}
	}
	return b
}
