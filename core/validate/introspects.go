package validate

import "osprey/core/language"

// Introspects returns the place of the first field by which a valid operation
// asks for the schema (__schema or __type, section 4.1), or NoPos. Such fields
// stand at the root only, be it in fragments.
func Introspects(doc *language.Document, op *language.Operation) language.Pos {
	fragments := map[string]*language.Fragment{}
	for _, d := range doc.Definitions {
		if f, ok := d.(*language.Fragment); ok {
			fragments[f.Name.Text] = f
		}
	}
	visited := map[string]bool{}
	var look func(set *language.SelectionSet) language.Pos
	look = func(set *language.SelectionSet) language.Pos {
		for _, sel := range set.List {
			found := language.NoPos
			switch sel := sel.(type) {
			case *language.Field:
				if sel.Name.Text == "__schema" || sel.Name.Text == "__type" {
					found = sel.Name.Pos
				}
			case *language.InlineFragment:
				found = look(sel.Selections)
			case *language.FragmentSpread:
				if !visited[sel.Name.Text] {
					visited[sel.Name.Text] = true
					found = look(fragments[sel.Name.Text].Selections)
				}
			}
			if found != language.NoPos {
				return found
			}
		}
		return language.NoPos
	}
	return look(op.Selections)
}
