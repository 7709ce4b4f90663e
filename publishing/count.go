package publishing

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"osprey/core/traffic"
	"osprey/project"
	"osprey/records"
)

// This file writes what is asked, in batches, in the background.

// Count counts a request that a client has made, by its id, and the time that its answer took: below 0 if nobody waited.
func (k *Keeper) Count(a *project.Answer, client, request string, took time.Duration) {
	asked := askedOf(a, client)
	asked.Took = took
	if k.samples {
		asked.Samples = samplesOf(a, request, took)
	}
	k.tally.Add(k.slot(), &asked)
}

// spent counts what stores were asked for streams.
func (k *Keeper) spent(a *project.Answer, client string) {
	asked := askedOf(a, client)
	asked.Apart = true
	k.tally.Add(k.slot(), &asked)
}

func askedOf(a *project.Answer, client string) traffic.Asked {
	asked := traffic.Asked{Operation: a.Operation(), Client: client, Codes: a.Codes()}
	asked.Made = make([]traffic.AskedOf, 0, len(a.Requests))
	for i := range a.Requests {
		r := &a.Requests[i]
		asked.Requests += int64(r.RoundTrips)
		asked.Records += int64(r.Records)
		made := traffic.Made{Asked: 1, Requests: int64(r.RoundTrips), Keys: int64(r.Keys + r.Calls), Records: int64(r.Records), Bytes: r.Bytes, At: r.At, Took: r.Time, Most: r.Time}
		if r.Err != nil {
			made.Failed = 1
		}
		asked.Made = append(asked.Made, traffic.AskedOf{Request: traffic.Request{ID: r.ID, Wave: r.Wave, Source: r.Source, Asks: r.Asks}, Made: made})
	}
	return asked
}

// samplesOf returns the first error of each code.
func samplesOf(a *project.Answer, request string, took time.Duration) (list []traffic.Sample) {
	for i := range a.Faults {
		f := &a.Faults[i]
		if slices.ContainsFunc(list, func(s traffic.Sample) bool { return s.Code == f.Code }) {
			continue
		}
		s := traffic.Sample{At: time.Now(), Code: f.Code, Message: f.Message, Source: f.Source, Request: request, Took: max(took, 0)}
		if len(f.Path) > 0 {
			path, _ := json.Marshal(f.Path)
			s.Path = string(path)
		}
		list = append(list, s)
	}
	return list
}

// slot returns the slot of this moment: by how long this service runs, not by a clock that is set.
func (k *Keeper) slot() int64 { return int64(time.Since(k.began) / slot) }

// count writes what was counted, again and again.
func (k *Keeper) count(ctx context.Context) {
	timer := time.NewTicker(writeEvery)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
			k.write(ctx)
			k.tellUsed(ctx)
		}
	}
}

// write writes what was counted. What cannot be written is kept, and written again with the same
// number, so that it counts once even if it was written and nobody heard of it.
func (k *Keeper) write(ctx context.Context) {
	select {
	case <-k.unsent:
		defer func() { k.unsent <- struct{}{} }()
	case <-ctx.Done():
		return
	}
	for k.writeBatch(ctx) {
	}
}

// writeBatch writes one batch. It reports whether there is more to write.
func (k *Keeper) writeBatch(ctx context.Context) bool {
	b := k.nextBatch()
	if b == nil {
		return false
	}
	b.Ages = map[int64]time.Duration{}
	for key := range b.Entries {
		if key.Slot < k.slot() { // it waited; when in its slot it was asked is not known
			b.Ages[key.Slot] = time.Since(k.began) - time.Duration(key.Slot)*slot - slot/2
		}
	}
	err := k.Records.Write(ctx, b)
	k.reached(ctx, err)
	requests := int64(0)
	for _, e := range b.Entries {
		requests += e.Asked
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case err == nil:
		k.written.Add(requests)
	case ctx.Err() != nil || errors.Is(err, records.ErrAway) || errors.Is(err, records.ErrNoRoom) || errors.Is(err, records.ErrNewer):
		return false // it is written when that has passed
	default: // the database refuses what is in it
		if k.refused++; k.refused < refusals {
			return false
		}
		k.tally.Drop(requests)
	}
	k.batches, k.refused = k.batches[1:], 0
	return true
}

// nextBatch returns the batch that is to be written next, of a bounded size; nil if there is none.
func (k *Keeper) nextBatch() *records.Batch {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.batches) == 0 {
		all := k.tally.Take()
		var b *records.Batch
		for key, e := range all.Entries {
			if b == nil || len(b.Entries) >= atOnce {
				k.made++
				b = &records.Batch{Instance: k.id, Number: k.made, Entries: map[traffic.Key]*traffic.Entry{}, Operations: map[traffic.ID]*traffic.Operation{}}
				k.batches = append(k.batches, b)
			}
			b.Entries[key] = e
			if o := all.Operations[key.Operation]; o != nil {
				b.Operations[o.ID] = o
			}
		}
	}
	if len(k.batches) == 0 {
		return nil
	}
	return k.batches[0]
}
