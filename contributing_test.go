package yorvet

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
)

// A recipe is a list of CONTRIBUTING, followed with something made up.
type recipe struct {
	heading string // of CONTRIBUTING
	steps   []step
	tests   string // those that see whether a step was forgotten
	in      []string
}

// A step writes a text in place of what stands in a file, or a file that is not there.
type step struct{ file, old, new string }

func before(file, line, text string) step { return step{file, line, text + line} }

const (
	core    = "internal/core/"
	settled = core + "estate/membership.go"
	handed  = "internal/directory/handout/steps.go"
	listed  = "internal/present/memberlist.go"
	mapped  = "internal/directory/map.go"
)

var recipes = []recipe{
	{"To add a setting of a group", []step{
		before(core+"estate/estate.go", "	PauseAfter ", "	Motto string // a made-up setting\n"),
		before(core+"estate/settings.go", "	textSetting(\"footer\"", "	textSetting(\"motto\", Nobody, func(g *Group) *string { return &g.Motto }),\n"),
		before(core+"estate/coder.go", "	c.text(&g.Footer)", "	c.text(&g.Motto)\n"),
		before("docs/estate.md", "## ", "`motto` is made up.\n\n"),
		before(core+"effect/settings_test.go", "	\"attributes\": {\"{a: 1}\"", "	\"motto\": {\"A\", \"B\"},\n"),
	}, "^(TestEveryFieldIsASetting|TestEveryFieldIsCompiled|TestSettingsAreDocumented|TestNoSettingIsForgotten)$",
		[]string{core + "estate", core + "effect"}},
	{"To add a setting of a membership", []step{
		before(settled, "	Since       Day", "	Quiet       bool\n"),
		before(core+"estate/estate.go", "	if m.Paused {", "	if m.Quiet {\n		packed |= 1 << 31\n	}\n"),
		{core + "estate/estate.go", "Membership{e.Copy(), e.Invitations(), e.Paused(), e.Since()}",
			"Membership{Copy: e.Copy(), Invitations: e.Invitations(), Paused: e.Paused(), Since: e.Since() &^ (1 << 25), Quiet: e.packed>>31 == 1}"},
		before(settled, "	forRules(wordPart(\"copy\"", `	{
		Name: "quiet", Form: FormFlag,
		text: func(m *Membership) string {
			if m.Quiet {
				return "true"
			}
			return ""
		},
		set: func(m *Membership, text string) (err error) {
			m.Quiet, err = ParseFlag(text, m.Quiet)
			return err
		},
		none: func(m *Membership) { m.Quiet = false },
	},
`),
		before("docs/estate.md", "## ", "A membership that is `quiet` is made up.\n\n"),
		before(listed, "	Paused      bool   `json:\"paused\"`", "	Quiet bool `json:\"quiet\"`\n"),
		{listed, "SaidOfMembership{m.Copy.String(), m.Since.String(), m.Invitations.String(), m.Paused}",
			"SaidOfMembership{Copy: m.Copy.String(), Since: m.Since.String(), Invitations: m.Invitations.String(), Paused: m.Paused, Quiet: m.Quiet}"},
		before(handed, "	Paused      bool   `json:\"paused,omitempty\"`", "	Quiet bool `json:\"quiet,omitempty\"`\n"),
		before(handed, "	s.Copy, s.Since, s.Invitations, s.Paused = ", "	s.Quiet = m.Quiet\n"),
		before(mapped, "	Since       *Value `yaml:\"since\"`", "	Quiet *Value `yaml:\"quiet\"`\n"),
		before(mapped, "\"since\": r.Since,", "\"quiet\": r.Quiet, "),
		before(handed, "	\"invitations\", \"paused\"}", "	\"quiet\",\n"),
		before(handed, "		s.Invitations,\n		flag(s.Paused)}", "		flag(s.Quiet),\n"),
	}, "^(TestEveryFieldIsCompiled|TestEveryFieldIsAMembershipSetting|TestSettingsAreDocumented|TestMembershipSettings.*)$",
		[]string{core + "estate", "internal/present", "internal/directory", "internal/directory/handout"}},
	{"To add a change", []step{
		{core + "change/hush.go", "", `package change

import "yorvet.example/yorvet/internal/core/estate"

// A Hush is a group with a footer.
type Hush struct{ Group estate.ID }

func (c Hush) apply(w *work) error {
	return SetSetting{Group: c.Group, Setting: "footer", Texts: []string{"Hush."}}.apply(w)
}
func (c Hush) key(k *key)                   { k.add("hush", c.Group) }
func (c Hush) About(*estate.Estate) Subject { return ofGroup(c.Group, "footer") }
`},
		before(core+"change/changetest/changetest.go", "		{change.SetPerson{Person: ann, Field: \"name\"", "		{change.Hush{Group: desk}, []string{\"    gate: [ref\", \"    footer: Hush.\\n    gate: [ref\"}},\n"),
		before("internal/present/asif.go", "	case change.SetList:", "	case change.Hush:\n		a.Says = a.Group + \" says hush\"\n"),
	}, "^(TestApply|TestEachTypeIsTried|TestKey|TestWriteEachChange|TestEachChangeIsTold)$",
		[]string{core + "change", "internal/estatefile", "internal/present"}},
	{"To add a hazard", []step{
		{core + "hazard/made_up.go", "", `package hazard

import "yorvet.example/yorvet/internal/core/estate"

var madeUp = Check{
	Name: "made-up", Severity: High, Trap: "the footer speaks of the tide", Doc: "Footers say nothing of it.", Cure: "Write another one.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.Footer == "Tide" {
			p.report(Finding{Group: id, Place: where(g, "footer"), text: func() (says, fix string) { return "It is low.", "Wait." }})
		}
	},
}
`},
		before(core+"hazard/hazard.go", "	&nobodyApproves,", "	&madeUp,\n"),
		before(core+"hazard/hazard_test.go", "	\"nobody-approves\": {", "	\"made-up\": {[]string{\"g: {footer: Tide}\"}, []string{\"g: {footer: Ebb}\"}},\n"),
		before("internal/demo/files/estate/groups.yaml", "  - address: radio-watch@kelpmere.example", "  - {address: tide@kelpmere.example, footer: Tide}\n"),
		before("docs/hazards.md", "### `nobody-approves`", "### `made-up`\n\n**The footer speaks of the tide.** Footers say nothing of it.\n\n**What to do.** Write another one.\n\n"),
	}, "^(TestChecks|TestRegistry|TestDocs|TestDemoAndReadme|TestEveryCheckIsListed)$", []string{core + "hazard"}},
	{"To add a column to the matrix", []step{
		before("internal/present/matrix.go", "		column{name: \"invited\",", "		column{name: \"made-up\", number: func(r *MatrixRow) int { return 1 }},\n"),
		before("internal/present/matrix.go", "		{\"invited\", 3,", "		{\"made-up\", 3, number(1, Plain)},\n"),
	}, "^TestColumnsOfTheMatrix$", []string{"internal/present"}},
	{"To add a protocol", []step{
		{"internal/mail/parley/parley.go", "", "// Package parley is made up.\npackage parley\n\nimport (\n	\"context\"\n\n	\"yorvet.example/yorvet/internal/endpoint\"\n)\n\n" +
			"// Meet reaches a server.\nfunc Meet(ctx context.Context, e endpoint.Endpoint) error {\n	_, err := e.Dial(ctx)\n	return err\n}\n"},
		{"internal/mail/parley/parley_test.go", "", "package parley\n\nimport (\n	\"testing\"\n\n	_ \"yorvet.example/yorvet/internal/rude\"\n)\n\nfunc FuzzTalk(f *testing.F) {}\n"},
		before("layers_test.go", "	\"internal/connections internal/directory/aliases", "	\"internal/mail/parley\",\n"),
	}, "^(TestLayers|TestProtocolsMeetRudeServers)$", []string{"."}},
}

// Whoever follows a list of CONTRIBUTING is done with it, and whoever forgets a step is told by a test.
func TestRecipes(t *testing.T) {
	if !campaign.On() {
		t.Skip("a campaign, which takes minutes: .ci/run has it; here with YORVET_CAMPAIGN=1")
	}
	t.Chdir(copyOfClone(t))
	text, err := os.ReadFile("CONTRIBUTING.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range recipes {
		if !strings.Contains(string(text), "## "+r.heading+"\n") {
			t.Errorf("CONTRIBUTING does not say: %s", r.heading)
		}
		if output, err := r.try(t, -1); err != nil {
			t.Errorf("%s: all steps are not enough: %v\n%s", r.heading, err, output)
			continue
		}
		for left, s := range r.steps {
			if left == 0 && s.old == "" {
				continue // that is the thing itself
			}
			if _, err := r.try(t, left); err == nil {
				t.Errorf("%s: nothing tells who forgets the step in %s:\n%s", r.heading, s.file, s.new)
			}
		}
	}
}

// try takes all steps but one, runs the tests, and takes the steps back.
func (r *recipe) try(t *testing.T, left int) ([]byte, error) {
	t.Helper()
	for i, s := range r.steps {
		if i == left {
			continue
		}
		if s.old == "" {
			if err := os.MkdirAll(filepath.Dir(s.file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(s.file, []byte(s.new), 0o600); err != nil {
				t.Fatal(err)
			}
			defer os.RemoveAll(s.file)
			continue
		}
		was, err := os.ReadFile(s.file)
		if err != nil {
			t.Fatal(err)
		}
		head, tail, ok := strings.Cut(string(was), s.old)
		if !ok {
			t.Fatalf("%s has no %q", s.file, s.old)
		}
		if err := os.WriteFile(s.file, []byte(head+s.new+tail), 0o600); err != nil {
			t.Fatal(err)
		}
		defer os.WriteFile(s.file, was, 0o600) //nolint:errcheck // the folder goes
	}
	args := []string{"test", "-vet=off", "-run", r.tests}
	for _, in := range r.in {
		args = append(args, "./"+in)
	}
	return exec.CommandContext(context.Background(), "go", args...).CombinedOutput()
}

// copyOfClone returns a folder with the files of the repository, which is one, too.
func copyOfClone(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "copy")
	out, err := exec.Command("git", "ls-files").Output()
	if err != nil {
		t.Skip("this is no clone of the repository: ", err)
	}
	for _, name := range strings.Fields(string(out)) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}
