package scim_test

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
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/sample"
)

// fleet are six new groups, of which the last two have the first one as a member.
func fleet(t *testing.T) *directory.Difference {
	t.Helper()
	const head = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}]\ngroups:\n  - {address: old@kelp.example, managed-in: id}\n"
	var b strings.Builder
	b.WriteString(head)
	for n := range 4 {
		fmt.Fprintf(&b, "  - {address: g%d@kelp.example, members: [ann@kelp.example], managed-in: id}\n", n)
	}
	for n := 4; n < 6; n++ {
		fmt.Fprintf(&b, "  - {address: g%d@kelp.example, members: [g0@kelp.example], managed-in: id}\n", n)
	}
	return directory.Differ(sample.Load(t, head).Estate(), sample.Load(t, b.String()).Estate(), "id")
}

type request struct {
	Method     string
	Path       string
	BulkID     string
	Data       struct{ Members []struct{ Value string } }
	Operations []request
}

// A change is written in as many requests as a service wants, and refers in each to what
// comes by it alone.
func TestRequests(t *testing.T) {
	d := fleet(t)
	whole := writeChange(t, d, directory.Limits{}, 1, 0)
	if len(whole) != 1 || len(whole[0].Operations) != 6 {
		t.Fatalf("without limits: %+v", whole)
	}
	for name, test := range map[string]struct {
		limits directory.Limits
		sizes  []int
		lost   int // memberships of groups that come by another request
	}{
		"six":     {directory.Limits{Operations: 6}, []int{6}, 0},
		"five":    {directory.Limits{Operations: 5}, []int{5, 1}, 1},
		"two":     {directory.Limits{Operations: 2}, []int{2, 2, 2}, 2},
		"bytes":   {directory.Limits{Bytes: 900}, []int{2, 2, 2}, 2},
		"no bulk": {directory.Limits{Single: true}, []int{1, 1, 1, 1, 1, 1}, 2},
	} {
		t.Run(name, func(t *testing.T) {
			requests := writeChange(t, d, test.limits, len(test.sizes), test.lost)
			refers := 0
			for i, one := range requests {
				operations := one.Operations
				if test.limits.Single {
					operations = []request{one}
					if one.Method != "POST" || one.Path != "/Groups" || one.BulkID != "" {
						t.Errorf("request %d: %+v", i, one)
					}
				}
				if len(operations) != test.sizes[i] {
					t.Errorf("request %d has %d operations, want %d", i, len(operations), test.sizes[i])
				}
				comes := map[string]bool{}
				for _, o := range operations {
					comes["bulkId:"+o.BulkID] = true
				}
				for _, o := range operations {
					for _, m := range o.Data.Members {
						if strings.HasPrefix(m.Value, "bulkId:") {
							if refers++; !comes[m.Value] {
								t.Errorf("request %d refers to %s, which is in another", i, m.Value)
							}
						}
					}
				}
			}
			if refers != 2-test.lost {
				t.Errorf("%d members are referred to, want %d", refers, 2-test.lost)
			}
		})
	}
	if got := writeChange(t, d, directory.Limits{Bytes: 200}, 0, 6); len(got) != 0 {
		t.Errorf("what no request holds is written: %+v", got)
	}
}

// writeChange writes a change, and checks how many requests there are and how much is lost.
func writeChange(t *testing.T, d *directory.Difference, limits directory.Limits, requests, lost int) []request {
	t.Helper()
	var b bytes.Buffer
	x := &scim.Export{Map: directory.BuiltIn("scim"), Limits: limits}
	n, losses, err := x.WriteDifference(&b, d)
	if err != nil || n != requests || len(losses) != lost {
		t.Fatalf("%+v: %d requests, losses %v, %v; want %d and %d losses", limits, n, losses, err, requests, lost)
	}
	for line := range strings.Lines(b.String()) {
		if limits.Bytes > 0 && len(line) > limits.Bytes {
			t.Errorf("a request has %d bytes, of %d", len(line), limits.Bytes)
		}
	}
	var list []request
	for decoder := json.NewDecoder(&b); decoder.More(); {
		var one request
		if err := decoder.Decode(&one); err != nil {
			t.Fatal(err)
		}
		list = append(list, one)
	}
	return list
}

// A service says how much it takes at a time, or is taken to take anything.
func TestLimits(t *testing.T) {
	for says, want := range map[string]directory.Limits{
		`{"bulk": {"supported": true, "maxOperations": 50, "maxPayloadSize": 1048576}}`: {Operations: 50, Bytes: 1 << 20},
		`{"bulk": {"supported": false, "maxOperations": 0, "maxPayloadSize": 0}}`:       {Single: true},
		`{"patch": {"supported": true}}`:                                                {},
		`no JSON`:                                                                       {},
		"":                                                                              {},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/v2/ServiceProviderConfig" || says == "" {
				http.NotFound(w, r)
				return
			}
			fmt.Fprint(w, says)
		}))
		if got := (&scim.Service{URL: server.URL + "/v2"}).Limits(context.Background()); got != want {
			t.Errorf("%s: %+v, want %+v", says, got, want)
		}
		server.Close()
	}
}
