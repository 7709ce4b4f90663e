// Command embed serves the harbour with a function of its own. Start it beside
// the demo, which has the stores: go run ./docs/examples/embed
package main

import (
	"cmp"
	"context"
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

func main() {
	service, err := osprey.Open(context.Background(), "demo/harbour",
		osprey.WithSchema("label", label), osprey.WithFunctions(osprey.Func("own.label", labels)))
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(http.ListenAndServe(cmp.Or(os.Getenv("LISTEN"), "127.0.0.1:7430"), service))
}
