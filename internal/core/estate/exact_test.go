package estate_test

import (
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/sample"
)

// Exact finds by any address, and by a domain that means another, but by no
// subaddress.
func TestExact(t *testing.T) {
	e := sample.Load(t, "yorvet: 1\ndomains: [kelp.example, {domain: weed.example, same-as: kelp.example}]\nsubaddress: \"+\"\n"+
		"people: [{address: ann@kelp.example, also: [oake@kelp.example], attributes: {Home-Base: pier}}]\ngroups: [{address: crew@kelp.example, members: [x@out.example]}]\n").Estate()
	for text, want := range map[string]bool{"ann@kelp.example": true, "ANN@weed.example": true, "oake@kelp.example": true, "crew@weed.example": true, "x@out.example": true,
		"ann+news@kelp.example": false, "bob@kelp.example": false, "ann@out.example": false} {
		if _, ok := e.Exact(address.MustParse(text)); ok != want {
			t.Errorf("Exact(%s) is %v", text, ok)
		}
	}
	if _, ok := e.Find(address.MustParse("ann+news@kelp.example")); !ok {
		t.Error("Find does not find a subaddress")
	}
	for text, want := range map[string]string{"home-base": "Home-Base", "HOME-BASE": "Home-Base", "Other": "Other"} {
		if got := e.AttributeName(text); got != want {
			t.Errorf("FactName(%s) = %s, want %s", text, got, want)
		}
	}
}
