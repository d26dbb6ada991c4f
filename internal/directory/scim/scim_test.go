package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/sample"
)

// show tells an entry in a line.
func show(b *strings.Builder) func(*directory.Entry) {
	return func(e *directory.Entry) {
		fmt.Fprint(b, e.Line, " ", e.ID)
		for _, a := range e.Attributes {
			fmt.Fprint(b, " ", a.Name, "=", strings.Join(a.Values, "|"))
		}
		b.WriteString("\n")
	}
}

// Resources become entries: what is primary comes first, extensions are as if
// they were the resource's own.
func TestReadFile(t *testing.T) {
	const user = `{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:User"], "id": "7", "userName": "ann", "active": true, "x": 1.5, "nothing": null,
 "name": {"formatted": "Ann Oake", "familyName": "Oake"}, "emails": [{"value": "b@k.example", "type": "Home"}, {"value": "a@k.example", "primary": true, "type": "work"}],
 "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": {"department": "Deck", "manager": {"value": "9"}}}`
	const flat = "active=true emails=a@k.example|b@k.example emails.home=b@k.example emails.work=a@k.example name.familyName=Oake name.formatted=Ann Oake department=Deck manager=9 userName=ann x=1.5"
	const crew = `{"id": "8", "meta": {"resourceType": "Group"}, "displayName": "Crew", "members": [{"value": "7", "type": "User"}]}`
	for _, test := range []struct{ in, want string }{
		{user, "3 7 resourceType=User " + flat + "\n"},
		{user + "\n" + crew, "3 7 resourceType=User " + flat + "\n4 8 resourceType=Group displayName=Crew members=7\n"},
		{"[" + crew + ",\n" + crew + "]", "1 8 resourceType=Group displayName=Crew members=7\n2 8 resourceType=Group displayName=Crew members=7\n"},
		{`{"totalResults": 1, "Resources": [` + "\n" + crew + `], "schemas": []}`, "2 8 resourceType=Group displayName=Crew members=7\n"},
		{`{"schemas": ["urn:ietf:params:scim:schemas:core:2.0:Group"]}`, "1  resourceType=Group\n"},
	} {
		var b strings.Builder
		if err := ReadFile(strings.NewReader(test.in), "x", show(&b)); err != nil || b.String() != test.want {
			t.Errorf("%s\n got %s (%v)\nwant %s", test.in, b.String(), err, test.want)
		}
	}
	for _, text := range []string{"", "7", `"x"`, "[1]", `{"Resources": 7}`, `{"a": `, "[{}", "{} ]", `{"id": "a", "id": "b"}`,
		`{"Resources": [{"members": [{"value": "a", "value": "b"}]}]}`} {
		if err := ReadFile(strings.NewReader(text), "x", func(*directory.Entry) {}); err == nil || !strings.HasPrefix(err.Error(), "x:1:1: ") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// A service is read page by page, users first, with the token.
func TestRead(t *testing.T) {
	e := sample.Load(t, "yorvet: 1\ndomains: [k.example]\npeople: [{address: a@k.example}, {address: b@k.example}, {address: c@k.example}]\ngroups: [{address: g@k.example, members: [a@k.example]}]\n").Estate()
	var whole bytes.Buffer
	x := &Export{Map: directory.BuiltIn("scim")}
	if err := x.Write(&whole, e); err != nil {
		t.Fatal(err)
	}
	var all struct{ Resources []map[string]any }
	if err := json.Unmarshal(whole.Bytes(), &all); err != nil {
		t.Fatal(err)
	}
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.Path+"?"+r.URL.RawQuery+" "+r.Header.Get("Authorization"))
		resources := all.Resources[:3]
		if strings.HasSuffix(r.URL.Path, "/Groups") {
			resources = all.Resources[3:]
		}
		var start, count int
		if _, err := fmt.Sscan(r.URL.Query().Get("startIndex"), &start); err != nil {
			t.Error(err)
		}
		if _, err := fmt.Sscan(r.URL.Query().Get("count"), &count); err != nil {
			t.Error(err)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": len(resources), "Resources": resources[start-1 : min(start-1+count, len(resources))]})
	}))
	defer server.Close()
	var b strings.Builder
	s := Service{URL: server.URL + "/scim/", Token: "t", Page: 2}
	if _, err := s.Read(context.Background(), func(e *directory.Entry) { fmt.Fprint(&b, e.Line, e.ID, " ") }); err != nil {
		t.Fatal(err)
	}
	if b.String() != "1a@k.example 2b@k.example 3c@k.example 1g@k.example " {
		t.Error(b.String())
	}
	want := "/scim/Users?count=2&startIndex=1 Bearer t, /scim/Users?count=2&startIndex=3 Bearer t, /scim/Groups?count=2&startIndex=1 Bearer t"
	if got := strings.Join(asked, ", "); got != want {
		t.Errorf("asked %s, want %s", got, want)
	}
}
