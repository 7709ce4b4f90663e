package validate

import (
	"context"
	"errors"
)

// maxSteps is how many steps a document may take to check: a step is a look at
// one field, argument, fragment or variable. The documents that people write take
// some hundreds. Each rule looks at a document a few times; where fragments stand
// inside one another, fields are looked at again for each combination of
// selection sets in which they meet, and documents can be made in which the
// combinations double with every level.
const maxSteps = 500_000

const ruleEffort = "effort"

// errEnough is the panic by which checking ends early.
var errEnough = errors.New("enough is known of the document")

// until checks until it is done, or enough is known.
func (c *checker) until(check func()) {
	defer func() {
		if p := recover(); p != nil && p != any(errEnough) {
			panic(p)
		}
		c.problems.Sort()
		if c.more {
			c.problems.More()
		}
	}()
	check()
}

// An effort is the work that a document may still take.
type effort struct {
	ctx  context.Context
	left int
}

// spend takes n steps. It ends the checking when there are none left, or when
// nobody waits for it any more.
func (c *checker) spend(n int) {
	e := c.effort
	before := e.left
	e.left -= n
	switch {
	case e.left < 0:
		c.problems.Add(ruleEffort, c.start, msgTooMuchWork, maxSteps).Fix = "ask for less at once, and write it with fewer fragments inside one another"
		panic(errEnough)
	case before>>12 != e.left>>12 && e.ctx.Err() != nil:
		panic(errEnough)
	}
}
