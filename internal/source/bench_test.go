package source_test

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/source"
)

// writeLDIF writes the LDIF of an organisation and returns its path and size.
func writeLDIF(t testing.TB, people, groups, memberships int) (string, int64) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "hq.ldif")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	w := bufio.NewWriter(f)
	fmt.Fprint(w, "version: 1\n\ndn: dc=kelpmere,dc=example\nobjectClass: domain\ndc: kelpmere\n")
	for i := range people {
		fmt.Fprintf(w, "\ndn: uid=p%06d,ou=people,dc=kelpmere,dc=example\nobjectClass: top\nobjectClass: person\nobjectClass: inetOrgPerson\nuid: p%06d\ncn: Person Number %d\nsn: Number\n"+
			"mail: person.%06d@kelpmere.example\nmail: p%06d@kelpmere.example\nou: unit-%d\nl: pier-%d\ntitle: title-%d\nemployeeNumber: %d\ntelephoneNumber: +00 0000 %06d\n", i, i, i, i, i, i%40, i%7, i%300, i, i)
	}
	for g := range groups {
		fmt.Fprintf(w, "\ndn: cn=group-%05d,ou=groups,dc=kelpmere,dc=example\nobjectClass: groupOfNames\nobjectClass: extensibleObject\ncn: group-%05d\nmail: group-%05d@kelpmere.example\ndescription: A group with a number\nowner: uid=p%06d,ou=people,dc=kelpmere,dc=example\n", g, g, g, g%people)
		for m := range memberships / groups {
			fmt.Fprintf(w, "member: uid=p%06d,ou=people,dc=kelpmere,dc=example\n", (g*7919+m*131)%people)
		}
	}
	if err := w.Flush(); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	return path, info.Size()
}

// read reads a source and merges it.
func read(t testing.TB, name string, options source.Options) *directory.Merged {
	t.Helper()
	d, err := source.Read(context.Background(), name, options)
	if err != nil {
		t.Fatal(err)
	}
	return directory.Merge([]*directory.Directory{d}, directory.MergeOptions{Domains: options.Domains})
}

// The bar is 60 MB/s and 600 MB for 20,000 people with 400,000 memberships.
func BenchmarkImportLDIF(b *testing.B) {
	path, size := writeLDIF(b, 20_000, 4_000, 400_000)
	b.SetBytes(size)
	b.ReportAllocs()
	var most uint64
	for b.Loop() {
		m := read(b, path, source.Options{})
		if len(m.People) != 20_000 || len(m.Groups) != 4_000 || len(m.Groups[0].Members) != 100 {
			b.Fatalf("%d people, %d groups", len(m.People), len(m.Groups))
		}
		var stats runtime.MemStats
		runtime.ReadMemStats(&stats)
		most = max(most, stats.Sys)
	}
	b.ReportMetric(float64(most)/1e6, "MB-of-memory")
}

// The whole way: into an estate on disk.
func BenchmarkImportWhole(b *testing.B) {
	path, size := writeLDIF(b, 20_000, 4_000, 400_000)
	b.SetBytes(size)
	for i := 0; b.Loop(); i++ {
		m := read(b, path, source.Options{})
		if _, err := m.Build(); err != nil {
			b.Fatal(err)
		}
		if err := m.Create(context.Background(), filepath.Join(b.TempDir(), fmt.Sprint(i))); err != nil {
			b.Fatal(err)
		}
	}
}
