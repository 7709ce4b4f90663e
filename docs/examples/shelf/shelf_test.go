package shelf_test

import (
	"context"
	"iter"
	"testing"

	"osprey/docs/examples/shelf"
	"osprey/stores/conform"
)

// TestShelf puts the source to the suite that Osprey's own pass.
func TestShelf(t *testing.T) {
	data := conform.Data()
	conform.Run(t, &shelf.Shelf{
		Sets:    conform.Catalogue().Sets,
		Records: func(_ context.Context, set string) iter.Seq2[any, error] { return shelf.Of(data[set]) },
	}, 100)
}
