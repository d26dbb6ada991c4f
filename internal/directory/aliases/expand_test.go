package aliases

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/sample"
)

// For mail servers, rules stand as whom they pick, and a roster as its members.
func TestExpand(t *testing.T) {
	e := sample.Load(t, `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example, attributes: {unit: deck}}
  - {address: bob@kelp.example, attributes: {unit: deck}}
  - {address: cat@kelp.example}
groups:
  - {address: news@kelp.example, members: [ann@kelp.example, {everyone: true}]}
  - {address: deck@kelp.example, members: [{where: (unit=deck)}]}
  - {address: watch@kelp.example, kind: roster, members: [cat@kelp.example, x@out.example]}
  - {address: alarm@kelp.example, members: [bob@kelp.example, watch@kelp.example, deck@kelp.example]}
`).Estate()
	var b strings.Builder
	if err := Expand(&b, e); err != nil {
		t.Fatal(err)
	}
	want := "news: ann,\n  bob,\n  cat\ndeck: ann,\n  bob\nalarm: bob,\n  cat,\n  x@out.example,\n  deck\n"
	if b.String() != want {
		t.Errorf("written is\n%s\nwant\n%s", b.String(), want)
	}
}
