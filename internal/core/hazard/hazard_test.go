package hazard_test

import (
	"os"
	"path/filepath"
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

const people = `yorvet: 1
domains: [kelp.example]
code-sender: codes@post.example
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: full@kelp.example, mailbox: full}
  - {address: closed@kelp.example, mailbox: closed}
groups:
`

// Each check fires on the first estates and not on the others, which are near
// misses. A group stands for the rest of its mapping.
var cases = map[string]struct{ fires, neverReaches []string }{
	"nobody-approves": {
		[]string{"g: {gate: [hold suspect, admit anyone]}", "g: {gate: [hold anyone], moderators: [r@kelp.example]} r: {kind: roster}"},
		[]string{"g: {gate: [hold suspect, admit anyone], owners: [ada@kelp.example]}", "g: {gate: [admit anyone, hold suspect]}", "g: {kind: roster, gate: [hold anyone]}"},
	},
	"approver-unreachable": {
		[]string{"g: {gate: [hold anyone], moderators: [full@kelp.example], owners: [ada@kelp.example]}"},
		[]string{"g: {gate: [hold anyone], moderators: [full@kelp.example, ada@kelp.example]}", "g: {gate: [admit anyone], moderators: [full@kelp.example]}"},
	},
	"no-way-in": {
		[]string{"g: {gate: []}", "g: {gate: [hold anyone]}", "g: {gate: [admit nobody]}", "g: {gate: [refuse anyone, admit inside]}", "g: {gate: [admit codes@post.example]}"},
		[]string{"g: {gate: [hold anyone], owners: [ada@kelp.example]}", "g: {gate: [refuse suspect, admit ada@kelp.example]}", "g: {gate: [admit unproven]}", "g: {gate: [admit @met.example]}", "g: {kind: roster, gate: []}", "g: {gate: [admit larger(3MB)]}"},
	},
	"nested-stops": {
		[]string{"g: {members: [n@kelp.example], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [n@kelp.example], gate: [admit @*.met.example]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [n@kelp.example], gate: [admit inside]} n: {members: [ada@kelp.example], gate: [refuse suspect, admit inside]}",
			"g: {members: [n@kelp.example, {address: ada@kelp.example, copy: none}], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {kind: forum, members: [n@kelp.example, {address: ada@kelp.example, copy: none}], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [r@kelp.example], gate: [admit bo@kelp.example]} r: {kind: roster, members: [n@kelp.example]} n: {members: [ada@kelp.example], gate: [admit members]}"},
		[]string{"g: {members: [n@kelp.example], gate: [admit inside]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [{address: n@kelp.example, copy: none}], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [n@kelp.example], gate: [admit anyone]} n: {kind: roster, members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [n@kelp.example, ada@kelp.example], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [n@kelp.example, m@kelp.example], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]} m: {members: [ada@kelp.example], gate: [hold anyone]}",
			"g: {members: [n@kelp.example], gate: [admit anyone]} n: {members: [{address: ada@kelp.example, copy: none}], gate: [admit inside]}",
			"g: {kind: mailbox, members: [n@kelp.example], gate: [admit anyone]} n: {members: [ada@kelp.example], gate: [admit inside]}",
			"g: {members: [n@kelp.example], gate: [admit anyone]} n: {gate: [admit inside]}"},
	},
	"nested-waits": {
		[]string{"g: {members: [n@kelp.example], gate: [admit inside]} n: {members: [ada@kelp.example], gate: [admit members, hold inside]}"},
		[]string{"g: {members: [n@kelp.example], gate: [admit ada@kelp.example]} n: {members: [ada@kelp.example], gate: [admit members, hold inside]}",
			"g: {members: [n@kelp.example, ada@kelp.example], gate: [admit inside]} n: {members: [ada@kelp.example], gate: [admit members, hold inside]}"},
	},
	"no-such-address": {
		[]string{"g: {members: [addda@kelp.example]}", "g: {owners: [x@kelp.example]}", "g: {gate: [admit x@kelp.example or inside]}", "g: {send-as: [as x@kelp.example]}", "g: {replies-to: x@kelp.example}"},
		[]string{"g: {members: [x@out.example], gate: [admit x@out.example]}"},
	},
	"forgeable": {
		[]string{"g: {gate: [admit members], members: [ada@kelp.example]}", "g: {gate: [admit ada@kelp.example]}", "g: {gate: [admit @kelp.example]}", "g: {gate: [admit known]}"},
		[]string{"g: {gate: [refuse unproven, admit members], members: [ada@kelp.example]}", "g: {gate: [admit anyone]}", "g: {gate: [admit inside and members], members: [ada@kelp.example]}", "g: {}"},
	},
	"send-as-unprovable": {
		[]string{"g: {send-as: [as owners], owners: [ada@kelp.example], send-as-proof: mailed-code, gate: [admit anyone]}",
			"g: {send-as: [as members], members: [{address: ada@kelp.example, copy: digest}], send-as-proof: mailed-code, gate: [admit anyone]}",
			"g: {send-as: [as members], members: [ada@kelp.example], send-as-proof: mailed-code, gate: [admit inside]}"},
		[]string{"g: {send-as: [as members], members: [ada@kelp.example], send-as-proof: mailed-code, gate: [admit anyone]}",
			"g: {kind: forum, send-as: [as members], members: [{address: ada@kelp.example, copy: none}], send-as-proof: mailed-code, gate: [admit anyone]}",
			"g: {send-as: [as owners], owners: [ada@kelp.example], gate: [admit inside]}"},
	},
	"outside-sends-as": {
		[]string{"g: {send-as: [as anyone]}", "g: {members: [x@out.example], send-as: [for members]}", "g: {send-as: [as x@out.example]}", "g: {send-as: [as @*.out.example]}"},
		[]string{"g: {members: [x@out.example], send-as: [for members and inside]}", "g: {send-as: [as inside]}"},
	},
	"author-unanswered": {
		[]string{"g: {gate: [admit anyone], members: [ada@kelp.example], replies-to: group}", "g: {gate: [hold anyone], members: [ada@kelp.example], replies-to: office@kelp.example}", "g: {gate: [admit @met.example], members: [ada@kelp.example], replies-to: group}"},
		[]string{"g: {gate: [admit anyone], members: [ada@kelp.example]}", "g: {members: [ada@kelp.example], replies-to: group}", "g: {kind: mailbox, gate: [admit anyone], members: [ada@kelp.example], replies-to: group}",
			"g: {kind: forum, copy: none, gate: [admit anyone], members: [ada@kelp.example], replies-to: group}",
			"g: {gate: [admit members], members: [ada@kelp.example, x@out.example], replies-to: group}"},
	},
	"outside-member-barred": {
		[]string{"g: {outside-members: refused, members: [x@out.example]}", "g: {outside-members: refused, members: [n@kelp.example]} n: {members: [x@out.example]}", "g: {kind: forum, outside-members: refused, outside-copy: none, members: [x@out.example]}"},
		[]string{"g: {members: [x@out.example]}", "g: {outside-members: refused, outside-copy: none, members: [x@out.example, ada@kelp.example]}", "g: {kind: roster, outside-members: refused, members: [x@out.example]}"},
	},
	"lookalike": {
		[]string{"g: {members: [ada@kelp.exampl]}", "g: {owners: [ada@localhost]}", "g: {gate: [admit ada@help.example]}", "g: {access: {join: ada@kellp.example}}", "g: {replies-to: ada@kelp.examples}"},
		[]string{"g: {members: [ada@klep.example, bo@kelp.example]}", "g: {gate: [admit @kelp.exampl]}"},
	},
	"names-closed": {
		[]string{"g: {gate: [admit closed@kelp.example]}", "g: {send-as: [as inside and not closed@kelp.example]}", "g: {access: {manage: closed@kelp.example}}"},
		[]string{"g: {gate: [admit full@kelp.example]}", "g: {owners: [closed@kelp.example]}"},
	},
	"misses-invitations": {
		[]string{"g: {members: [{address: ada@kelp.example, copy: digest}]}", "g: {invitations: none, members: [ada@kelp.example]}", "g: {kind: forum, members: [{address: ada@kelp.example, invitations: none}]}"},
		[]string{"g: {invitations: every, members: [{address: ada@kelp.example, copy: digest}]}", "g: {invitations: none, gate: [refuse invitation, admit inside], members: [ada@kelp.example]}", "g: {kind: roster, members: [{address: ada@kelp.example, copy: digest}]}"},
	},
	"code-shut-out": {
		[]string{"g: {kind: roster, send-as-proof: mailed-code}", "g: {send-as-proof: mailed-code}", "g: {send-as-proof: mailed-code, gate: [refuse automatic, admit anyone]}"},
		[]string{"g: {send-as-proof: mailed-code, gate: [admit codes@post.example]}", "g: {gate: [refuse automatic]}"},
	},
	"unreachable-member": {
		[]string{"g: {members: [full@kelp.example]}", "g: {members: [{address: ada@kelp.example, paused: true}]}", "g: {members: [{where: (address=closed@*)}]}"},
		[]string{"g: {members: [r@kelp.example]} r: {kind: roster, members: [full@kelp.example]}",
			"g: {members: [{address: ada@kelp.example, paused: true}, n@kelp.example]} n: {members: [ada@kelp.example]}",
			"g: {kind: forum, members: [{address: ada@kelp.example, paused: true}]}", "g: {members: [ada@kelp.example, {address: full@kelp.example, copy: none}]}", "g: {kind: mailbox, members: [full@kelp.example]}", "g: {kind: roster, members: [full@kelp.example]}"},
	},
	"gets-nothing": {
		[]string{"g: {members: [{address: ada@kelp.example, copy: none}]}", "g: {copy: replies, members: [ada@kelp.example]}"},
		[]string{"g: {members: [{address: ada@kelp.example, copy: none}, n@kelp.example]} n: {members: [ada@kelp.example]}",
			"g: {kind: forum, members: [{address: ada@kelp.example, copy: none}]}", "g: {copy: none, members: [{address: ada@kelp.example, copy: digest}]}"},
	},
	"older-members-differ": {
		[]string{"g: {copy: none, joiners: every, members: [ada@kelp.example]}"},
		[]string{"g: {copy: none, joiners: every, members: [{address: ada@kelp.example, copy: every}]}", "g: {copy: none, members: [ada@kelp.example]}", "g: {copy: every, joiners: digest, members: [ada@kelp.example]}"},
	},
	"outside-reader": {
		[]string{"g: {members: [n@kelp.example]} n: {members: [x@out.example], gate: [admit inside]}",
			"g: {kind: mailbox, members: [n@kelp.example]} n: {members: [x@out.example]}",
			"g: {members: [n@kelp.example]} n: {kind: forum, outside-copy: none, members: [x@out.example]}"},
		[]string{"g: {members: [n@kelp.example], gate: [admit inside, hold anyone]} n: {members: [x@out.example], gate: [admit inside]}",
			"g: {kind: mailbox, members: [n@kelp.example, x@out.example]} n: {members: [x@out.example]}",
			"g: {members: [x@out.example]}", "g: {members: [n@kelp.example], gate: [admit anyone]} n: {members: [x@out.example], gate: [admit anyone]}",
			"g: {members: [n@kelp.example]} n: {members: [x@out.example], gate: [refuse anyone]}", "g: {members: [n@kelp.example]} n: {outside-copy: none, members: [x@out.example]}"},
	},
	"dead-rule": {
		[]string{"g: {gate: [admit anyone, hold suspect]}", "g: {kind: roster, gate: [admit inside], send-as: [as inside, for inside]}", "g: {gate: [admit inside, hold inside and suspect]}", "g: {gate: [admit where (post=none), admit anyone]}", "g: {send-as: [as inside, for ada@kelp.example]}"},
		[]string{"g: {gate: [hold newcomers(14d), admit inside]}", "g: {gate: [admit codes@post.example]}", "g: {send-as: [as newcomers(3d)]}", "g: {gate: [admit inside, hold suspect]}", "g: {gate: [admit @met.example]}", "g: {gate: [refuse unproven and automatic, admit anyone]}", "g: {gate: [hold larger(3MB), admit larger(5MB) or inside]}", "g: {}", "g: {gate: [admit in n@kelp.example, hold anyone]} n: {members: [g@kelp.example]}", "g: {send-as: [as newcomers(5d), for in n@kelp.example, for codes@post.example]} n: {members: [g@kelp.example]}", "g: {gate: [admit members, hold inside]}"},
	},
	"loop": {
		[]string{"g: {members: [n@kelp.example]} n: {members: [g@kelp.example]}", "g: {members: [g@kelp.example]}", "g: {members: [m@kelp.example, n@kelp.example]} n: {members: [ada@kelp.example, m@kelp.example, g@kelp.example]} m: {}"},
		[]string{"g: {members: [n@kelp.example, m@kelp.example]} n: {members: [m@kelp.example]} m: {}"},
	},
	"no-members": {
		[]string{"g: {}", "g: {members: [{address: ada@kelp.example, copy: none}]}", "g: {members: [full@kelp.example]}", "g: {members: [{address: n@kelp.example, copy: none}]} n: {kind: roster, members: [ada@kelp.example]}", "g: {members: [ghost@kelp.example]}"},
		[]string{"g: {members: [n@kelp.example]} n: {kind: roster, members: [ada@kelp.example]}", "g: {kind: roster}"},
	},
	"no-owner": {
		[]string{"g: {}", "g: {owners: [r@kelp.example]} r: {kind: roster, owners: [ada@kelp.example]}", "g: {owners: [ghost@kelp.example]}"},
		[]string{"g: {owners: [ada@kelp.example]}", "g: {owners: [r@kelp.example]} r: {kind: roster, owners: [ada@kelp.example], members: [ada@kelp.example]}"},
	},
	"owner-left-out": {
		[]string{"g: {owners: [ada@kelp.example], members: [bo@kelp.example]}", "g: {owners: [ada@kelp.example], members: [{address: ada@kelp.example, copy: none}]}"},
		[]string{"g: {owners: [ada@kelp.example], members: [ada@kelp.example]}", "g: {kind: forum, owners: [ada@kelp.example], members: [{address: ada@kelp.example, copy: none}]}", "g: {kind: roster, owners: [ada@kelp.example]}"},
	},
	"answers-show-person": {
		[]string{"g: {gate: [admit anyone], members: [ada@kelp.example]}", "g: {gate: [hold anyone], members: [ada@kelp.example]}", "g: {gate: [admit @met.example], members: [ada@kelp.example]}", "g: {gate: [admit anyone], members: [ada@kelp.example], send-as: []}", "g: {gate: [admit anyone], members: [ada@kelp.example], send-as: [as members]}", "g: {gate: [admit anyone], members: [ada@kelp.example], send-as: [as bo@kelp.example], replies-as: group}"},
		[]string{"g: {gate: [admit anyone], members: [ada@kelp.example], send-as: [as members], replies-as: group}", "g: {members: [ada@kelp.example]}"},
	},
	"members-on-show": {
		[]string{"g: {members: [ada@kelp.example], access: {see-members: anyone}}", "g: {members: [n@kelp.example], access: {see-members: outside}} n: {}"},
		[]string{"g: {}", "g: {access: {see-members: anyone}}", "g: {members: [ada@kelp.example], access: {see-members: inside}}"},
	},
	"twice-a-member": {
		[]string{"g: {members: [ada@kelp.example, ADA@kelp.example]}", "g: {members: [bo@kelp.example, ada@kelp.example, r@kelp.example, r@kelp.example, ada@kelp.example, ada@kelp.example]} r: {}", "g: {members: [ada@kelp.example, {where: (address=*)}, ada@kelp.example]}", "g: {members: [n@kelp.example, n@kelp.example]} n: {}"},
		[]string{"g: {members: [ada@kelp.example, {where: (address=ada@*)}]}", "g: {members: [n@kelp.example, ada@kelp.example]} n: {members: [ada@kelp.example]}"},
	},
	"same-members": {
		[]string{"g: {members: [ada@kelp.example]} n: {members: [ada@kelp.example]}"},
		[]string{"g: {members: [ada@kelp.example]} n: {members: [ada@kelp.example], gate: [admit members]}", "g: {members: [ada@kelp.example]} n: {members: [ada@kelp.example], send-as: [as members]}",
			"g: {members: [ada@kelp.example]} n: {members: [{address: ada@kelp.example, copy: digest}]}", "g: {members: [n@kelp.example]} n: {members: [ada@kelp.example]}",
			"g: {members: [ada@kelp.example]} n: {kind: forum, members: [ada@kelp.example]}", "g: {} n: {}"},
	},
}

// groups makes YAML of a case.
func groups(text string) string {
	yaml := people
	for _, name := range []string{"g", "n", "m", "r"} {
		for _, part := range strings.SplitAfter(text, "} ") {
			if body, ok := strings.CutPrefix(strings.TrimSpace(part), name+": {"); ok {
				comma := ", "
				if body == "}" {
					comma = ""
				}
				yaml += "  - {address: " + name + "@kelp.example" + comma + body + "\n"
			}
		}
	}
	return yaml
}

func TestChecks(t *testing.T) {
	for _, check := range hazard.All() {
		c, ok := cases[check.Name]
		if !ok || len(c.fires) == 0 || len(c.neverReaches) == 0 {
			t.Errorf("%s has no cases", check.Name)
		}
		for _, text := range c.fires {
			findings := run(t, text, check)
			if len(findings) == 0 {
				t.Errorf("%s does not fire on %s", check.Name, text)
			}
			for _, f := range findings {
				says, fix := f.Text()
				if says == "" || fix == "" || f.Place == (estate.Place{}) && check.Name != "members-on-show" || strings.Contains(" "+says, "  ") {
					t.Errorf("%s on %s finds %+v: %s %s", check.Name, text, f, says, fix)
				}
			}
		}
		for _, text := range c.neverReaches {
			if findings := run(t, text, check); len(findings) > 0 {
				t.Errorf("%s fires on %s: %s", check.Name, text, saysOf(findings[0]))
			}
		}
	}
}

func saysOf(f hazard.Finding) string {
	says, _ := f.Text()
	return says
}

func run(t *testing.T, text string, check *hazard.Check) []hazard.Finding {
	t.Helper()
	return hazard.Run(sample.Load(t, groups(text)), []*hazard.Check{check})
}

func TestRegistry(t *testing.T) {
	seen := map[string]bool{}
	for _, check := range hazard.All() {
		if check.Name == "" || check.Trap == "" || check.Doc == "" || check.Cure == "" || seen[check.Name] {
			t.Errorf("%q is not complete, or there twice", check.Name)
		}
		seen[check.Name] = true
		if len(check.Trap) > 90 || strings.HasSuffix(check.Trap, ".") {
			t.Errorf("the trap of %s is no short line: %s", check.Name, check.Trap)
		}
	}
	if len(cases) != len(hazard.All()) {
		t.Errorf("%d cases for %d checks", len(cases), len(hazard.All()))
	}
}

// Every check that is written is listed.
func TestEveryCheckIsListed(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	written := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		written += len(regexp.MustCompile(`(?m)^var \w+ = Check\{$`).FindAll(text, -1))
	}
	if written != len(hazard.All()) {
		t.Errorf("%d checks are written, and %d listed in all", written, len(hazard.All()))
	}
}

// docs/hazards.md has the documentation of each check, by severity, as it is here.
func TestDocs(t *testing.T) {
	const path = "../../../docs/hazards.md"
	docs, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	head, _, ok := strings.Cut(string(docs), "## High\n")
	if !ok {
		t.Fatal("there is no heading for the checks")
	}
	text := head
	for severity, title := range []string{"High", "Medium", "Low"} {
		text += "## " + title + "\n\n"
		for _, check := range hazard.All() {
			if int(check.Severity) == severity {
				text += document(check)
			}
		}
	}
	text = strings.TrimRight(text, "\n") + "\n"
	if golden.Updating() {
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if text != string(docs) {
		t.Errorf("%s is not what the checks say of themselves; write it with -update", path)
	}
}

// document writes what a check says of itself in Markdown.
func document(check *hazard.Check) string {
	text := "### `" + check.Name + "`\n\n**" + strings.ToUpper(check.Trap[:1]) + check.Trap[1:] + ".** "
	for i, part := range strings.Split(check.Doc, "\n\n") {
		if strings.HasPrefix(part, " ") {
			text += "```yaml\n" + strings.ReplaceAll(strings.TrimPrefix(part, "    "), "\n    ", "\n") + "\n```\n\n"
			continue
		}
		if i > 0 {
			text += "\n"
		}
		text += strings.Join(strings.Fields(part), " ") + "\n\n"
	}
	return text + "**What to do.** " + check.Cure + "\n\n"
}

// The demo has every hazard, and the first estate of the README none.
func TestDemoAndReadme(t *testing.T) {
	r := sample.Demo(t, demo.Estate)
	found := map[string]bool{}
	for _, f := range hazard.Run(r, hazard.All()) {
		found[f.Check.Name] = true
		confirm(t, r, f)
	}
	for _, check := range hazard.All() {
		if !found[check.Name] {
			t.Errorf("the demo has no %s", check.Name)
		}
	}
	readme, err := os.ReadFile("../../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, yaml, _ := strings.Cut(string(readme), "```yaml\n")
	yaml, _, _ = strings.Cut(yaml, "```\n")
	for _, f := range hazard.Run(sample.Load(t, yaml), hazard.All()) {
		t.Errorf("the README's estate has %s: %s", f.Check.Name, saysOf(f))
	}
}

// confirm checks that the witness of a finding shows what it says.
func confirm(t *testing.T, r *resolve.Resolver, f hazard.Finding) {
	t.Helper()
	if f.Witness() == nil {
		codes := r.Estate().Settings().CodeSender.IsValid()
		if slices.Contains([]string{"forgeable", "nested-stops", "nested-waits", "outside-reader"}, f.Check.Name) || f.Check.Name == "code-shut-out" && codes {
			t.Errorf("%s has no witness: %s", f.Check.Name, saysOf(f))
		}
		return
	}
	e := r.Estate()
	s := r.Sender(f.Witness().From)
	verdict := r.Gate(f.Group).Post(s, f.Witness().Message).Verdict
	if (verdict == estate.Admit) == (f.Check.Name == "code-shut-out") {
		t.Errorf("%s: the witness %s gets %v: %s", f.Check.Name, f.Witness().From, verdict, saysOf(f))
	}
	d := r.Deliver(resolve.Query{Group: f.Group, Sender: &s, Message: f.Witness().Message})
	switch f.Check.Name {
	case "nested-stops", "nested-waits":
		state := map[string]resolve.PathState{"nested-stops": resolve.PathStopped, "nested-waits": resolve.PathWaiting}[f.Check.Name]
		if !slices.ContainsFunc(d.Paths, func(w resolve.Path) bool { return e.Address(w.Group).String() == f.Address && w.State >= state }) {
			t.Errorf("%s: the way to %s is not %s for %s", f.Check.Name, f.Address, state, f.Witness().From)
		}
	case "outside-reader":
		if !slices.ContainsFunc(d.Recipients(), func(x resolve.Recipient) bool {
			return e.Address(x.ID).String() == f.Address && (x.Outcome <= resolve.Digest || x.Outcome == resolve.Archive)
		}) {
			t.Errorf("outside-reader: %s does not get what %s writes to %s", f.Address, f.Witness().From, e.Address(f.Group))
		}
	}
}

func TestAcceptance(t *testing.T) {
	r := sample.Load(t, people+`  - address: g@kelp.example
    owners: [ada@kelp.example]
    members: [{address: ada@kelp.example, copy: none}, {address: bo@kelp.example, copy: none}]
    accept:
      - {hazard: gets-nothing, address: ADA@kelp.example, because: "Reads over Bo's shoulder."}
      - {hazard: forgeable, because: "In vain."}
`)
	accepted := 0
	findings := hazard.Run(r, hazard.All())
	for _, f := range findings {
		if f.Check.Name == "gets-nothing" && f.Accepted != (f.Address == "ada@kelp.example") {
			t.Errorf("%s is accepted: %t", saysOf(f), f.Accepted)
		}
		if f.Accepted {
			accepted++
		}
	}
	if stale := hazard.Stale(r, hazard.All(), findings, []estate.ID{0}); accepted != 1 || len(stale) != 1 || stale[0].Hazard != "forgeable" {
		t.Errorf("%d accepted, in vain: %+v", accepted, stale)
	}
	for _, check := range hazard.All() {
		stale := hazard.Stale(r, []*hazard.Check{check}, findings, []estate.ID{0})
		if want := check.Name == "forgeable"; len(stale) > 0 != want {
			t.Errorf("of %s alone, in vain: %+v", check.Name, stale)
		}
	}
}
