package service_test

import (
	"log/slog"
	"path/filepath"
	"testing"

	"osprey/demo/demotest"
	"osprey/project"
)

// BenchmarkLoad makes a revision of the harbour, whose stores have told what they hold.
func BenchmarkLoad(b *testing.B) {
	for name, value := range demotest.Harbour().Environ() {
		b.Setenv(name, value)
	}
	p, _, err := project.Open(b.Context(), filepath.Join(demotest.Root(), "demo/harbour"), slog.New(slog.DiscardHandler))
	if err != nil {
		b.Fatal(err)
	}
	defer p.Close()
	for b.Loop() {
		if _, err := p.Load(); err != nil {
			b.Fatal(err)
		}
	}
}
