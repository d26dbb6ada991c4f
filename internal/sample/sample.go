// Package sample makes estates for tests: of YAML, and small random ones in which
// much of what can happen in an estate happens.
package sample

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/estatefile"
)

// Load makes an estate of YAML, on 2026-11-23.
func Load(t testing.TB, yaml string) *resolve.Resolver {
	t.Helper()
	r, err := load(t, yaml)
	if err != nil {
		t.Fatalf("%v\n%s", err, yaml)
	}
	return r
}

// Try is Load of YAML that may be no estate.
func Try(t testing.TB, yaml string) (*resolve.Resolver, bool) {
	t.Helper()
	r, err := load(t, yaml)
	return r, err == nil
}

func load(t testing.TB, yaml string) (*resolve.Resolver, error) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "e.yaml")
	if err := os.WriteFile(path, []byte(yaml), 0o644); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(t.Context(), path)
	if err != nil {
		return nil, err
	}
	day, _ := estate.ParseDay("2026-11-23")
	return resolve.New(e, day), nil
}

// Demo makes one of the estates of the demo, such as demo.Estate, on 2026-11-23.
func Demo(t testing.TB, name string) *resolve.Resolver {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	e, err := estatefile.Load(t.Context(), filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	day, _ := estate.ParseDay("2026-11-23")
	return resolve.New(e, day)
}

// Estate returns a random estate as YAML.
func Estate(random *rand.Rand) string {
	g := &generator{random: random, people: 3 + random.IntN(5), groups: 2 + random.IntN(5)}
	var b strings.Builder
	b.WriteString("yorvet: 1\ndomains: [kelp.example]\nsubaddress: \"+\"\n")
	if g.chance(20) {
		b.WriteString("nested-gates: open\n")
	}
	if g.chance(70) {
		b.WriteString("code-sender: codes@post.example\n")
	}
	if g.chance(25) {
		b.WriteString("edge:\n")
		for range 1 + g.random.IntN(2) {
			fmt.Fprintf(&b, "  - %s %s\n", g.pick("refuse", "refuse", "drop"), g.edgeSelector())
		}
	}
	b.WriteString("people:\n")
	for i := range g.people {
		fmt.Fprintf(&b, "  - {address: %s", g.address(i))
		if g.chance(20) {
			fmt.Fprintf(&b, ", also: [also%d@%s]", i, g.pick("kelp.example", "out.example"))
		}
		if g.chance(30) {
			fmt.Fprintf(&b, ", mailbox: %s", g.pick("full", "closed", "none"))
		}
		fmt.Fprintf(&b, ", attributes: {post: %s}}\n", g.pick("deck", "engine"))
	}
	b.WriteString("groups:\n")
	for i := range g.groups {
		g.group(&b, i)
	}
	return b.String()
}

type generator struct {
	random         *rand.Rand
	people, groups int
}

func (g *generator) pick(words ...string) string { return words[g.random.IntN(len(words))] }

func (g *generator) chance(percent int) bool { return g.random.IntN(100) < percent }

// address returns the address of a person: every fourth is outside.
func (g *generator) address(i int) string {
	if i%4 == 3 {
		return fmt.Sprintf("p%d@out.example", i)
	}
	return fmt.Sprintf("p%d@kelp.example", i)
}

func (g *generator) person() string { return g.address(g.random.IntN(g.people)) }

func (g *generator) anyGroup() string {
	return fmt.Sprintf("g%d@kelp.example", g.random.IntN(g.groups))
}

func (g *generator) group(b *strings.Builder, i int) {
	fmt.Fprintf(
		b,
		"  - address: g%d@kelp.example\n    kind: %s\n",
		i,
		g.pick("list", "list", "forum", "mailbox", "roster"),
	)
	for _, setting := range []struct{ name, words string }{
		{"copy", "every digest none"}, {"joiners", "every none"}, {"outside-copy", "every none"}, {"echo", "false"},
		{"welcome", "false"}, {"replies-as", "group person"}, {"send-as-proof", "mailed-code none"},
		{"invitations", "every none"}, {"outside-members", "refused allowed"},
		{"replies-to", "group author office@out.example nobody@kelp.example"},
	} {
		if g.chance(25) {
			fmt.Fprintf(b, "    %s: %s\n", setting.name, g.pick(strings.Fields(setting.words)...))
		}
	}
	if g.chance(70) {
		fmt.Fprintf(b, "    owners: [%s]\n", g.pick(g.person(), g.person(), g.anyGroup()))
	}
	if g.chance(40) {
		fmt.Fprintf(b, "    moderators: [%s]\n", g.pick(g.person(), g.person(), g.anyGroup()))
	}
	b.WriteString("    members:\n")
	fmt.Fprintf(b, "      - %s\n", g.person())
	for range g.random.IntN(4) {
		switch g.random.IntN(6) {
		case 0, 1:
			fmt.Fprintf(
				b,
				"      - {address: %s, copy: %s, paused: %t}\n",
				g.person(),
				g.pick("every", "digest", "replies", "none"),
				g.chance(20),
			)
		case 2, 3:
			fmt.Fprintf(b, "      - %s\n", g.anyGroup())
		case 4:
			fmt.Fprintf(b, "      - where: (post=%s)\n", g.pick("deck", "engine"))
		case 5:
			fmt.Fprintf(b, "      - %s\n", g.pick("nobody@kelp.example", "new@out.example", "typo@kelp.exampl"))
		}
	}
	if g.chance(20) {
		fmt.Fprintf(b, "    access: {see-members: %s, join: %s}\n", g.pick("anyone", "members"), g.person())
	}
	if g.chance(75) {
		b.WriteString("    gate:\n")
		for range 1 + g.random.IntN(3) {
			fmt.Fprintf(b, "      - %s %s\n", g.pick("admit", "admit", "hold", "refuse", "drop"), g.selector())
		}
	}
	if g.chance(40) {
		fmt.Fprintf(
			b,
			"    send-as: [%s %s]\n",
			g.pick("as", "for"),
			g.pick("members", "owners", "inside", "inside", g.person(), "where (post=deck)", "friend@far.example or members",
				"anyone"),
		)
	}
}

func (g *generator) edgeSelector() string {
	return g.pick(
		"unproven and @kelp.example", "@out.example", "outside and larger(5MB)", "suspect", g.person(),
		"in "+g.anyGroup(), "outside and automatic", "not known and outside", "@*.far.example",
	)
}

func (g *generator) selector() string {
	return g.pick(
		"newcomers(14d)",
		"friend@far.example",
		"@*.far.example or moderators",
		"invitation and outside",
		"anyone",
		"inside",
		"outside",
		"members",
		"owners",
		"unproven",
		"suspect",
		"known and not members",
		"@out.example",
		"in "+g.anyGroup(),
		g.person(),
		"where (post=deck)",
		"inside and larger(5MB)",
		"not members",
		"automatic or unproven",
	)
}
