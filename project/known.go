package project

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"osprey/core/language"
	"osprey/core/store"
)

// This file lets some callers run nothing but operations that the project keeps.

// Which operations callers may run.
const (
	AnyOperation = "any"   // whatever they send; the default
	OnlySaved    = "saved" // those that the project keeps
)

// known finds the texts of saved operations by their SHA-256, as hexadecimal digits.
func knownTexts(saved map[string]string) map[string]string {
	known := map[string]string{}
	for _, text := range saved {
		known[HashOf(text)] = text
	}
	return known
}

// HashOf returns the SHA-256 of a text, as hexadecimal digits.
func HashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// SavedFor returns the text of the saved operation called name, or whose text has a SHA-256, if there is one for a
// caller; the other of both is "".
func (r *Revision) SavedFor(ctx context.Context, name, hash string, who *store.Identity) (text string, err error) {
	ok := false
	if hash != "" {
		text, ok = r.hashes[hash]
	} else {
		text, ok = r.saved[name]
	}
	switch {
	case ok && r.Sees(ctx, text, who):
		return text, nil
	case hash != "":
		return "", fmt.Errorf("no operation with this SHA-256 is saved in this project")
	}
	var names []string
	for other, text := range r.saved {
		if r.Sees(ctx, text, who) {
			names = append(names, other)
		}
	}
	slices.Sort(names)
	return "", fmt.Errorf("no operation %q is saved in this project%s", name, language.DidYouMean(name, names))
}

// onlySaved reports whether a caller may run nothing but saved operations: those of whose roles one may run any
// may.
func (r *Revision) onlySaved(who *store.Identity) bool {
	own := r.project.Own
	if own == nil || own.Access == nil {
		return false
	}
	only := own.Access.Operations == OnlySaved
	if who == nil {
		return only
	}
	for _, role := range who.Roles {
		switch c := own.Access.Roles[role]; {
		case c == nil || c.Operations == "":
		case c.Operations == AnyOperation:
			return false
		default:
			only = true
		}
	}
	return only
}

// unknown says that a caller may not run a text; nil if it may.
func (r *Revision) unknown(q *Request) *Fault {
	if !r.onlySaved(q.who()) {
		return nil
	}
	if _, ok := r.hashes[HashOf(q.Query)]; ok {
		return nil
	}
	return &Fault{Message: "this caller runs operations that the project keeps, and this is none of them", Code: CodeDenied, Fix: "send the operationName of one, or its text as it is; /api/v1/operations lists them"}
}
