package project

import (
	"context"
	"slices"

	"osprey/core/compare"
	"osprey/core/reference"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file tells what the schema has, for people to read.

// Reference returns what there is for a caller; with details, columns are told with what their stores say of them.
func (r *Revision) Reference(who *store.Identity, details bool) []reference.Type {
	return reference.Of(r.SchemaFor(who), r.Bound, details)
}

// Empty reports whether the project has no types of its own yet.
func (r *Revision) Empty() bool { return r.empty }

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

// A RoleView is what of the schema is not there for holders of a role.
type RoleView struct {
	Name  string   `json:"name"` // "" of somebody without a role
	Hides []string `json:"hides"`
}

// RoleViews returns what each role that rules or limits name does not see, and what somebody without any does not.
func (r *Revision) RoleViews() []RoleView {
	names := r.Bound.Roles()
	if a := r.project.Own.Access; a != nil {
		names = append(names, sortedNames(a.Roles)...)
	}
	slices.Sort(names)
	list := []RoleView{}
	for _, name := range append([]string{""}, slices.Compact(names)...) {
		own := RoleView{Name: name, Hides: []string{}}
		roles := []string{name}
		if name == "" {
			roles = nil
		}
		view := r.Bound.View(roles)
		for _, t := range r.Schema.Types() {
			seen := view.Visible(t.About().Name)
			switch {
			case r.Schema.Visible(t.About().Name) == nil:
			case seen == nil:
				own.Hides = append(own.Hides, t.About().Name)
			default:
				own.Hides = append(own.Hides, hiddenFields(t, seen)...)
			}
		}
		list = append(list, own)
	}
	return list
}

// hiddenFields returns the coordinates of fields that a view of a type has not.
func hiddenFields(t, seen schema.Named) (hidden []string) {
	view, _ := seen.(schema.Composite)
	for _, f := range schema.FieldsOf(t) {
		if view == nil || view.Field(f.Name) == nil {
			hidden = append(hidden, f.Coordinate())
		}
	}
	return hidden
}
