package directory_test

import (
	"fmt"
	"testing"

	"yorvet.example/yorvet/internal/directory"
)

// What a map takes of a source counts as taken once it is in what the sources come to: what
// another one says otherwise, and what is outside the domains, is lost.
func TestCoverageLost(t *testing.T) {
	hq := &directory.Directory{Name: "hq", File: "hq.csv", Coverage: &directory.Coverage{},
		People: []directory.Person{{Line: 2, Address: "ann@kelp.example", Name: "Ann"}},
		Groups: []directory.Group{{Line: 3, Address: "desk@kelp.example", Also: []string{"found@weed.example"}}}}
	sheet := &directory.Directory{Name: "sheet", File: "sheet.csv", Coverage: &directory.Coverage{},
		People: []directory.Person{
			{Line: 2, Address: "ann@kelp.example", Name: "Annie"},
			{Line: 3, Address: "bob@kelp.example", Also: []string{"ann@kelp.example"}},
			{Line: 6, Address: "cat@kelp.example"},
			{Line: 7, Address: "dan@kelp.example", Also: []string{"cat@kelp.example"}},
		},
		Groups: []directory.Group{{Line: 4, Address: "far@weed.example"}, {Line: 5, Address: "mine@kelp.example", Also: []string{"desk@kelp.example"}}}}
	directory.Merge([]*directory.Directory{hq, sheet}, directory.MergeOptions{Name: "all", Domains: []string{"kelp.example"}})
	if got, want := fmt.Sprint(hq.Coverage.Lost), "[an alias of desk@kelp.example]"; got != want {
		t.Errorf("of hq is lost %s, want %s", got, want)
	}
	want := "[an address of 3, such as desk@kelp.example name of ann@kelp.example a group of far@weed.example]"
	if got := fmt.Sprint(sheet.Coverage.Lost); got != want {
		t.Errorf("of the sheet is lost %s, want %s", got, want)
	}
}
