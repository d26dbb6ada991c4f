package records_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/records"
)

// said writes an entry on a line.
func said(b *strings.Builder) func(*directory.Entry) {
	return func(e *directory.Entry) {
		fmt.Fprint(b, e.Line, " ", e.Records, ":")
		for _, a := range e.Attributes {
			fmt.Fprint(b, " ", a.Name, "=", strings.Join(a.Values, "|"))
		}
		for path, list := range e.Nested {
			fmt.Fprint(b, " [", path, " ", len(list), "]")
		}
		b.WriteString("\n")
	}
}

// Records are found where a map says, in documents, lists and lines, and what they hold is
// called by its path.
func TestRead(t *testing.T) {
	for _, test := range []struct {
		in    string
		paths string
		want  string
	}{
		{`[{"a":1},{"a":true,"b":{"c":"x"}}]`, "", "1 : a=1\n1 : a=true b.c=x\n"},
		{"{\"a\":1}\n{\"a\":2}\n", "", "1 : a=1\n2 : a=2\n"},
		{`{"groups":[{"m":[{"e":"x","r":"o"},{"e":"y"}]}],"other":[{"z":1}]}`, "groups", "1 groups: m.e=x m.r=o m.e=y [m 2]\n"},
		{`{"data":{"groups":[{"a":["p","q"],"n":null}]}}`, "data.groups", "1 data.groups: a=p|q\n"},
		{`{"a.b":[{"c.d":1}]}`, `"a.b"`, `1 "a.b": "c.d"=1` + "\n"},
		{`{"one":{"a":1},"users":[{"b":2}]}`, "one users", "1 one: a=1\n1 users: b=2\n"},
		{"{\n\"g\":[\n{\"a\":1},\n{\"a\":2}]}", "g", "3 g: a=1\n4 g: a=2\n"},
		{`{"groups":[]}`, "groups", ""},
		{`{"list":[{}],"more":[]}`, "groups", `x: the document has no list "groups"; it has list, more`},
		{`{"groups":[1]}`, "groups", "x:1:1: expected an object, not a number"},
		{"{\"groups\":[\n{\"a\":1,\"b\":2,\n\"a\":3}]}", "groups", `x:3:1: "a" stands in one object for the second time`},
		{`{"groups":[{"a":{"c":1,"c":1}}]}`, "groups", `x:1:1: "c" stands in one object for the second time`},
		{`{"a":1,"a":2}`, "", `x:1:1: "a" stands in one object for the second time`},
		{`{"groups":[{"a":1}`, "groups", "1 groups: a=1\nx:1:1: the text ends too early"},
		{"{\n\"a\":,}", "", "x:2:1: this is no JSON"},
		{`7`, "", "x:1:1: expected an object or a list of objects"},
		{"", "", "x:1:1: the text ends too early"},
		{`[` + strings.Repeat(`{"a":`, 200) + `1` + strings.Repeat(`}`, 200) + `]`, "", "x:1:1: it is nested deeper than 100"},
	} {
		var b strings.Builder
		paths := strings.Split(test.paths, " ")
		if err := records.Read(strings.NewReader(test.in), "x", paths, said(&b)); err != nil {
			b.WriteString(err.Error())
		}
		if b.String() != test.want {
			t.Errorf("%s at %q:\n got %q\nwant %q", test.in, test.paths, b.String(), test.want)
		}
	}
}

// FuzzRead: no text makes the reader panic, and what Lists finds can be read.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{`[{"a":1}]`, `{"g":[{"m":[{"e":"x"}]}]}`, "{}\n{}", `{"a.b":[{"\"":1}]}`, `{"":[{"":""}]}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		paths, err := records.Lists(strings.NewReader(text), "x")
		if err != nil {
			return
		}
		if err := records.Read(strings.NewReader(text), "x", paths, func(*directory.Entry) {}); err != nil &&
			len(paths) > 0 && paths[0] != "" && !strings.Contains(err.Error(), "expected an object") &&
			!strings.Contains(err.Error(), "nested deeper") {
			t.Errorf("%q has %q, and: %v", text, paths, err)
		}
	})
}

// service pages 7 groups in one of several ways. trouble is what it does on the way.
func service(t *testing.T, way string, trouble func(w http.ResponseWriter, r *http.Request, n int64) bool) *httptest.Server {
	t.Helper()
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if trouble != nil && trouble(w, r, asked.Add(1)) {
			return
		}
		if id, ok := strings.CutPrefix(r.URL.Path, "/groups/"); ok {
			id = strings.TrimSuffix(id, "/members")
			fmt.Fprintf(w, `{"members": [{"email": "m%s@kelp.example"}, {"email": "n%s@kelp.example"}]}`, id, id)
			return
		}
		q := r.URL.Query()
		start, size := 0, 3
		switch way {
		case "token":
			start, _ = strconv.Atoi(strings.TrimPrefix(q.Get("beyond"), "t"))
		case "offset":
			start, _ = strconv.Atoi(q.Get("start"))
			size, _ = strconv.Atoi(q.Get("count"))
		case "pages":
			page, _ := strconv.Atoi(q.Get("page"))
			start = (page - 1) * size
		default:
			start, _ = strconv.Atoi(q.Get("from"))
		}
		var groups []any
		for n := start; n < min(start+size, 7); n++ {
			groups = append(groups, map[string]any{"id": n, "mail": fmt.Sprintf("g%d@kelp.example", n)})
		}
		answer := map[string]any{"groups": groups}
		if next := start + size; next < 7 {
			switch way {
			case "token":
				answer["meta"] = map[string]any{"next": fmt.Sprint("t", next)}
			case "url":
				answer["@next"] = fmt.Sprint("?from=", next)
			case "elsewhere":
				answer["@next"] = "https://other.example/?from=3"
			case "ring":
				answer["@next"] = "?from=0"
			case "link":
				w.Header().Set("Link", fmt.Sprintf(`</groups?from=0>; rel="first", </groups?from=%d>; rel="next"`, next))
			}
		}
		if err := json.NewEncoder(w).Encode(answer); err != nil {
			t.Error(err)
		}
	}))
	t.Cleanup(server.Close)
	return server
}

// A service is read to its end however it pages; what it has not got is asked for once more
// for each record.
func TestService(t *testing.T) {
	follow := []records.Follow{{Each: "groups", From: "groups/{id}/members", List: "members", Into: "members"}}
	busy := func(w http.ResponseWriter, _ *http.Request, n int64) bool {
		switch n % 5 {
		case 2:
			w.Header().Set("Retry-After", "0")
			http.Error(w, "{}", http.StatusTooManyRequests)
			return true
		case 4:
			w.Header().Set("Retry-After", clock.Now().UTC().Format(http.TimeFormat))
			http.Error(w, `{"detail": "try again"}`, http.StatusServiceUnavailable)
			return true
		}
		return false
	}
	broken := func(w http.ResponseWriter, r *http.Request, _ int64) bool {
		if r.URL.Query().Get("beyond") == "t3" {
			fmt.Fprint(w, `{"groups": [{"id": 3`)
			return true
		}
		return false
	}
	refused := func(w http.ResponseWriter, _ *http.Request, _ int64) bool {
		http.Error(w, `{"detail": "no scope for groups"}`, http.StatusForbidden)
		return true
	}
	slow := func(_ http.ResponseWriter, r *http.Request, n int64) bool {
		if n == 2 {
			<-r.Context().Done()
			return true
		}
		return false
	}
	token := &records.Paging{Next: "meta.next", As: "beyond"}
	for name, test := range map[string]struct {
		way     string
		paging  *records.Paging
		trouble func(http.ResponseWriter, *http.Request, int64) bool
		want    string
	}{
		"token":     {"token", token, nil, ""},
		"busy":      {"token", token, busy, ""},
		"offset":    {"offset", &records.Paging{Offset: "start", Size: "count", Most: 2}, nil, ""},
		"pages":     {"pages", &records.Paging{Offset: "page", First: 1, Pages: true}, nil, ""},
		"link":      {"link", &records.Paging{Link: true}, nil, ""},
		"url":       {"url", &records.Paging{Next: `"@next"`}, nil, ""},
		"elsewhere": {"elsewhere", &records.Paging{Next: `"@next"`}, nil, "leads to another server, which is not followed"},
		"ring":      {"ring", &records.Paging{Next: `"@next"`}, nil, "gives the same page again"},
		"broken":    {"token", token, broken, "the text ends too early"},
		"refused":   {"token", token, refused, "answers 403 Forbidden: no scope for groups"},
		"slow":      {"token", token, slow, "that is long enough"},
	} {
		t.Run(name, func(t *testing.T) {
			server := service(t, test.way, test.trouble)
			ctx, cancel := context.WithTimeoutCause(t.Context(), 2*time.Second, fmt.Errorf("that is long enough"))
			if name == "slow" {
				ctx, cancel = context.WithTimeoutCause(t.Context(), 200*time.Millisecond, fmt.Errorf("that is long enough"))
			}
			defer cancel()
			s := records.Service{URL: server.URL + "/groups", Lists: []string{"groups"}, Paging: test.paging, Follow: follow, AtOnce: 3}
			s.Follow[0].From = server.URL + "/groups/{id}/members"
			var got, want strings.Builder
			err := s.Read(ctx, said(&got))
			if test.want != "" {
				if err == nil || !strings.Contains(err.Error(), test.want) {
					t.Errorf("%v, want %q", err, test.want)
				}
				return
			}
			for n := range 7 {
				fmt.Fprintf(&want, "%d groups: id=%d mail=g%d@kelp.example members.email=m%d@kelp.example|n%d@kelp.example [members 2]\n", n+1, n, n, n, n)
			}
			if err != nil || got.String() != want.String() {
				t.Errorf("%v\n got %s\nwant %s", err, got.String(), want.String())
			}
		})
	}
}

// What a service gives has bounds, in pages, in values and in what it leads to.
func TestServiceBounds(t *testing.T) {
	asked := 0
	answer := func(text string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			asked++
			if r.URL.Query().Has("admin") {
				t.Errorf("%s is asked for", r.URL)
			}
			if r.URL.Path != "/list" && r.URL.Path != "/people/a%2Fb&c=d" && r.URL.Path != "/people/a/b&c=d" {
				t.Errorf("%s is asked for", r.URL)
			}
			fmt.Fprint(w, strings.ReplaceAll(text, "N", fmt.Sprint(asked)))
		}
	}
	for about, test := range map[string]struct {
		text, from string
		want       string // of the error
	}{
		"pages without a record":     {`{"list": [], "next": "tN"}`, "", "more than 100 pages without a record"},
		"a page of nothing":          {`{"list": [` + strings.Repeat("{},", 600_000) + `{}]}`, "", "more than 500000 values"},
		"a path that leads up":       {`{"list": [{"id": ".."}]}`, "people/{id}/more", "leads to another path"},
		"a path that stays":          {`{"list": [{"id": "."}]}`, "people/{id}", "leads to another path"},
		"no name":                    {`{"list": [{"id": ""}]}`, "people/{id}/more", "has no id"},
		"a name that is a value":     {`{"list": [{"id": "a&admin=1"}]}`, "list?id={id}", ""},
		"a name that is a parameter": {`{"list": [{"id": "a/b&c=d"}]}`, "people/{id}", ""},
	} {
		asked = 0
		server := httptest.NewServer(answer(test.text))
		s := &records.Service{URL: server.URL + "/list", Lists: []string{"list"}, Paging: &records.Paging{Next: "next", As: "token"}}
		if test.from != "" {
			s.Follow = []records.Follow{{Each: "list", From: test.from, List: "list", Into: "more"}}
		}
		err := s.Read(t.Context(), func(*directory.Entry) {})
		if (err == nil) != (test.want == "") || err != nil && !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, want %q", about, err, test.want)
		}
		if asked > 200 {
			t.Errorf("%s: it is asked %d times", about, asked)
		}
		server.Close()
	}
}
