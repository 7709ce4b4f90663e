package publishing

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	"osprey/access"
)

// This file knows the keys that are kept, so that nobody has to be asked for a request: they are read
// again when somebody tells that they have changed, and now and then.

// errNotRead is the error of keys that could not be read yet.
var errNotRead = errors.New("the keys that are kept could not be read yet")

// Keys returns the keys that hold, as they were read last.
func (k *Keeper) Keys() ([]access.Key, error) {
	if list := k.keys.Load(); list != nil {
		return *list, nil
	}
	return nil, errNotRead
}

// UsedKey says that a key was used.
func (k *Keeper) UsedKey(id string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.used == nil {
		k.used = map[string]bool{}
	}
	k.used[id] = true
}

// ReadKeys reads the keys again.
func (k *Keeper) ReadKeys(ctx context.Context) {
	kept, err := k.Records.Keys(ctx)
	k.reached(ctx, err)
	if err != nil {
		return // those that are known hold on
	}
	list := []access.Key{}
	for _, key := range kept {
		if key.Revoked != nil {
			continue
		}
		own := access.Key{ID: key.ID, Name: key.Name, Hash: key.Hash}
		if err := json.Unmarshal(key.Roles, &own.Roles); err != nil {
			continue
		}
		if key.Until != nil {
			own.Until = *key.Until
		}
		list = append(list, own)
	}
	k.keys.Store(&list)
}

// tellUsed writes which keys were used, at most once a minute.
func (k *Keeper) tellUsed(ctx context.Context) {
	k.mu.Lock()
	if len(k.used) == 0 || time.Since(k.toldUsed) < time.Minute {
		k.mu.Unlock()
		return
	}
	ids := slices.Sorted(maps.Keys(k.used))
	k.used, k.toldUsed = nil, time.Now()
	k.mu.Unlock()
	if err := k.Records.UsedKeys(ctx, ids); err != nil {
		for _, id := range ids {
			k.UsedKey(id)
		}
	}
}
