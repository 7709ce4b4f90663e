package project

import (
	"context"

	"osprey/core/compare"
	"osprey/core/reference"
	"osprey/core/store"
)

// This file tells what the schema has, for people to read.

// Reference returns what there is for a caller; with details, columns are told with what their stores say of them.
func (r *Revision) Reference(who *store.Identity, details bool) []reference.Type {
	return reference.Of(r.SchemaFor(who), r.Bound, details)
}

// Where says where the values of a field come from; "" if nothing is known, or it is not there for the caller.
func (r *Revision) Where(who *store.Identity, coordinate string, details bool) string {
	return reference.Where(r.SchemaFor(who), r.Bound, coordinate, details)
}

// SavedUses returns which of the project's operations use what, by coordinates.
func (r *Revision) SavedUses(ctx context.Context, who *store.Identity) map[string][]string {
	uses := map[string][]string{}
	for _, op := range r.Operations {
		d, err := r.document(ctx, op.Text, who)
		if err != nil || d.problems.Failed() {
			continue // it speaks of what is not there for the caller
		}
		used := compare.NewUsed(r.SchemaFor(who))
		used.Add(d.doc)
		for _, at := range used.Coordinates() {
			uses[at] = append(uses[at], op.Name)
		}
	}
	return uses
}
