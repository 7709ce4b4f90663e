package validate

import (
	"fmt"

	"strings"

	"osprey/core/language"
	"osprey/core/schema"
)

// fragmentRules checks what concerns fragments as a whole: that they form no
// cycles (5.5.2.2) and are used (5.5.1.4). It fills fragmentUses.
func (c *checker) fragmentRules() {
	c.fragmentUses = map[string]*uses{}
	for _, f := range c.fragmentList {
		c.fragmentUses[f.Name.Text] = &uses{}
	}
	c.cycles()
	used := map[string]bool{}
	var mark func(set *language.SelectionSet)
	mark = func(set *language.SelectionSet) {
		for _, spread := range spreadsIn(set, nil) {
			c.spend(1)
			if f := c.fragments[spread.Name.Text]; f != nil && !used[f.Name.Text] {
				used[f.Name.Text] = true
				mark(f.Selections)
			}
		}
	}
	for _, op := range c.operations {
		mark(op.Selections)
	}
	for _, f := range c.fragmentList {
		if !used[f.Name.Text] {
			c.add("Fragments Must Be Used", f.Name.Pos, msgNoOperationUsesFragment, f.Name.Text).
				Fix = "remove it, or spread it with ..." + f.Name.Text
		}
	}
}

// spreadsIn appends the fragment spreads of a selection set, nested ones included.
func spreadsIn(set *language.SelectionSet, list []*language.FragmentSpread) []*language.FragmentSpread {
	if set == nil {
		return list
	}
	for _, sel := range set.List {
		switch sel := sel.(type) {
		case *language.Field:
			list = spreadsIn(sel.Selections, list)
		case *language.InlineFragment:
			list = spreadsIn(sel.Selections, list)
		case *language.FragmentSpread:
			list = append(list, sel)
		}
	}
	return list
}

// cycles tells of fragments that contain themselves: section 5.5.2.2.
func (c *checker) cycles() {
	const (
		open = iota + 1
		done
	)
	state := map[string]int{}
	var path []string
	var visit func(f *language.Fragment)
	visit = func(f *language.Fragment) {
		state[f.Name.Text] = open
		path = append(path, f.Name.Text)
		for _, spread := range spreadsIn(f.Selections, nil) {
			c.spend(1)
			next := c.fragments[spread.Name.Text]
			if next == nil {
				continue
			}
			switch state[next.Name.Text] {
			case 0:
				visit(next)
			case open:
				i := len(path) - 1
				for path[i] != next.Name.Text {
					i--
				}
				between := path[i:]
				if len(between) > 10 {
					between = append(append([]string{}, between[:10]...), "…")
				}
				circle := strings.Join(append(append([]string{}, between...), next.Name.Text), " → ")
				c.report("Fragment Spreads Must Not Form Cycles", spread.Pos, fmt.Sprintf(msgFragmentContainsItself, next.Name.Text, circle))
			}
		}
		path = path[:len(path)-1]
		state[f.Name.Text] = done
	}
	for _, f := range c.fragmentList {
		if state[f.Name.Text] == 0 {
			visit(f)
		}
	}
}

// composite returns the type of a fragment's condition, or nil after telling
// what is wrong with it: sections 5.5.1.2 and 5.5.1.3.
func (c *checker) composite(name language.Name) schema.Composite {
	t := c.schema.Type(name.Text)
	if t == nil {
		names := c.schema.TypeNames(func(t schema.Named) bool { _, ok := t.(schema.Composite); return ok })
		c.report("Fragment Spread Type Existence", name.Pos, fmt.Sprintf(msgTypeNotDefined, name.Text, language.DidYouMean(name.Text, names)))
		return nil
	}
	composite, ok := t.(schema.Composite)
	if !ok {
		c.report("Fragments on Object, Interface or Union Types", name.Pos, fmt.Sprintf(msgFragmentCannot, name.Text, schema.KindOf(t)))
		return nil
	}
	return composite
}

// spread checks a spread of a named fragment: sections 5.5.2.1 and 5.5.2.3.
func (c *checker) spread(s *language.FragmentSpread, on schema.Composite) {
	f := c.fragments[s.Name.Text]
	if f == nil {
		names := make([]string, 0, len(c.fragments))
		for name := range c.fragments {
			names = append(names, name)
		}
		c.report("Fragment Spread Target Defined", s.Name.Pos, fmt.Sprintf(msgFragmentNotDefined, s.Name.Text, language.DidYouMean(s.Name.Text, names)))
		return
	}
	if c.uses != nil {
		c.uses.spreads = append(c.uses.spreads, s)
	}
	if t, ok := c.schema.Type(f.On.Text).(schema.Composite); ok {
		c.possible(s.Pos, "the fragment "+f.Name.Text, t, on)
	}
}

// possible tells of a fragment that can never apply: section 5.5.2.3.
func (c *checker) possible(pos language.Pos, what string, t, on schema.Composite) {
	if !c.schema.Overlap(t, on) {
		c.report("Fragment Spread Is Possible", pos, fmt.Sprintf(msgCanNeverApplyValue, what, on.String(), t.String()))
	}
}
