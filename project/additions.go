package project

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"osprey/core/binding"
	"osprey/core/schema"
	"osprey/core/store"
	"osprey/stores/contain"
	"osprey/stores/functions"
)

// Additions are what a program brings to a project beyond its folder.
type Additions struct {
	// Bare says that there need be no schema yet.
	Bare bool
	// Begins says that a project without types is served, until it has some.
	Begins    bool
	Sources   map[string]AddedSource    // by name
	Functions map[string]functions.Func // by source and name, with a dot between
	Texts     []schema.Text
	// Waiting is told which sources have not told what they hold, if they take long.
	Waiting func(sources []string)
}

// An AddedSource is a store that the program opened. The project closes it.
type AddedSource struct {
	Store  store.Source
	Naming string // one of [binding.Namings]; "" is exact
}

// add makes the additions sources of the project. Those of a name that
// osprey.yaml has must be of the kind "program" there.
func (p *Project) add(a *Additions) error {
	all := maps.Clone(a.Sources)
	if all == nil {
		all = map[string]AddedSource{}
	}
	for name, f := range a.Functions {
		source, function, ok := strings.Cut(name, ".")
		if !ok {
			return fmt.Errorf("the function %q has no source; name it as in harbour.%s", name, name)
		}
		if _, has := all[source]; !has {
			own := &functions.Program{Functions: map[string]functions.Func{}}
			if c := p.Config.Sources[source]; c != nil {
				own.Timeout = time.Duration(c.Timeout)
			}
			all[source] = AddedSource{Store: own}
		}
		own, ok := all[source].Store.(*functions.Program)
		if !ok {
			return fmt.Errorf("the function %q has the source %s, which has record sets", name, source)
		}
		own.Functions[function] = f
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		added := all[name]
		if known := p.Sources[name]; known != nil && known.Kind != functions.Local {
			return fmt.Errorf("the source %s is in osprey.yaml already, of the kind %s", name, known.Kind)
		}
		if added.Naming == "" {
			added.Naming = string(binding.Exact)
		}
		if !slices.Contains(binding.Namings, added.Naming) {
			return fmt.Errorf("the source %s has the naming rule %q; there are %s", name, added.Naming, strings.Join(binding.Namings, ", "))
		}
		s := &Source{Name: name, Kind: functions.Local, Store: p.contained(name, added.Store), naming: binding.Naming(added.Naming)}
		s.users.Store(1)
		p.Sources[name] = s
	}
	p.texts = append(p.texts, a.Texts...)
	return nil
}

// contained stands around code that is not Osprey's own.
func (p *Project) contained(name string, s store.Source) store.Source {
	if own, ok := s.(*functions.Program); ok {
		return own
	}
	timeout := time.Duration(0)
	if c := p.Config.Sources[name]; c != nil {
		timeout = time.Duration(c.Timeout)
	}
	return contain.New(s, timeout)
}

// absent is a source of the kind "program" that no program brought: what it holds
// and which functions it has is known elsewhere.
type absent struct{ functions.Program }

// errElsewhere is why nothing can be asked of it.
var errElsewhere = &store.Error{Code: store.Down, Msg: "is brought by a Go program, and this is another"}

// Catalogue says that it is not known.
func (*absent) Catalogue(context.Context) (*store.Catalogue, error) { return nil, errElsewhere }

// Capabilities says that any function may be there.
func (*absent) Capabilities() store.Capabilities {
	return store.Capabilities{CanCall: func(string, store.Signature) error { return nil }}
}

// Prepare says that it cannot be asked here.
func (*absent) Prepare(*store.Catalogue, []*store.Read) (store.Request, error) {
	return nil, errElsewhere
}

// Ping says so, too.
func (*absent) Ping(context.Context) error { return errElsewhere }
