package report

import (
	"bytes"
	"path/filepath"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/sample"
)

// BenchmarkReport makes the page of an estate of 4,000 groups, 20,000 people and 400,000
// memberships, loading included.
func BenchmarkReport(b *testing.B) {
	dir := b.TempDir()
	if _, err := sample.Tables(dir, 20_000, 4_000, 400_000); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		d := NewMaker(large(b, dir)).Collect(Choice{Person: estate.None, Places: true})
		var page bytes.Buffer
		if err := d.Write(&page); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(page.Len())/1e6, "MB")
	}
}

// large loads an estate of tables.
func large(t testing.TB, dir string) *resolve.Resolver {
	t.Helper()
	e, err := estatefile.Load(t.Context(), filepath.Join(dir, "estate.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	day, _ := estate.ParseDay("2026-11-23")
	return resolve.New(e, day)
}
