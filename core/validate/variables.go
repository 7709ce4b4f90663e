package validate

import (
	"fmt"

	"osprey/core/language"
	"osprey/core/schema"
)

// variableDefinitions checks the variables an operation declares: sections
// 5.8.1, 5.8.2 and the values of their defaults.
func (c *checker) variableDefinitions(op *language.Operation) {
	seen := map[string]bool{}
	for _, d := range op.Variables {
		c.spend(1)
		if seen[d.Name.Text] {
			c.report("Variable Uniqueness", d.Pos, fmt.Sprintf(msgVariableDeclaredTwice, d.Name.Text))
		}
		seen[d.Name.Text] = true
		schema.CheckDirectives(c.schema, d.Directives, "VARIABLE_DEFINITION", c.report, nil)
		t := VariableType(c.schema, d.Type)
		if t == nil {
			name := d.Type.Innermost().Name
			c.report("Variables Are Input Types", d.Type.Innermost().Pos, fmt.Sprintf(msgTypeNotDefined, name,
				language.DidYouMean(name, c.schema.TypeNames(func(t schema.Named) bool { return schema.IsInput(t) }))))
			continue
		}
		if !schema.IsInput(t) {
			c.report("Variables Are Input Types", d.Type.Pos, fmt.Sprintf(msgVariableCannotTypeOnly, d.Name.Text, t, schema.KindOf(schema.NamedOf(t))))
			continue
		}
		if d.Default != nil {
			schema.CheckLiteral(t, d.Default, func(pos language.Pos, msg string) {
				c.report("Values of Correct Type", pos, fmt.Sprintf(msgDefaultDoesNotFit, d.Name.Text, msg))
			}, nil)
		}
	}
}

// VariableType returns the type that a reference in an operation means, or nil
// if the schema does not know it.
func VariableType(s *schema.Schema, ref *language.TypeRef) schema.Type {
	var t schema.Type
	if ref.Elem != nil {
		elem := VariableType(s, ref.Elem)
		if elem == nil {
			return nil
		}
		t = &schema.List{Elem: elem}
	} else {
		named := s.Type(ref.Name)
		if named == nil {
			return nil
		}
		t = named
	}
	if ref.NonNull {
		return &schema.NonNull{Elem: t}
	}
	return t
}

// variableRules checks how an operation and the fragments it reaches use its
// variables: sections 5.8.3, 5.8.4 and 5.8.5.
func (c *checker) variableRules(op *language.Operation, own *uses) {
	declared := map[string]*language.VariableDefinition{}
	for _, d := range op.Variables {
		declared[d.Name.Text] = d
	}
	used := map[string]bool{}
	told := map[string]bool{}
	check := func(list []variableUse, fragment string) {
		for _, use := range list {
			c.spend(1)
			name := use.variable.Name
			d := declared[name]
			if d == nil {
				if !told[name] {
					told[name] = true
					c.undeclared(op, use.variable, fragment, declared)
				}
				continue
			}
			used[name] = true
			c.usage(d, use)
		}
	}
	check(own.variables, "")
	visited := map[string]bool{}
	queue := own.spreads
	for len(queue) > 0 {
		name := queue[0].Name.Text
		queue = queue[1:]
		c.spend(1)
		if visited[name] || c.fragments[name] == nil {
			continue
		}
		visited[name] = true
		u := c.usesOf(name)
		check(u.variables, name)
		queue = append(queue, u.spreads...)
	}
	for _, d := range op.Variables {
		if !used[d.Name.Text] {
			c.add("All Variables Used", d.Pos, msgVariableDeclaredNotUsed, d.Name.Text).
				Fix = "use it, or leave it out"
		}
	}
}

// usesOf returns what a fragment's own text refers to. Its faults have been
// told before, when the fragment was checked by itself.
func (c *checker) usesOf(name string) *uses {
	u := c.fragmentUses[name]
	if u.spreads != nil || u.variables != nil {
		return u
	}
	f := c.fragments[name]
	on, ok := c.schema.Type(f.On.Text).(schema.Composite)
	if !ok {
		return u
	}
	quiet := &checker{schema: c.schema, fragments: c.fragments, uses: u, effort: c.effort}
	quiet.directives(f.Directives, "FRAGMENT_DEFINITION")
	quiet.selections(f.Selections, on)
	return u
}

func (c *checker) undeclared(op *language.Operation, v *language.Variable, fragment string, declared map[string]*language.VariableDefinition) {
	var names []string
	for name := range declared {
		names = append(names, name)
	}
	where := "this operation"
	if op.Name.Text != "" {
		where = "the operation " + op.Name.Text
	}
	if fragment != "" {
		where += ", which uses the fragment " + fragment
	}
	c.add("All Variable Uses Defined", v.Pos, msgVariableNotDeclared, v.Name, where, language.DidYouMean(v.Name, names))
}

// usage checks that a variable may stand where it is used: section 5.8.5.
func (c *checker) usage(d *language.VariableDefinition, use variableUse) {
	t := VariableType(c.schema, d.Type)
	if t == nil || use.expected == nil || !schema.IsInput(t) {
		return
	}
	_, nullDefault := d.Default.(*language.NullValue)
	expected := use.expected
	if n, ok := expected.(*schema.NonNull); ok && !schema.IsNonNull(t) && (d.Default != nil && !nullDefault || use.hasDefault) {
		expected = n.Elem
	}
	if !compatible(t, expected) {
		p := c.add("All Variable Usages Are Allowed", use.variable.Pos, msgVariableTypeCannotStand, d.Name.Text, t, use.expected)
		p.Others = []language.Pos{d.Pos}
		p.Fix = fmt.Sprintf("declare it as $%s: %s", d.Name.Text, use.expected)
	}
}

// compatible is AreTypesCompatible of section 5.8.5.
func compatible(variable, location schema.Type) bool {
	if n, ok := location.(*schema.NonNull); ok {
		v, ok := variable.(*schema.NonNull)
		return ok && compatible(v.Elem, n.Elem)
	}
	variable = schema.Nullable(variable)
	if l, ok := location.(*schema.List); ok {
		v, ok := variable.(*schema.List)
		return ok && compatible(v.Elem, l.Elem)
	}
	return variable == location
}
