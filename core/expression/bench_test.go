package expression

import "testing"

// BenchmarkRun evaluates an expression beside the same in Go, over a record of a
// map: go test ./core/expression -bench .
func BenchmarkRun(b *testing.B) {
	record := fake{"name": "Amber", "lengthM": 12.5}
	b.Run("expression", func(b *testing.B) {
		p, err := Compile(`record.name + (record.lengthM * 3.28 > 40.0 ? " long" : " short")`, craftTypes(), &Type{Kind: Text})
		if err != nil {
			b.Fatal(err)
		}
		inputs := map[string]any{"record": record}
		b.ReportAllocs()
		for b.Loop() {
			if v, err := p.Run(inputs); err != nil || v != "Amber long" {
				b.Fatal(v, err)
			}
		}
	})
	b.Run("go", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			name, _ := record.Field("name")
			length, _ := record.Field("lengthM")
			text := name.(string) + " short"
			if length.(float64)*3.28 > 40 {
				text = name.(string) + " long"
			}
			if text != "Amber long" {
				b.Fatal(text)
			}
		}
	})
}

// BenchmarkCompile compiles an expression.
func BenchmarkCompile(b *testing.B) {
	for b.Loop() {
		if _, err := Compile(`record.name + (record.lengthM * 3.28 > 40.0 ? " long" : " short")`, craftTypes(), &Type{Kind: Text}); err != nil {
			b.Fatal(err)
		}
	}
}
