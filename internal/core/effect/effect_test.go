package effect_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// effects writes a report as lines "what group who old new", without notices.
func effects(older, newer *resolve.Resolver, report *effect.Report) []string {
	a, b := older.Estate(), newer.Estate()
	var lines []string
	name := func(who effect.Somebody) string {
		if who.Stranger != "" {
			return who.Stranger
		}
		return who.Address.String()
	}
	add := func(parts ...any) { lines = append(lines, strings.TrimSpace(fmt.Sprintln(parts...))) }
	party := func(what string, p effect.Parties) {
		for _, id := range p.Added {
			add(what, b.Address(id), "-", "there")
		}
		for _, id := range p.Removed {
			add(what, a.Address(id), "there", "-")
		}
		for _, pair := range p.Renamed {
			add(what, "-", a.Address(pair.Old), b.Address(pair.New))
		}
	}
	party("group", report.Groups)
	party("person", report.People)
	for _, c := range report.Changes {
		group := b.Address(c.Group.New)
		for _, v := range c.Posts {
			for _, who := range v.People {
				what := "posts"
				if v.Message != (resolve.Message{}) {
					what = fmt.Sprintf("posts%+v", v.Message)
				}
				add(strings.ReplaceAll(what, " ", ","), group, name(who), fmt.Sprintf("%s/%t/%q", v.Old.Verdict, v.Old.Told, strings.ReplaceAll(v.Old.Text, " ", "_")), fmt.Sprintf("%s/%t/%q", v.New.Verdict, v.New.Told, strings.ReplaceAll(v.New.Text, " ", "_")))
			}
		}
		for _, o := range c.Receives {
			before, later := "-", "-"
			if o.Before {
				before = o.Old.String()
			}
			if o.Later {
				later = o.New.String()
			}
			what := "receives"
			if o.Message.Invitation {
				what = "invites"
			}
			if o.Senders > 0 {
				what = "from"
			}
			for _, who := range o.People {
				add(what, group, name(who), before, later)
			}
		}
		for _, v := range c.SendsAs {
			for _, who := range v.People {
				add("speaks", group, name(who), "send-as:"+v.Old.SendAs.String()+"/"+v.Old.Proof.String(), "send-as:"+v.New.SendAs.String()+"/"+v.New.Proof.String())
			}
		}
		for _, m := range c.May {
			for _, who := range m.People {
				words := []string{"may", "-"}
				if m.Now {
					words = []string{"-", "may"}
				}
				add(m.What, group, name(who), words[0], words[1])
			}
		}
	}
	finding := func(f hazard.Finding, e *estate.Estate, old, new string) {
		group := "edge"
		if f.Group != estate.None {
			group = e.Address(f.Group).String()
		}
		add("hazard", f.Check.Name+"/"+f.Severity.String()+"/"+group, "/"+f.Address, old, new)
	}
	for _, f := range report.Appearing {
		finding(f, b, "-", "there")
	}
	for _, f := range report.Going {
		finding(f, a, "there", "-")
	}
	slices.Sort(lines)
	return lines
}

// mirror swaps old and new, the last two words of each line.
func mirror(lines []string) []string {
	var swapped []string
	for _, line := range lines {
		words := strings.Fields(line)
		n := len(words)
		words[n-1], words[n-2] = words[n-2], words[n-1]
		swapped = append(swapped, strings.Join(words, " "))
	}
	slices.Sort(swapped)
	return swapped
}

// Nothing changes from an estate to itself, and from one to another everything
// is the mirror image of the way back.
func TestRandomEstates(t *testing.T) {
	for seed := range campaign.Rounds(60, 300) {
		yaml := sample.Estate(rand.New(rand.NewPCG(uint64(seed), 21)))
		other := sample.Estate(rand.New(rand.NewPCG(uint64(seed), 22)))
		x, again, y := sample.Load(t, yaml), sample.Load(t, yaml), sample.Load(t, other)
		if report := effect.Compare(x, again); !report.IsEmpty() {
			t.Fatalf("estate %d differs from itself: %v", seed, effects(x, again, report))
		}
		there := effects(x, y, effect.Compare(x, y))
		back := effects(y, x, effect.Compare(y, x))
		if got := mirror(back); !slices.Equal(got, there) {
			for i := range there {
				if i >= len(got) || got[i] != there[i] {
					t.Fatalf("estate %d: there %q, back %v\n%s\n%s", seed, there[i], got[min(i, len(got)):min(i+1, len(got))], yaml, other)
				}
			}
			t.Fatalf("estate %d: %d effects there, %d back", seed, len(there), len(got))
		}
		checkAgainstEach(t, x, y, there)
	}
}

// checkAgainstEach compares the effects on posting with what the gates say to each
// person, one by one.
func checkAgainstEach(t *testing.T, x, y *resolve.Resolver, lines []string) {
	t.Helper()
	a, b := x.Estate(), y.Estate()
	for id := range estate.ID(b.Groups()) {
		old, ok := a.Find(b.Address(id))
		if !ok {
			continue
		}
		for i := range b.People() {
			person := b.PersonID(i)
			before, ok := a.Find(b.Address(person))
			if !ok || a.IsGroup(before) || a.Address(before).Key() != b.Address(person).Key() {
				continue
			}
			v := x.Gate(old).Post(x.Sender(a.Address(before)), resolve.Message{}).Verdict
			w := y.Gate(id).Post(y.Sender(b.Address(person)), resolve.Message{}).Verdict
			found := slices.ContainsFunc(lines, func(line string) bool {
				return strings.HasPrefix(line, fmt.Sprintf("posts %s %s %s/", b.Address(id), b.Address(person), v)) && strings.Contains(line, fmt.Sprintf(" %s/", w))
			})
			if v != w && !found || v == w && found && !strings.Contains(strings.Join(lines, "\n"), "/true/") {
				t.Fatalf("%s to %s, %s and %s: listed is %t", b.Address(person), b.Address(id), v, w, found)
			}
		}
	}
}

const before = `yorvet: 1
domains: [kelp.example]
people: [{address: ada@kelp.example}, {address: bo@kelp.example}, {address: leaves@kelp.example}]
groups:
  - {address: desk@kelp.example, owners: [ada@kelp.example], members: [ada@kelp.example, leaves@kelp.example], send-as: [as ada@kelp.example]}
  - {address: quiet@kelp.example, owners: [ada@kelp.example], welcome: false, members: [ada@kelp.example]}
  - {address: goes@kelp.example, owners: [ada@kelp.example], members: [ada@kelp.example]}
`

const later = `yorvet: 1
domains: [kelp.example]
people: [{address: comes@kelp.example}, {address: ada.new@kelp.example, also: [ada@kelp.example]}, {address: bo@kelp.example}]
groups:
  - {address: counter@kelp.example, also: [desk@kelp.example], owners: [ada@kelp.example], members: [ada@kelp.example, {address: bo@kelp.example, copy: digest}, comes@kelp.example], send-as: [for bo@kelp.example], gate: [admit anyone]}
  - {address: quiet@kelp.example, owners: [ada@kelp.example], welcome: false, members: [ada@kelp.example, bo@kelp.example]}
  - {address: fresh@kelp.example, owners: [ada@kelp.example], members: [everyone: true]}
`

func TestCompare(t *testing.T) {
	x, y := sample.Load(t, before), sample.Load(t, later)
	report := effect.Compare(x, y)
	var got []string
	for _, line := range effects(x, y, report) {
		if !strings.HasPrefix(line, "hazard") {
			got = append(got, line)
		}
	}
	want := []string{
		`find counter@kelp.example comes@kelp.example - may`,
		`find counter@kelp.example leaves@kelp.example may -`,
		`find quiet@kelp.example comes@kelp.example - may`,
		`find quiet@kelp.example leaves@kelp.example may -`,
		`group - desk@kelp.example counter@kelp.example`,
		`group fresh@kelp.example - there`,
		`group goes@kelp.example there -`,
		`invites counter@kelp.example bo@kelp.example - nothing`,
		`person - ada@kelp.example ada.new@kelp.example`,
		`person comes@kelp.example - there`,
		`person leaves@kelp.example there -`,
		`posts counter@kelp.example outside refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example ada.new@kelp.example refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example ada@kelp.example refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example bo@kelp.example refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example counter@kelp.example refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example desk@kelp.example refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example forged refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example outside refuse/true/"" admit/false/""`,
		`posts{Unproven:true,Suspect:false,Automatic:false,Invitation:false,Size:0} counter@kelp.example quiet@kelp.example refuse/true/"" admit/false/""`,
		`receives counter@kelp.example bo@kelp.example - digest`,
		`receives counter@kelp.example comes@kelp.example - inbox`,
		`receives counter@kelp.example leaves@kelp.example inbox -`,
		`receives quiet@kelp.example bo@kelp.example - inbox`,
		`see-members counter@kelp.example bo@kelp.example - may`,
		`see-members counter@kelp.example comes@kelp.example - may`,
		`see-members counter@kelp.example leaves@kelp.example may -`,
		`see-members quiet@kelp.example bo@kelp.example - may`,
		`speaks counter@kelp.example ada.new@kelp.example send-as:as/not-needed send-as:/not-needed`,
		`speaks counter@kelp.example bo@kelp.example send-as:/not-needed send-as:for/not-needed`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("the effects are\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	// bo and comes are new in counter, all three in fresh; quiet does not welcome.
	if report.Count() != 5 || len(report.Notices) != 2 {
		t.Errorf("the notices are %+v", report.Notices)
	}
	appears := slices.ContainsFunc(report.Appearing, func(f hazard.Finding) bool { return f.Check.Name == "answers-show-person" })
	if !appears {
		t.Errorf("answers-show-person does not appear: %+v", report.Appearing)
	}
}

// Passing over the groups that are written as before changes no answer.
func TestPassingOver(t *testing.T) {
	passed := 0
	for seed := range 300 {
		random := rand.New(rand.NewPCG(uint64(seed), 31))
		yaml := sample.Estate(random)
		lines := strings.SplitAfter(yaml, "\n")
		i := random.IntN(len(lines) - 1)
		isItem := func(line string) bool { return strings.HasPrefix(line, "      - ") }
		switch line := lines[i]; {
		case strings.Contains(line, "copy: every"):
			lines[i] = strings.Replace(line, "copy: every", "copy: none", 1)
		case strings.Contains(line, "      - admit"):
			lines[i] = strings.Replace(line, "admit", "hold", 1)
		case strings.Contains(line, "kind: list"):
			lines[i] = strings.Replace(line, "list", "forum", 1)
		case isItem(line) && isItem(lines[i+1]):
			lines[i] = "" // a member or rule less
		default:
			continue
		}
		changed := strings.Join(lines, "")
		x, y := sample.Load(t, yaml), sample.Load(t, changed)
		got, want := effects(x, y, effect.Compare(x, y)), effects(x, y, effect.CompareAll(x, y))
		if !slices.Equal(got, want) {
			t.Fatalf("estate %d:\n got %s\nwant %s\n%s", seed, strings.Join(got, "\n     "), strings.Join(want, "\n     "), changed)
		}
		if len(want) > 0 {
			passed++
		}
	}
	if passed < 40 {
		t.Errorf("only %d changes had an effect", passed)
	}
}

// What refers to a group that is written otherwise is compared, and nothing else is.
func TestPassedOver(t *testing.T) {
	const chain = `yorvet: 1
domains: [kelp.example]
people: [{address: ada@kelp.example}]
groups:
  - {address: top@kelp.example, title: Top, members: [mid@kelp.example, ros@kelp.example]}
  - {address: mid@kelp.example, title: Mid, members: [low@kelp.example]}
  - {address: low@kelp.example, title: Low, members: [{address: ada@kelp.example, since: 2026-01-02}]}
  - {address: ros@kelp.example, title: Ros, kind: roster, members: [ada@kelp.example]}
  - {address: own@kelp.example, title: Own, owners: [low@kelp.example]}
  - {address: rul@kelp.example, title: Rul, gate: [admit in low@kelp.example]}
  - {address: ali@kelp.example, title: Ali, gate: [admit top@kelp.example]}
  - {address: sen@kelp.example, title: Sen, send-as: [as in mid@kelp.example]}
  - {address: non@kelp.example, title: Non, members: [{where: (post=deck), invitations: none}]}
`
	all := []string{"top", "mid", "low", "ros", "own", "rul", "ali", "sen", "non"}
	for _, c := range []struct {
		change []string
		differ string // the names of the groups that are looked at
	}{
		{[]string{"", ""}, ""},
		{[]string{"title: Low", "title: Lower"}, "top mid low own rul ali sen"},
		{[]string{"2026-01-02", "2026-01-03"}, "top mid low own rul ali sen"},
		{[]string{"title: Mid", "title: Middle"}, "top mid ali sen"},
		{[]string{"title: Ros", "title: Rose"}, "top ros ali"},
		{[]string{"title: Top", "title: Topmost"}, "top ali"},
		{[]string{"title: Non", "title: None"}, "non"},
		{[]string{"post=deck", "post=dock"}, "non"},
		{[]string{"invitations: none", "invitations: every"}, "non"},
		{[]string{"title: Sen", "title: Sent"}, "sen"},
		{[]string{"title: Own", "title: Owner"}, "own"},
	} {
		x, y := sample.Load(t, chain), sample.Load(t, strings.NewReplacer(c.change...).Replace(chain))
		same := effect.Unchanged(x, y)
		var differ []string
		for i, name := range all {
			if !same[i] {
				differ = append(differ, name)
			}
		}
		if got := strings.Join(differ, " "); got != c.differ {
			t.Errorf("%q: %s are looked at, want %s", c.change, got, c.differ)
		}
	}
	for _, change := range [][]string{
		{"{address: ada@kelp.example}]", "{address: ada@kelp.example, name: Ada}]"},
		{"{address: ada@kelp.example}]", "{address: ada@kelp.example, mailbox: full}]"},
		{"{address: ada@kelp.example}]", "{address: ada@kelp.example}, {address: bo@kelp.example}]"},
		{"title: Low", "also: [lower@kelp.example]"},
		{"title: Low", "also: [lower@kelp.example], title: Low"},
		{"groups:", "nested-gates: open\ngroups:"},
		{"[kelp.example]", "[kelp.example, sea.example]"},
		{"[kelp.example]", "[kelp.example]\ncode-sender: codes@post.example"},
		{"[kelp.example]", "[kelp.example]\nsubaddress: \"+\""},
		{"[kelp.example]", "[kelp.example, {domain: old.example, same-as: kelp.example}]"},
	} {
		if same := effect.Unchanged(sample.Load(t, chain), sample.Load(t, strings.NewReplacer(change...).Replace(chain))); same != nil {
			t.Errorf("%q: %v are passed over", change, same)
		}
	}
}
