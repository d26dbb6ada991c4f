package source_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/aliases"
	"yorvet.example/yorvet/internal/directory/ldif"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/directory/vcard"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/source"
)

// describe tells all of an estate that a format carries, in a fixed form. selves
// says that a group may be a member of itself.
func describe(e *estate.Estate, c directory.Carries, selves bool) string {
	var lines []string
	line := func(parts ...any) { lines = append(lines, strings.TrimSpace(fmt.Sprintln(parts...))) }
	list := func(what, who string, texts []string) {
		sort.Strings(texts)
		line(who, what, slices.Compact(texts))
	}
	addresses := func(all []address.Address) (texts []string) {
		for _, a := range all {
			if !strings.HasPrefix(a.Local(), "owner-") { // aliases make an address of the owner's role
				texts = append(texts, a.Key())
			}
		}
		return texts
	}
	name := func(id estate.ID) string { return e.Address(id).Key() }
	mentioned := map[estate.ID]bool{}
	for g := range estate.ID(e.Groups()) {
		group, who := e.Group(g), name(g)
		if len(e.Entries(g)) == 0 && !c.Unnamed || strings.HasPrefix(group.Address.Local(), "owner-") {
			continue
		}
		line("group", who)
		if c.Also {
			list("also", who, addresses(group.Also))
		}
		listed := func(what string, all []estate.Listed) {
			var texts []string
			for _, one := range all {
				if !one.ID.IsNobody() || c.Nobody {
					texts = append(texts, name(one.ID))
					mentioned[one.ID] = true
				}
			}
			list(what, who, texts)
		}
		if c.Owners {
			listed("owners", group.Owners)
		}
		if c.Moderators {
			listed("moderators", group.Moderators)
		}
		for _, f := range directory.Settings(group) {
			if f.Name != "managed-in" && (slices.Contains(c.Settings, f.Name) || slices.Contains(c.Settings, "all")) {
				line(who, f.Name, f.Text, fmt.Sprintf("%q", f.List))
			}
		}
		for i, rule := range group.Access {
			if c.Access && rule.Place != (estate.Place{}) {
				line(who, "access", i, rule.Text)
			}
		}
		var members []string
		seen := map[estate.ID]bool{}
		for _, entry := range e.Entries(g) {
			if entry.Member.IsNobody() && !c.Nobody || seen[entry.Member] || entry.Member == g && !selves {
				continue
			}
			seen[entry.Member], mentioned[entry.Member] = true, true
			text := name(entry.Member)
			if c.Memberships {
				text += fmt.Sprint(" ", entry.Copy(), " ", entry.Invitations(), " ", entry.Paused(), " ", entry.Since())
			}
			members = append(members, text)
		}
		for _, rule := range e.Rules(g) {
			if c.Rules != nil && c.Rules(rule) {
				if rule.Filter == nil {
					members = append(members, "everyone")
				} else {
					members = append(members, rule.Filter.String())
				}
			}
		}
		list("members", who, members)
	}
	for i := range e.People() {
		id := e.PersonID(i)
		p, who := e.Person(id), name(id)
		if p.Implied && !mentioned[id] && !c.Unnamed {
			continue
		}
		if c.Names && p.Name != "" {
			line(who, "name", p.Name)
		}
		also := slices.DeleteFunc(slices.Clone(p.Also), func(a address.Address) bool { return !c.HoldsAlso(e, id, a) })
		if texts := addresses(also); len(texts) > 0 {
			list("also", who, texts)
		}
		if c.Mailbox != nil && c.Mailbox(p.Mailbox) && p.Mailbox != estate.MailboxOpen {
			line(who, "mailbox", p.Mailbox)
		}
		before := ""
		for _, f := range e.Attributes(id) {
			if c.OneValue && f.Name == before {
				continue
			}
			before = f.Name
			if c.Attributes != nil && c.Attributes(f.Name, f.Value) {
				line(who, "attribute", f.Name, f.Value)
			}
		}
	}
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}

// A format writes an estate to a path, and says what it carries.
type format struct {
	path    string
	carries directory.Carries
	write   func(w io.Writer, e *estate.Estate) error
}

func formats(e *estate.Estate) map[string]format {
	ldap, vcards, resources := directory.BuiltIn("ldap"), directory.BuiltIn("vcard"), directory.BuiltIn("scim")
	l, s := &ldif.Export{Map: ldap}, &scim.Export{Map: resources}
	return map[string]format{
		"ldif":    {"x.ldif", l.Carries(e), l.Write},
		"scim":    {"x.scim", s.Carries(), s.Write},
		"aliases": {"x.aliases", aliases.Carries(), aliases.Write},
		"vcard":   {"x.vcf", vcard.Carries(vcards), func(w io.Writer, e *estate.Estate) error { return vcard.Write(w, e, vcards) }},
	}
}

func again(t *testing.T, name string, e *estate.Estate) *estate.Estate {
	t.Helper()
	var domains []string
	for _, d := range e.Settings().Domains {
		domains = append(domains, d.Name)
	}
	known := func(text string) bool {
		_, ok := e.Exact(address.MustParse(text))
		return ok
	}
	d, err := source.Read(t.Context(), name, source.Options{Domains: domains})
	if err != nil {
		t.Fatal(err)
	}
	now, err := directory.Merge([]*directory.Directory{d}, directory.MergeOptions{Domains: domains, Known: known}).Build()
	if err != nil {
		t.Fatal(err)
	}
	return now
}

// What is exported and imported again is the same, in every field that the format
// carries.
func TestRoundTrips(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for n := range 80 {
		e := sample.Load(t, strings.ReplaceAll(sample.Estate(random), "post: deck", "title: \"deck: 1\", unit: [a, b], =x: \"=1+1\", post: deck")).Estate()
		for name, f := range formats(e) {
			var b bytes.Buffer
			if err := f.write(&b, e); err != nil {
				t.Fatal(err)
			}
			path := filepath.Join(t.TempDir(), f.path)
			if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			if got, want := describe(again(t, path, e), f.carries, name != "ldif"), describe(e, f.carries, name != "ldif"); got != want {
				t.Fatalf("%s, estate %d: %s\n%s", name, n, differing(got, want), b.String())
			}
		}
		dir := t.TempDir()
		for name, data := range table.Write(e) {
			if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if got, want := describe(again(t, dir, e), table.Carries(), true), describe(e, table.Carries(), true); got != want {
			t.Fatalf("tables, estate %d: %s\n%s", n, differing(got, want), table.Write(e)["groups.csv"])
		}
	}
}

// differing returns the lines that only one of two texts has.
func differing(got, want string) string {
	var b strings.Builder
	for _, side := range []struct{ name, text, other string }{{"too much", got, want}, {"lacking", want, got}} {
		others := strings.Split(side.other, "\n")
		for line := range strings.SplitSeq(side.text, "\n") {
			if !slices.Contains(others, line) {
				fmt.Fprintf(&b, "\n%s: %s", side.name, line)
			}
		}
	}
	return b.String()
}
