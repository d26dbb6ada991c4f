package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/estatefile"
)

// shore is what requests change. It is loaded here, as package sample would load it.
const shore = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example, also: [rob@kelp.example]}, {address: cat@kelp.example}]
groups:
  - {address: crew@kelp.example, title: Crew, also: [team@kelp.example], owners: [ann@kelp.example], members: [{address: ann@kelp.example, copy: digest}, bob@kelp.example, {where: (base=pier)}]}
  - {address: all@kelp.example, owners: [crew@kelp.example], moderators: [crew@kelp.example], members: [crew@kelp.example]}
`

func shoreEstate(t *testing.T) *estate.Estate {
	t.Helper()
	path := filepath.Join(t.TempDir(), "e.yaml")
	if err := os.WriteFile(path, []byte(shore), 0o600); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// tell tells what groups are like, a line each.
func tell(e *estate.Estate) string {
	var lines []string
	for g := range estate.ID(e.Groups()) {
		var parts []string
		for _, name := range []string{"address", "title", "about", "also", "owners", "moderators"} {
			s, _ := estate.GroupSetting(name)
			parts = append(parts, strings.ReplaceAll(strings.Join(s.Texts(e, e.Group(g)), "+"), "@kelp.example", ""))
		}
		for _, entry := range e.Entries(g) {
			parts = append(parts, strings.TrimSuffix(e.Address(entry.Member).String(), "@kelp.example")+entry.Copy().String())
		}
		for _, rule := range e.Rules(g) {
			if rule.Filter == nil {
				parts = append(parts, "everyone")
			} else {
				parts = append(parts, rule.Filter.String())
			}
		}
		lines = append(lines, strings.Join(parts, " "))
	}
	return strings.Join(lines, "\n")
}

// Operations of one request come after another, and hang on each other.
func TestPatch(t *testing.T) {
	const crew, all = "crew Crew  team ann  anndigest bob (base=pier)", "all    crew crew crew"
	member := func(op, path string, ids ...string) string {
		var values []string
		for _, id := range ids {
			values = append(values, fmt.Sprintf(`{"value": "%s@kelp.example"}`, id))
		}
		return fmt.Sprintf(`{"op": %q, "path": %q, "value": [%s]}`, op, path, strings.Join(values, ", "))
	}
	set := func(op, path, value string) string {
		return fmt.Sprintf(`{"op": %q, "path": %q, "value": %s}`, op, path, value)
	}
	drop := func(id string) string {
		return fmt.Sprintf(`{"op": "remove", "path": "members[value eq \"%s@kelp.example\"]"}`, id)
	}
	extension := func(name string) string { return scim.Extension + ":" + name }
	for _, c := range []struct {
		operations []string
		want       string // of both groups, or the kind of the refusal
	}{
		{nil, crew + "\n" + all},
		{[]string{member("add", "members", "cat", "bob")}, "crew Crew  team ann  anndigest bob cat (base=pier)\n" + all},
		{[]string{member("add", "members", "cat", "cat")}, "crew Crew  team ann  anndigest bob cat (base=pier)\n" + all},
		{[]string{member("replace", "members", "cat", "ann")}, "crew Crew  team ann  anndigest cat (base=pier)\n" + all},
		{[]string{member("replace", "members")}, "crew Crew  team ann  (base=pier)\n" + all},
		{[]string{`{"op": "remove", "path": "members"}`}, "crew Crew  team ann  (base=pier)\n" + all},
		{[]string{member("remove", "members", "ann", "bob")}, "crew Crew  team ann  (base=pier)\n" + all},
		{[]string{drop("ann"), drop("bob")}, "crew Crew  team ann  (base=pier)\n" + all},
		{[]string{drop("ann"), drop("ann")}, "noTarget"},
		{[]string{drop("cat")}, "noTarget"},
		{[]string{member("add", "members", "cat"), drop("cat")}, crew + "\n" + all},
		{[]string{drop("bob"), member("add", "members", "bob")}, crew + "\n" + all},
		{[]string{member("replace", "members", "cat"), member("add", "members", "ann"), drop("cat")}, "crew Crew  team ann  ann (base=pier)\n" + all},
		{[]string{member("add", extension("owners"), "ann", "cat")}, "crew Crew  team ann+cat  anndigest bob (base=pier)\n" + all},
		{[]string{member("replace", extension("owners"), "cat")}, "crew Crew  team cat  anndigest bob (base=pier)\n" + all},
		{[]string{member("replace", extension("owners"))}, "crew Crew  team   anndigest bob (base=pier)\n" + all},
		{[]string{member("remove", extension("owners"), "ann")}, "crew Crew  team   anndigest bob (base=pier)\n" + all},
		{[]string{`{"op": "remove", "path": "` + extension("owners") + `"}`}, "crew Crew  team   anndigest bob (base=pier)\n" + all},
		{[]string{member("add", extension("moderators"), "bob"), member("add", extension("moderators"), "cat")}, "crew Crew  team ann bob+cat anndigest bob (base=pier)\n" + all},
		{[]string{set("add", extension("also"), `["gang@kelp.example", "team@kelp.example"]`)}, "crew Crew  team+gang ann  anndigest bob (base=pier)\n" + all},
		{[]string{set("replace", extension("also"), `"gang@kelp.example"`)}, "crew Crew  gang ann  anndigest bob (base=pier)\n" + all},
		{[]string{set("remove", extension("also"), `["team@kelp.example"]`)}, "crew Crew   ann  anndigest bob (base=pier)\n" + all},
		{[]string{set("replace", extension("also"), `[7]`)}, "invalidValue"},
		{[]string{set("replace", "displayName", `"The crew"`)}, "crew The crew  team ann  anndigest bob (base=pier)\n" + all},
		{[]string{set("replace", "displayName", `"CREW@kelp.example"`)}, "crew   team ann  anndigest bob (base=pier)\n" + all},
		{[]string{`{"op": "remove", "path": "displayName"}`}, "crew   team ann  anndigest bob (base=pier)\n" + all},
		{[]string{set("replace", extension("about"), `"Hands"`), set("replace", extension("about"), `"All hands"`)}, "crew Crew All hands team ann  anndigest bob (base=pier)\n" + all},
		{[]string{`{"op": "remove", "path": "` + extension("about") + `"}`}, crew + "\n" + all},
		{[]string{set("replace", extension("rules"), `["everyone"]`)}, "crew Crew  team ann  anndigest bob everyone\n" + all},
		{[]string{set("add", extension("rules"), `["where (base=quay)"]`)}, "crew Crew  team ann  anndigest bob (base=pier) (base=quay)\n" + all},
		{[]string{set("add", extension("rules"), `["whoever"]`)}, "invalidValue"},
		{[]string{set("replace", extension("address"), `"gang@kelp.example"`)}, "gang Crew  team ann  anndigest bob (base=pier)\nall    gang gang gang"},
		{[]string{set("replace", extension("address"), `"gang@kelp.example"`), member("add", "members", "cat")}, "gang Crew  team ann  anndigest bob cat (base=pier)\nall    gang gang gang"},
		{[]string{set("replace", extension("address"), `"all@kelp.example"`)}, "invalidValue"},
		{[]string{set("replace", extension("address"), `"x"`)}, "invalidValue"},
		{[]string{`{"op": "remove", "path": "` + extension("address") + `"}`}, "invalidValue"},
		{[]string{set("replace", "id", `"x"`), set("add", "externalId", `"y"`)}, crew + "\n" + all},
		{[]string{`{"op": "add", "value": {"members": [{"value": "cat@kelp.example"}], "` + scim.Extension + `": {"about": "Hands"}}}`}, "crew Crew Hands team ann  anndigest bob cat (base=pier)\n" + all},
		{[]string{`{"op": "remove", "value": {"members": []}}`}, "noTarget"},
		{[]string{`{"op": "add", "value": "x"}`}, "noTarget"},
		{[]string{`{"op": "remove", "path": "members[display eq \"x\"]"}`}, "invalidPath"},
		{[]string{`{"op": "add", "path": "members[value eq \"ann@kelp.example\"]"}`}, "invalidPath"},
		{[]string{set("add", "members", `["ann@kelp.example"]`)}, "invalidValue"},
		{[]string{member("add", "members", "nobody")}, "invalidValue"},
		{[]string{member("add", extension("owners"), "nobody")}, "invalidValue"},
		{[]string{set("add", "colour", `"blue"`)}, "invalidPath"},
	} {
		change := newSCIMChange(shoreEstate(t))
		body := fmt.Sprintf(`{"schemas": [%q], "Operations": [%s]}`, scim.PatchSchema, strings.Join(c.operations, ", "))
		_, err := change.patch("crew@kelp.example", json.RawMessage(body))
		if err == nil {
			err = change.flush()
		}
		got := ""
		var refused *scimError
		switch {
		case errors.As(err, &refused):
			got = refused.kind
		case err != nil:
			got = err.Error()
		default:
			got = tell(change.e)
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", strings.Join(c.operations, ", "), got, c.want)
		}
	}
}

// A bulk request creates first, refers to what it creates, and leaves nothing behind
// of what is refused.
func TestBulk(t *testing.T) {
	post := func(bulkID, address string, members ...string) string {
		var list []string
		for _, m := range members {
			list = append(list, fmt.Sprintf(`{"value": %q}`, m))
		}
		return fmt.Sprintf(`{"method": "POST", "path": "/Groups", "bulkId": %q, "data": {"members": [%s], %q: {"address": "%s@kelp.example"}}}`,
			bulkID, strings.Join(list, ", "), scim.Extension, address)
	}
	patch := func(id, member string) string {
		return fmt.Sprintf(`{"method": "PATCH", "path": "/Groups/%s", "data": {"schemas": [%q], "Operations": [{"op": "add", "path": "members", "value": [{"value": %q}]}]}}`, id, scim.PatchSchema, member)
	}
	remove := func(id string) string { return fmt.Sprintf(`{"method": "DELETE", "path": "/Groups/%s"}`, id) }
	const crew, all = "crew Crew  team ann  anndigest bob (base=pier)", "all    crew crew crew"
	for _, c := range []struct {
		operations []string
		want       string
	}{
		{[]string{remove("crew@kelp.example")}, "all     "},
		{[]string{remove("crew%40kelp.example"), remove("all@kelp.example")}, ""},
		{[]string{remove("crew@kelp.example"), remove("crew@kelp.example")}, "404"},
		{[]string{remove("none@kelp.example")}, "404"},
		{[]string{patch("all@kelp.example", "bulkId:1"), post("1", "night", "ann@kelp.example")}, crew + "\nall    crew crew crew night\nnight      ann"},
		{[]string{post("1", "day", "bulkId:2"), post("2", "night", "bulkId:1")}, crew + "\n" + all + "\nday      night\nnight      day"},
		{[]string{post("1", "day"), post("2", "day")}, "409"},
		{[]string{post("1", "day", "bulkId:3")}, "400"},
		{[]string{post("1", "ann")}, "409"},
		{[]string{post("1", "day"), patch("day@kelp.example", "cat@kelp.example"), remove("crew@kelp.example")}, "all     \nday      cat"},
		{[]string{remove("crew@kelp.example"), patch("all@kelp.example", "cat@kelp.example")}, "all      cat"},
		{[]string{remove("crew@kelp.example"), patch("crew@kelp.example", "cat@kelp.example")}, "404"},
		{[]string{patch("crew@kelp.example", "cat@kelp.example"), patch("crew@kelp.example", "all@kelp.example")}, "crew Crew  team ann  anndigest bob cat all (base=pier)\n" + all},
		{[]string{`{"method": "PUT", "path": "/Groups/crew@kelp.example"}`}, "400"},
	} {
		change := newSCIMChange(shoreEstate(t))
		body := fmt.Sprintf(`{"schemas": [%q], "Operations": [%s]}`, scim.BulkSchema, strings.Join(c.operations, ", "))
		_, err := change.bulk(json.RawMessage(body))
		if err == nil {
			err = change.flush()
		}
		got := tell(change.e)
		var refused *scimError
		if errors.As(err, &refused) {
			got = fmt.Sprint(refused.status)
		} else if err != nil {
			got = err.Error()
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", strings.Join(c.operations, ", "), got, c.want)
		}
	}
}
