// Package validate tells whether an operation is an operation that a schema can answer:
// section 5 (Validation) of the GraphQL specification, September 2025 edition.
//
// [Document] applies every rule to a parsed document and returns all faults in
// the order of the text. Each rule reports under its title in the
// specification. A fault is told once: what lies behind an unknown field or
// type is not looked at.
package validate

import (
	"context"
	"fmt"

	"osprey/core/language"
	"osprey/core/schema"
)

// Document returns the faults of doc, which must have parsed without problems:
// all of them, or the first hundred and word of more.
func Document(s *schema.Schema, doc *language.Document) language.Problems {
	problems, _ := DocumentContext(context.Background(), s, doc)
	return problems
}

// DocumentContext is [Document] for as long as ctx is not done; then its error
// is returned, and nothing is known of the document.
func DocumentContext(ctx context.Context, s *schema.Schema, doc *language.Document) (language.Problems, error) {
	c := &checker{schema: s, fragments: map[string]*language.Fragment{}, effort: &effort{ctx: ctx, left: maxSteps}}
	c.until(func() { c.document(doc) })
	return c.problems, ctx.Err()
}

func (c *checker) document(doc *language.Document) {
	if len(doc.Definitions) > 0 {
		c.start = doc.Definitions[0].Start()
	}
	c.collect(doc)
	c.fragmentRules()
	for _, f := range c.fragmentList {
		if on := c.composite(f.On); on != nil {
			c.directives(f.Directives, "FRAGMENT_DEFINITION")
			c.selections(f.Selections, on)
		}
	}
	for _, op := range c.operations {
		c.operation(op)
	}
	if !c.problems.Failed() {
		// Merging looks at fields across fragments, and would only repeat what
		// is wrong in one of them.
		c.merging()
	}
}

// Selections returns the faults of a selection of fields of the type on, which
// stands by itself: it has no named fragments and no variables.
func Selections(s *schema.Schema, set *language.SelectionSet, on schema.Composite) language.Problems {
	c := &checker{schema: s, fragments: map[string]*language.Fragment{}, uses: &uses{}, effort: &effort{ctx: context.Background(), left: maxSteps}}
	c.until(func() {
		c.selections(set, on)
		for _, v := range c.uses.variables {
			c.report("All Variable Uses Defined", v.variable.Pos, fmt.Sprintf(msgNoVariables, v.variable.Name))
		}
		if !c.problems.Failed() {
			c.mergeable(set, on)
		}
	})
	return c.problems
}

type checker struct {
	schema       *schema.Schema
	operations   []*language.Operation
	fragments    map[string]*language.Fragment
	fragmentList []*language.Fragment
	problems     language.Problems
	more         bool // there may be others than problems
	effort       *effort
	start        language.Pos // of the document

	// What the definition under way uses; filled by selections.
	uses *uses
	// uses of each fragment, by name
	fragmentUses map[string]*uses
}

// uses is what one definition's own text refers to.
type uses struct {
	spreads   []*language.FragmentSpread
	variables []variableUse
}

// A variableUse is a variable at a place where a type is expected.
type variableUse struct {
	variable   *language.Variable
	expected   schema.Type // nil where any type may stand
	hasDefault bool        // the place has a default of its own
}

func (c *checker) report(rule string, pos language.Pos, msg string) {
	c.add(rule, pos, "%s", msg)
}

// add tells a problem. With [language.MaxProblems] of them it is enough.
func (c *checker) add(rule string, pos language.Pos, format string, args ...any) *language.Problem {
	if len(c.problems) == language.MaxProblems {
		c.more = true
		panic(errEnough)
	}
	return c.problems.Add(rule, pos, format, args...)
}

// collect sorts the definitions: sections 5.1.1, 5.2.2.1, 5.2.3.1 and 5.5.1.1.
func (c *checker) collect(doc *language.Document) {
	names := map[string]*language.Operation{}
	for _, d := range doc.Definitions {
		switch d := d.(type) {
		case *language.Operation:
			c.operations = append(c.operations, d)
			if first := names[d.Name.Text]; first != nil && d.Name.Text != "" {
				c.add("Operation Name Uniqueness", d.Name.Pos, msgAnotherOperationCalled, d.Name.Text).
					Others = []language.Pos{first.Name.Pos}
				continue
			}
			names[d.Name.Text] = d
		case *language.Fragment:
			if first := c.fragments[d.Name.Text]; first != nil {
				c.add("Fragment Name Uniqueness", d.Name.Pos, msgAnotherFragmentCalled, d.Name.Text).
					Others = []language.Pos{first.Name.Pos}
				continue
			}
			c.fragments[d.Name.Text] = d
			c.fragmentList = append(c.fragmentList, d)
		default:
			c.report("Executable Definitions", d.Start(), msgDefinitionTypeSystemCannot)
		}
	}
	if len(c.operations) > 1 {
		for _, op := range c.operations {
			if op.Name.Text == "" {
				c.report("Lone Anonymous Operation", op.Pos, msgOperationWithoutNameMust)
			}
		}
	}
}

// operation checks one operation with the fragments it reaches.
func (c *checker) operation(op *language.Operation) {
	root := c.schema.Root(op.Kind)
	if root == nil {
		c.add("Operation Type Existence", op.Pos, msgSchemaHasNoType, op.Kind).Fix = noRoot[op.Kind]
		return
	}
	c.uses = &uses{}
	c.directives(op.Directives, map[language.OperationKind]string{
		language.Query: "QUERY", language.Mutation: "MUTATION", language.Subscription: "SUBSCRIPTION"}[op.Kind])
	c.variableDefinitions(op)
	c.selections(op.Selections, root)
	own := c.uses
	c.uses = nil
	c.variableRules(op, own)
	if op.Kind == language.Subscription {
		c.singleRootField(op, root)
	}
}

// noRoot is what to do where a schema has no root type for a kind of operation.
var noRoot = map[language.OperationKind]string{
	language.Mutation:     "ask a query; a type Mutation can have fields with @add, @change and @remove, or that functions fill in",
	language.Subscription: "ask a query; a type Subscription can have fields with @watch",
}

// directives checks directives in an operation: section 5.7.
func (c *checker) directives(list []*language.Directive, location string) {
	schema.CheckDirectives(c.schema, list, location, c.report, c.variable)
}

// variable notes the use of a variable.
func (c *checker) variable(v *language.Variable, expected schema.Type, hasDefault bool) {
	if c.uses != nil {
		c.uses.variables = append(c.uses.variables, variableUse{variable: v, expected: expected, hasDefault: hasDefault})
	}
}
