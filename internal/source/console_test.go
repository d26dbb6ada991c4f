package source_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/source"
)

var consoleGroups = flag.Int("console-groups", 120, "how many groups an export of a console has")

// wideHeader are the columns of a wide export: one row a group.
var wideHeader = []string{"Group Email", "Display Name", "Description", "Aliases", "Type", "Status", "Who May Post", "Listed Posters",
	"Blocked Senders", "Moderation", "Send As", "External", "Cost Centre", "Valid Until", "Footer", "Reply To", "Archive", "Welcome",
	"Owners", "Managers", "Members", "Max Size (MB)"}

// consoleOf are the rows of a wide export, with lists separated in several ways.
func consoleOf(random *rand.Rand, groups int) [][]string {
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	person := func() string { return fmt.Sprintf("p%d@kelp.example", random.IntN(40)) }
	some := func(separator string, of ...func() string) string {
		var list []string
		for range random.IntN(4) {
			list = append(list, of[random.IntN(len(of))]())
		}
		return strings.Join(list, separator)
	}
	group := func() string { return fmt.Sprintf("g%d@kelp.example", random.IntN(groups)) }
	domain := func() string { return pick("@partner.example", "junk.example") }
	outside := func() string { return pick("spam@bad.example", "pia@partner.example") }
	rows := [][]string{wideHeader}
	for n := range groups {
		who, listed := pick("EVERYBODY", "LISTED", "STAFF", "MEMBERS"), some(", ", person, group, domain, outside)
		if listed == "" && who == "LISTED" {
			who = "STAFF"
		}
		rows = append(rows, []string{fmt.Sprintf("g%d@kelp.example", n), fmt.Sprintf("Group %d", n), pick("", "About, with a comma"),
			pick("", fmt.Sprintf("also%d@kelp.example", n)), pick("Discussion", "Distribution"), pick("active", "active", "active", "deleted"), who, listed,
			some("; ", domain, outside, person), pick("NONE", "NONE", "ALL", "OUTSIDE"), some(" ", person), pick("TRUE", "FALSE"),
			pick("", "CC 7", "Cost, eight"), pick("", "2027-01-31"), pick("", "Kelp Ferries"), pick("author", "group"), pick("yes", "no"), pick("on", "off"),
			some("; ", person), some("; ", person), some("; ", person, group, outside), pick("", "10")})
	}
	return rows
}

const wideMap = `yorvet-map: 1
groups:
  - match: '(&(Group Email=*)(!(Status=deleted)))'
    address: Group Email
    title: Display Name
    about: Description
    also: Aliases
    gate:
      - {when: '(Blocked Senders=*)', say: 'refuse {Blocked Senders}'}
      - {when: '(Moderation=ALL)', say: hold anyone}
      - {when: '(Moderation=OUTSIDE)', say: hold outside}
      - {from: Who May Post, as: {EVERYBODY: admit anyone, LISTED: 'admit {Listed Posters}', STAFF: admit inside, MEMBERS: admit members}}
    send-as: [{when: '(Send As=*)', say: 'as {Send As}'}]
    set:
      kind: {from: Type, as: {Discussion: forum, Distribution: list}}
      outside-members: {from: External, as: {"FALSE": refused, "TRUE": allowed}}
      footer: {from: Footer}
      replies-to: {from: Reply To, as: {author: author, group: group}}
      welcome: {from: Welcome, as: {"on": true, "off": false}}
    attributes: {department: Cost Centre, expires: Valid Until}
    owners: [{from: Owners, by: address}]
    moderators: [{from: Managers, by: address}]
    members: [{from: Members, by: address}]
`

const longMap = `yorvet-map: 1
groups:
  - match: '(!(Status=deleted))'
    rows-by: Group Email
    address: Group Email
    title: Display Name
    gate:
      - {when: '(Blocked Senders=*)', say: 'refuse {Blocked Senders}'}
      - {when: '(Moderation=ALL)', say: hold anyone}
      - {when: '(Moderation=OUTSIDE)', say: hold outside}
      - {from: Who May Post, as: {EVERYBODY: admit anyone, LISTED: 'admit {Listed Posters}', STAFF: admit inside, MEMBERS: admit members}}
    members:
      - address: Member
        role: {from: Role, as: {OWNER: owner, MANAGER: moderator, MEMBER: member, "": member}}
        copy: {from: Delivery, as: {EACH: every, DAILY: digest, NONE: none}}
        since: {from: Joined, format: DD.MM.YYYY}
        paused: {from: State, as: {SUSPENDED: true}, otherwise: false}
`

const nestedMap = `yorvet-map: 1
groups:
  - records: shore.lists
    match: '(!(standing=struck))'
    address: mail
    title: label
    gate:
      - {when: '(writing.kept_out=*)', say: 'refuse {writing.kept_out}'}
      - {when: '(writing.looked_at=always)', say: hold anyone}
      - {when: '(writing.looked_at=strangers)', say: hold outside}
      - {from: writing.may_write, as: {all-comers: admit anyone, chosen: 'admit {writing.chosen}', staff: admit inside, crew: admit members}}
    members:
      - each: people
        address: mail
        role: {from: part, as: {keeper: owner, warden: moderator, reader: member}}
        copy: {from: wants, as: {each: every, weekly: digest, nothing: none}}
        since: {from: came}
        paused: {from: rests, as: {"yes": true}, otherwise: false}
`

// inJSON are the words of the nested export for those of the wide one.
var inJSON = map[string]string{"EVERYBODY": "all-comers", "LISTED": "chosen", "STAFF": "staff", "MEMBERS": "crew", "NONE": "never",
	"ALL": "always", "OUTSIDE": "strangers", "OWNER": "keeper", "MANAGER": "warden", "MEMBER": "reader", "SUSPENDED": "yes",
	"ACTIVE": "no", "deleted": "struck", "active": "kept"}

// wantsInJSON are those for what somebody gets.
var wantsInJSON = map[string]string{"EACH": "each", "DAILY": "weekly", "NONE": "nothing"}

// membershipOf is what the long and the nested export say of one who is in a group.
type membershipOf struct{ Email, Role, Delivery, Joined, State string }

// memberships are those of a group of a wide export, in every role.
func memberships(random *rand.Rand, row []string) (list []membershipOf) {
	for i, role := range map[int]string{18: "OWNER", 19: "MANAGER", 20: "MEMBER"} {
		for _, who := range strings.FieldsFunc(row[i], func(r rune) bool { return r == ';' || r == ' ' }) {
			m := membershipOf{who, role, []string{"EACH", "DAILY", "NONE"}[random.IntN(3)],
				fmt.Sprintf("2025-%02d-%02d", random.IntN(12)+1, random.IntN(28)+1), []string{"ACTIVE", "SUSPENDED"}[random.IntN(2)]}
			if strings.HasPrefix(who, "g") {
				m.Delivery, m.State, m.Joined = "EACH", "ACTIVE", ""
			}
			list = append(list, m)
		}
	}
	slices.SortStableFunc(list, func(a, b membershipOf) int { return strings.Compare(a.Email+a.Role, b.Email+b.Role) })
	return slices.CompactFunc(list, func(a, b membershipOf) bool { return a.Email == b.Email && a.Role == b.Role })
}

func asCSV(t *testing.T, rows [][]string, comma rune) string {
	t.Helper()
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = comma
	if err := w.WriteAll(rows); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// verdictBy judges as the console says, by nothing but its rows: a plain second reading.
func verdictBy(row []string, groups map[string]bool, members func(group, who string) bool, who string) string {
	in := func(cell string) bool {
		_, domain, _ := strings.Cut(who, "@")
		for _, one := range strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(";, ", r) }) {
			switch {
			case strings.TrimPrefix(one, "@") == domain, one == who:
				return true
			case groups[one] && members(one, who):
				return true
			}
		}
		return false
	}
	inside := strings.HasSuffix(who, "@kelp.example")
	switch {
	case in(row[8]):
		return "refuse"
	case row[9] == "ALL", row[9] == "OUTSIDE" && !inside:
		return "hold"
	case row[6] == "EVERYBODY", row[6] == "LISTED" && in(row[7]), row[6] == "STAFF" && inside,
		row[6] == "MEMBERS" && members(row[0], who):
		return "admit"
	}
	return "refuse"
}

// everybodyIn returns who is in a group by any nesting, from the rows alone. A nested group
// is one as well.
func everybodyIn(rows [][]string) func(group, who string) bool {
	direct := map[string][]string{}
	for _, row := range rows[1:] {
		if row[5] != "deleted" {
			direct[row[0]] = strings.FieldsFunc(row[20], func(r rune) bool { return r == ';' || r == ' ' })
		}
	}
	known := map[string]map[string]bool{}
	return func(group, who string) bool {
		if known[group] == nil {
			set, queue, seen := map[string]bool{}, []string{group}, map[string]bool{}
			for len(queue) > 0 {
				g := queue[0]
				queue = queue[1:]
				if seen[g] {
					continue
				}
				seen[g] = true
				for _, m := range direct[g] {
					set[m] = true
					if _, isGroup := direct[m]; isGroup {
						queue = append(queue, m)
					}
				}
			}
			known[group] = set
		}
		return known[group][who]
	}
}

// Exports of a console arrive whole, in three shapes and as a workbook, and everybody may
// post where the console says so.
func TestConsoles(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 1))
	rows := consoleOf(random, *consoleGroups)
	nested := map[string]any{}
	long := [][]string{{"Group Email", "Display Name", "Status", "Who May Post", "Listed Posters", "Blocked Senders", "Moderation", "Member", "Role",
		"Delivery", "Joined", "State"}}
	var objects []any
	said := map[string][]membershipOf{}
	split := func(cell string) []string {
		return strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(";, ", r) })
	}
	for _, row := range rows[1:] {
		list := memberships(random, row)
		said[row[0]] = list
		var members []any
		first := []string{row[0], row[1], row[5], row[6], row[7], row[8], row[9]}
		for _, m := range list {
			members = append(members, map[string]any{"mail": m.Email, "part": inJSON[m.Role], "wants": wantsInJSON[m.Delivery], "came": m.Joined, "rests": inJSON[m.State]})
			joined := m.Joined
			if joined != "" {
				joined = joined[8:] + "." + joined[5:7] + "." + joined[:4]
			}
			long = append(long, append(slices.Clone(first), m.Email, m.Role, m.Delivery, joined, m.State))
		}
		if list == nil {
			long = append(long, append(slices.Clone(first), "", "", "", "", ""))
		}
		objects = append(objects, map[string]any{"mail": row[0], "label": row[1], "standing": inJSON[row[5]], "people": members,
			"writing": map[string]any{"may_write": inJSON[row[6]], "chosen": split(row[7]), "kept_out": split(row[8]), "looked_at": inJSON[row[9]]}})
	}
	nested["shore"] = map[string]any{"lists": objects}
	text, err := json.Marshal(nested)
	if err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		file, text, mapText string
		wide                bool
	}{
		"wide":     {"x.csv", "Groups of Kelp\n\n" + asCSV(t, rows, ';'), wideMap, true},
		"long":     {"x.csv", asCSV(t, long, ','), longMap, false},
		"nested":   {"x.json", string(text), nestedMap, false},
		"workbook": {"x.xlsx", workbook(t, rows), wideMap, true},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := source.Read(t.Context(), write(t, test.file, test.text), source.Options{
				Map: write(t, "x.map", test.mapText), Domains: []string{"kelp.example"}})
			if err != nil {
				t.Fatal(err)
			}
			if lost := d.Coverage.Untaken(); test.wide && len(lost) != 2 {
				t.Errorf("not taken: %v, want Archive and Max Size (MB)", lost)
			}
			e, err := directory.Merge([]*directory.Directory{d}, directory.MergeOptions{Domains: []string{"kelp.example"}}).Build()
			if err != nil {
				t.Fatal(err)
			}
			checkVerdicts(t, e, rows)
			if test.wide {
				checkWide(t, e, rows)
			} else {
				checkMemberships(t, e, said)
			}
		})
	}
}

// A map that is drafted for an export imports as it is, takes all groups and people, and
// guesses right who may post in an export whose words speak for themselves.
func TestDraftMaps(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 2))
	rows := consoleOf(random, *consoleGroups)
	for i := range rows[1:] {
		rows[i+1][5] = "active"
	}
	var long [][]string
	var objects []any
	for i, row := range rows {
		if i == 0 {
			long = append(long, []string{"Group Email", "Display Name", "Who May Post", "Member", "Role", "Delivery", "Joined"})
			continue
		}
		var members []any
		for _, m := range append(memberships(random, row), membershipOf{"p1@kelp.example", "MEMBER", "EACH", "2025-03-04", ""}) {
			long = append(long, []string{row[0], row[1], row[6], m.Email, m.Role, m.Delivery, "2025-03-04"})
			members = append(members, map[string]any{"mail": m.Email, "role": strings.ToLower(m.Role)})
		}
		objects = append(objects, map[string]any{"mail": row[0], "name": row[1], "may_write": strings.ToLower(row[6]), "members": members})
	}
	nested, err := json.Marshal(map[string]any{"lists": objects, "more": nil})
	if err != nil {
		t.Fatal(err)
	}
	people := "First name;Last name;E-mail;Office;Start;Active\n"
	for n := range 60 {
		people += fmt.Sprintf("Zo\xeb;N\xfa\xf1ez %d;zoe%d@kelp.example;Quay %d;0%d.03.2025;yes\n", n, n, n%3, n%9+1)
	}
	for name, test := range map[string]struct {
		file, text     string
		groups, people int
	}{
		"wide":   {"x.csv", asCSV(t, rows, ';'), *consoleGroups, 0},
		"long":   {"x.csv", asCSV(t, long, '\t'), *consoleGroups, 0},
		"nested": {"x.json", string(nested), *consoleGroups, 0},
		"sheet":  {"x.xlsx", workbook(t, rows), *consoleGroups, 0},
		"people": {"x.csv", people, 0, 60},
	} {
		t.Run(name, func(t *testing.T) {
			path := write(t, test.file, test.text)
			text, err := source.DraftMap(t.Context(), path, "")
			if err != nil {
				t.Fatal(err)
			}
			d, err := source.Read(t.Context(), path, source.Options{Map: write(t, "x.map", text), Domains: []string{"kelp.example"}})
			if err != nil {
				t.Fatalf("%v\n%s", err, text)
			}
			if len(d.Groups) != test.groups || len(d.People) != test.people || len(d.Coverage.Absent) > 0 {
				t.Errorf("%d groups, %d people, absent %v; want %d, %d\n%s", len(d.Groups), len(d.People), d.Coverage.Absent, test.groups, test.people, text)
			}
			if test.people > 0 {
				if d.People[7].Name != "Zoë Núñez 7" {
					t.Errorf("somebody is called %q", d.People[7].Name)
				}
				return
			}
			e, err := directory.Merge([]*directory.Directory{d}, directory.MergeOptions{Domains: []string{"kelp.example"}}).Build()
			if err != nil {
				t.Fatal(err)
			}
			if name == "wide" || name == "sheet" {
				checkVerdicts(t, e, rows)
			}
		})
	}
}

func workbook(t *testing.T, rows [][]string) string {
	t.Helper()
	book := excelize.NewFile()
	defer book.Close()
	for i, row := range append([][]string{{"Groups of Kelp"}, {}}, rows...) {
		if err := book.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func checkVerdicts(t *testing.T, e *estate.Estate, rows [][]string) {
	t.Helper()
	groups := map[string]bool{}
	for _, row := range rows[1:] {
		groups[row[0]] = row[5] != "deleted"
	}
	r, members, tried := resolve.New(e, 0), everybodyIn(rows), 0
	for _, row := range rows[1:] {
		id, ok := e.Find(address.MustParse(row[0]))
		if groups[row[0]] != (ok && e.IsGroup(id)) {
			t.Fatalf("%s, which is %s: %t", row[0], row[5], ok)
		}
		if !groups[row[0]] {
			continue
		}
		for _, who := range []string{"p0@kelp.example", "p7@kelp.example", "p21@kelp.example", "pia@partner.example", "spam@bad.example",
			"ann@junk.example", "far@holiday.example"} {
			tried++
			got := r.Gate(id).Post(r.Sender(address.MustParse(who)), resolve.Message{}).Verdict.String()
			if want := verdictBy(row, groups, members, who); got != want {
				t.Errorf("%s to %s: %s, want %s\n%q", who, row[0], got, want, row)
			}
		}
	}
	t.Log(tried, "verdicts alike")
}

// checkWide checks that what stands in the wide export is in the estate.
func checkWide(t *testing.T, e *estate.Estate, rows [][]string) {
	t.Helper()
	for _, row := range rows[1:] {
		id, ok := e.Find(address.MustParse(row[0]))
		if !ok || row[5] == "deleted" {
			continue
		}
		g := e.Group(id)
		var attributes []string
		for _, a := range g.Attributes {
			attributes = append(attributes, a.Name+"="+a.Value)
		}
		var want []string
		for name, value := range map[string]string{"department": row[12], "expires": row[13]} {
			if value != "" {
				want = append(want, name+"="+value)
			}
		}
		slices.Sort(want)
		slices.Sort(attributes)
		kind := map[string]string{"Discussion": "forum", "Distribution": "list"}[row[4]]
		refused := row[11] == "FALSE"
		if g.Title != row[1] || g.About != row[2] || g.Kind.String() != kind || (len(g.Also) == 1) != (row[3] != "") ||
			g.Footer != row[14] || !slices.Equal(attributes, want) || g.NoOutsideMembers != refused || (len(g.SendAs) > 0) != (row[10] != "") {
			t.Errorf("%q became %+v", row, g)
		}
	}
}

// checkMemberships checks who is in the groups, with what.
func checkMemberships(t *testing.T, e *estate.Estate, said map[string][]membershipOf) {
	t.Helper()
	for group, list := range said {
		id, ok := e.Find(address.MustParse(group))
		if !ok || !e.IsGroup(id) {
			continue
		}
		var got, want []string
		for _, entry := range e.Entries(id) {
			since := ""
			if entry.Since() != 0 {
				since = entry.Since().String()
			}
			got = append(got, fmt.Sprint(e.Address(entry.Member), " MEMBER ", entry.Copy(), since, entry.Paused()))
		}
		for role, people := range map[string][]estate.Listed{"OWNER": e.Group(id).Owners, "MANAGER": e.Group(id).Moderators} {
			for _, one := range people {
				got = append(got, fmt.Sprint(e.Address(one.ID), " ", role))
			}
		}
		for _, m := range list {
			if m.Role != "MEMBER" {
				want = append(want, m.Email+" "+m.Role)
				continue
			}
			copy := map[string]string{"EACH": "every", "DAILY": "digest", "NONE": "none"}[m.Delivery]
			want = append(want, fmt.Sprint(m.Email, " MEMBER ", copy, m.Joined, m.State == "SUSPENDED"))
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("%s has\n%v, want\n%v", group, got, want)
		}
	}
}

// What an export says by the names of its columns and lists is drafted as that.
func TestDraftedParts(t *testing.T) {
	sheet := "Address,Who may post,Allowed posters,Send as,Send on behalf,Owner\n"
	for n := range 20 {
		sheet += fmt.Sprintf("g%d@kelp.example,inside,bob@x.example;cy@x.example,ann@kelp.example,cat@kelp.example,ann@kelp.example\n", n)
	}
	lists := `{"address":"%s","owners":[{"mail":"ann@kelp.example"}],"members":[{"mail":"bob@kelp.example"}]}`
	for name, test := range map[string]struct {
		file, text string
		want       []string
	}{
		"posters and rights": {"x.csv", sheet, []string{"'admit {Allowed posters}'", "'as {Send as}'", "'for {Send on behalf}'"}},
		"one mistyped row": {"x.csv", sheet + "g@@bad,inside,,,,ann@kelp.example\n",
			[]string{"'g@@bad' at 22 is no address", "address: 'Address'"}},
		"one mistyped row of few": {"x.csv", "Post,Readers,Keeper\na@k.example,b@k.example;c@k.example,b@k.example\n" +
			"d@k.example,b@k.example;c@k.example,\ne@k.example,b@k.example,\ng@@bad,b@k.example,\n",
			[]string{"groups:", "'g@@bad' at 5 is no address", "address: 'Post'", "owners: [{from: 'Keeper'", "members: [{from: 'Readers'"}},
		"owners in lists": {"x.json", "[" + fmt.Sprintf(lists, "g@kelp.example") + "," + fmt.Sprintf(lists, "h@kelp.example") + "]",
			[]string{"each: 'owners', address: 'mail', role: owner", "each: 'members', address: 'mail'}"}},
	} {
		text, err := source.DraftMap(t.Context(), write(t, test.file, test.text), "")
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		for _, want := range test.want {
			if !strings.Contains(text, want) {
				t.Errorf("%s: the map lacks %q:\n%s", name, want, text)
			}
		}
	}
}

// Before the sheet with the groups there may be one that says what they are.
func TestDraftedSheet(t *testing.T) {
	book := excelize.NewFile()
	defer book.Close()
	if _, err := book.NewSheet("Groups"); err != nil {
		t.Fatal(err)
	}
	for cell, row := range map[string][]string{"A1": {"Kelp", "As of"}, "A2": {"all groups", "today"}} {
		if err := book.SetSheetRow("Sheet1", cell, &row); err != nil {
			t.Fatal(err)
		}
	}
	for cell, row := range map[string][]string{"A1": {"Group address", "Owner"}, "A2": {"g@kelp.example", "ann@kelp.example"}} {
		if err := book.SetSheetRow("Groups", cell, &row); err != nil {
			t.Fatal(err)
		}
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	path := write(t, "x.xlsx", b.String())
	if _, err := source.DraftMap(t.Context(), path, ""); err == nil || !strings.Contains(err.Error(), "Sheet1, Groups: --sheet") {
		t.Errorf("the cover sheet is told as %v", err)
	}
	text, err := source.DraftMap(t.Context(), path, "Groups")
	if err != nil {
		t.Fatal(err)
	}
	d, err := source.Read(t.Context(), path, source.Options{Map: write(t, "x.map", text), Domains: []string{"kelp.example"}})
	if err != nil || len(d.Groups) != 1 {
		t.Errorf("the map reads %v, %v:\n%s", d, err, text)
	}
}
