package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"osprey/access"
	"osprey/records"
)

// This file makes, lists and revokes keys of client programs.

// listKeys lists the keys that are kept, without their secrets, which nobody knows.
func (s *Service) listKeys(w http.ResponseWriter, r *http.Request) {
	list, err := s.Keeper.Records.Keys(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, map[string]any{"keys": list})
}

// addKey makes a key, and shows it this once.
func (s *Service) addKey(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Name  string     `json:"name"`
		Roles []string   `json:"roles"`
		Until *time.Time `json:"until"`
		By    string     `json:"by"`
	}
	bad := s.readJSON(r, func(body []byte) *refusal {
		if err := json.Unmarshal(body, &in); err != nil {
			return badRequest(`send {"name": "board", "roles": ["screen"]}`, "the body is not a key in JSON")
		}
		return nil
	})
	switch {
	case bad != nil:
	case strings.TrimSpace(in.Name) == "" || len(in.Name) > longestClient || strings.ContainsRune(in.Name+in.By, 0):
		bad = badRequest(`send {"name": "board", "roles": ["screen"]}`, "the key has no name, or one that is too long")
	case len(in.By) > longestBy || len(in.Roles) > 100:
		bad = badRequest("", "the key has too many roles, or who makes it a name that is too long")
	case in.Until != nil && !in.Until.After(time.Now()):
		bad = badRequest("give a moment that is to come", "the key has ended before it begins")
	}
	for _, role := range in.Roles {
		if bad == nil && (role == "" || len(role) > longestBy || strings.ContainsRune(role, 0)) {
			bad = badRequest("", "a role has no name, or one that is too long")
		}
	}
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return
	}
	if in.Roles == nil {
		in.Roles = []string{}
	}
	roles, err := json.Marshal(in.Roles)
	if err != nil {
		panic(err) // texts
	}
	made := access.Make()
	key := &records.Key{ID: made.ID, Name: in.Name, Hash: made.Hash, Roles: roles, By: byOf(r, in.By), Until: in.Until}
	if err := s.Keeper.Records.AddKey(r.Context(), key); err != nil {
		troubled(w, err)
		return
	}
	s.Keeper.ReadKeys(r.Context())
	s.Log.InfoContext(r.Context(), "a key was made", "key", key.ID, "name", key.Name, "roles", in.Roles, "by", key.By)
	answer(w, struct {
		*records.Key
		Secret string `json:"key"`
	}{key, made.String()})
}

// revokeKey ends a key, or all keys of a name.
func (s *Service) revokeKey(w http.ResponseWriter, r *http.Request) {
	id, by := inPath(r, "id"), byOf(r, r.URL.Query().Get("by"))
	err := s.Keeper.Records.RevokeKey(r.Context(), id, by)
	switch {
	case errors.Is(err, records.ErrNoKey):
		problem(w, http.StatusNotFound, "there is no key "+clipped(id)+", or it was revoked before", "osprey keys list tells them")
	case err != nil:
		troubled(w, err)
	default:
		s.Keeper.ReadKeys(r.Context())
		s.Log.InfoContext(r.Context(), "a key was revoked", "key", id, "by", by)
		w.WriteHeader(http.StatusNoContent)
	}
}
