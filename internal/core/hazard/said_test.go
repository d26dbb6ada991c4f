package hazard_test

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/golden"
	"yorvet.example/yorvet/internal/sample"
)

// Every sentence of every check, with its place, on the estates where it fires and on
// the demo: testdata/said.txt was read by people.
func TestSaid(t *testing.T) {
	var b strings.Builder
	for _, check := range hazard.All() {
		b.WriteString(check.Name + "\n")
		for _, text := range cases[check.Name].fires {
			b.WriteString("  " + text + "\n")
			r := sample.Load(t, groups(text))
			for _, f := range hazard.Run(r, []*hazard.Check{check}) {
				say(&b, r, f)
			}
		}
	}
	r := sample.Demo(t, demo.Estate)
	b.WriteString("demo\n")
	for _, f := range hazard.Run(r, hazard.All()) {
		b.WriteString("  " + f.Check.Name + "\n")
		say(&b, r, f)
	}
	golden.Compare(t, "said.txt", b.String())
}

// folder is the folder of a place: each run has one of its own.
var folder = regexp.MustCompile(`/\S*/`)

func say(b *strings.Builder, r *resolve.Resolver, f hazard.Finding) {
	e := r.Estate()
	says, fix := f.Text()
	line := fmt.Sprintf("    %s %s %s %s: %s | %s", f.Check.Severity, e.Address(f.Group), f.Address,
		e.Settings().Position(f.Place), says, fix)
	if f.Witness() != nil {
		line += fmt.Sprintf(" | %s %+v", f.Witness().From, f.Witness().Message)
	}
	b.WriteString(folder.ReplaceAllString(line, "") + "\n")
}

// The overview of a group counts its hazards, accepted ones aside.
func TestOverviewCounts(t *testing.T) {
	r := sample.Demo(t, demo.Estate)
	want := make([]int, r.Estate().Groups())
	for _, f := range hazard.Run(r, hazard.All()) {
		if !f.Accepted {
			want[f.Group]++
		}
	}
	var got []int
	for id, o := range hazard.Overviews(r) {
		got = append(got, o.Hazards)
		if plain := r.Overview(estate.ID(id)); o.Overview != plain {
			t.Errorf("%s is %+v, want %+v", r.Estate().Address(estate.ID(id)), o.Overview, plain)
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("got  %v\nwant %v", got, want)
	}
}
