package validate

import (
	"fmt"

	"osprey/core/language"
	"osprey/core/schema"
)

// singleRootField checks that a subscription asks one field of its root:
// section 5.2.4.1, Single Root Field.
func (c *checker) singleRootField(op *language.Operation, root *schema.Object) {
	const rule = "Single Root Field"
	names := map[string]bool{}
	visited := map[string]bool{}
	var walk func(set *language.SelectionSet)
	conditional := func(list []*language.Directive) {
		for _, d := range list {
			if d.Name.Text == "skip" || d.Name.Text == "include" {
				c.report(rule, d.Pos, fmt.Sprintf(msgCannotStandAtRoot, d.Name.Text))
			}
		}
	}
	walk = func(set *language.SelectionSet) {
		for _, sel := range set.List {
			switch sel := sel.(type) {
			case *language.Field:
				conditional(sel.Directives)
				if name := sel.ResponseName(); !names[name] {
					names[name] = true
					if len(names) == 2 {
						c.report(rule, sel.Start(), fmt.Sprintf(msgSubscriptionAsksOneField, root.Name))
					}
				}
				if len(sel.Name.Text) > 1 && sel.Name.Text[:2] == "__" {
					c.report(rule, sel.Name.Pos, fmt.Sprintf(msgSubscriptionCannotAskAt, sel.Name.Text))
				}
			case *language.InlineFragment:
				conditional(sel.Directives)
				walk(sel.Selections)
			case *language.FragmentSpread:
				conditional(sel.Directives)
				if f := c.fragments[sel.Name.Text]; f != nil && !visited[f.Name.Text] {
					visited[f.Name.Text] = true
					walk(f.Selections)
				}
			}
		}
	}
	walk(op.Selections)
}
