package storetest

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"osprey/core/store"
)

// Memory is a store in memory. It answers reads from records in JSON, in the
// order of their insertion, and keeps what it was asked.
type Memory struct {
	Can  store.Capabilities
	Fail func(asks string) error // decides whether a request fails; nil for never

	catalogue *store.Catalogue
	records   map[string][]any

	mu    sync.Mutex
	asked []string
}

// NewMemory makes a store of a catalogue (see [Catalogue]) and records: a JSON
// array for each record set.
func NewMemory(catalogue string, records map[string]string) *Memory {
	m := &Memory{catalogue: Catalogue(catalogue), records: map[string][]any{}}
	for set, text := range records {
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		var list []any
		if err := d.Decode(&list); err != nil {
			panic(fmt.Sprintf("storetest: records of %s: %v", set, err))
		}
		m.records[set] = list
	}
	return m
}

// Asked returns what was asked since the last call, a line for each request.
func (m *Memory) Asked() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	asked := m.asked
	m.asked = nil
	return asked
}

func (m *Memory) Catalogue(context.Context) (*store.Catalogue, error) { return m.catalogue, nil }
func (m *Memory) Capabilities() store.Capabilities                    { return m.Can }
func (m *Memory) Ping(context.Context) error                          { return nil }
func (m *Memory) Close() error                                        { return nil }

// Prepare makes a request of unfolded reads.
func (m *Memory) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	return &memoryRequest{m, reads}, nil
}

type memoryRequest struct {
	store *Memory
	reads []*store.Read
}

func (r *memoryRequest) Describe() store.Description {
	var sets []string
	for _, read := range r.reads {
		sets = append(sets, read.Set)
	}
	return store.Description{Asks: strings.Join(sets, ", ")}
}

func (r *memoryRequest) Run(_ context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	a := &store.Answer{Requests: 1}
	var asks []string
	for i, read := range r.reads {
		t := store.NewTable(read.Columns)
		var keys []string
		if len(in[i].Keys) > 0 {
			keys = rowKeys(in[i].Keys)
		}
		asks = append(asks, strings.TrimSpace(read.Set+" "+strings.Join(keys, " ")))
		members := store.NewMembers(read, &in[i])
		for _, record := range r.store.records[read.Set] {
			if members.Has(store.JSONSubject{Value: record}) {
				appendRecord(t, read.Columns, record)
			}
		}
		a.Tables = append(a.Tables, t)
	}
	asked := strings.Join(asks, "; ")
	r.store.mu.Lock()
	r.store.asked = append(r.store.asked, asked)
	r.store.mu.Unlock()
	if r.store.Fail != nil {
		if err := r.store.Fail(asked); err != nil {
			return nil, err
		}
	}
	return a, nil
}

func rowKeys(columns []store.Column) []string {
	t := store.Table{Len: columns[0].Len(), Columns: columns}
	all := make([]int, len(columns))
	for i := range all {
		all[i] = i
	}
	var keys []string
	for row := range t.Len {
		key, _ := t.AppendKey(nil, all, row)
		keys = append(keys, strings.TrimSuffix(strings.ReplaceAll(string(key), "\x00", "/"), "/"))
	}
	return keys
}

func appendRecord(t *store.Table, wanted []store.Wanted, record any) {
	t.Len++
	for i := range wanted {
		t.Columns[i].AppendJSON(&wanted[i], store.JSONPath(record, wanted[i].Path))
	}
}
