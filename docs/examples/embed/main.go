// Command embed serves the harbour with functions of its own: one computes a field, and one takes
// part in the transaction of a write. Start it beside
// the demo, which has the stores: go run ./docs/examples/embed
package main

import (
	"cmp"
	"context"
	"fmt"
	"log"
	"net/http"
	"os"

	"osprey"
)

const label = `extend type PortCall { label: String @computed(by: "own.label", needs: "craft { name } berth { name }") }`

type portCall struct {
	Craft struct{ Name string }
	Berth *struct{ Name string } // nil at anchor
}

func labels(_ context.Context, calls []osprey.Call[portCall, osprey.None]) ([]string, error) {
	list := make([]string, len(calls))
	for i, c := range calls {
		list[i] = c.Record.Craft.Name + " at anchor"
		if c.Record.Berth != nil {
			list[i] = c.Record.Craft.Name + " at " + c.Record.Berth.Name
		}
	}
	return list, nil
}

const moor = `extend type Mutation {
  moor(call: Arrival!): PortCall
    @add @within(by: "own.fits", needs: "id arrivedAt craft { name lengthM } berth { name lengthM }")
}`

type moored struct {
	ID        string
	ArrivedAt string
	Craft     struct {
		Name    string
		LengthM float64
	}
	Berth *struct {
		Name    string
		LengthM float64
	}
}

// fits refuses a craft that is too long for its berth, and ends the calls of craft that lie there.
func fits(ctx context.Context, tx osprey.Tx, calls []osprey.Call[moored, map[string]any]) error {
	for _, c := range calls {
		r := c.Record
		if r.Berth == nil {
			continue
		}
		if r.Craft.LengthM > r.Berth.LengthM {
			return fmt.Errorf("%s has %g m, and %s has %g m", r.Craft.Name, r.Craft.LengthM, r.Berth.Name, r.Berth.LengthM)
		}
		_, err := tx.ExecContext(ctx, `UPDATE port_calls old SET departed_at = $2 FROM port_calls new
			WHERE new.id = $1 AND old.id <> new.id AND old.departed_at IS NULL
			AND (old.quay_code, old.berth_number) = (new.quay_code, new.berth_number)`, r.ID, r.ArrivedAt)
		if err != nil {
			return err
		}
	}
	return nil
}

func main() {
	service, err := osprey.Open(context.Background(), "demo/harbour",
		osprey.WithSchema("own", label+moor),
		osprey.WithFunctions(osprey.Func("own.label", labels), osprey.Within("own.fits", fits)))
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(http.ListenAndServe(cmp.Or(os.Getenv("LISTEN"), "127.0.0.1:7430"), service))
}
