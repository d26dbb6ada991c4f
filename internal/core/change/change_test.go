package change_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/sample"
)

// A change comes to what the estate would be, were it written so.
func TestApply(t *testing.T) {
	r := sample.Load(t, changetest.Quay)
	before := changetest.Portrait(r.Estate())
	for _, a := range changetest.Alterations(r.Estate()) {
		text := changetest.Quay
		for i := 0; i < len(a.Rewrite); i += 2 {
			if !strings.Contains(text, a.Rewrite[i]) {
				t.Fatalf("%T: %q does not stand there", a.Change, a.Rewrite[i])
			}
			text = strings.ReplaceAll(text, a.Rewrite[i], a.Rewrite[i+1])
		}
		want := changetest.Portrait(sample.Load(t, text).Estate())
		later, err := change.Apply(r.Estate(), a.With(r.Estate())...)
		if err != nil {
			t.Errorf("%T%+v: %v", a.Change, a.Change, err)
			continue
		}
		if line := changetest.Differing(changetest.Portrait(later), want); line != "" {
			t.Errorf("%T%+v: %s", a.Change, a.Change, line)
		}
		if line := changetest.Differing(changetest.Portrait(r.Estate()), before); line != "" {
			t.Fatalf("%T%+v changes the estate before: %s", a.Change, a.Change, line)
		}
	}
}

// Every type of change has an alteration, so that a new one is tried in memory, in
// files and in words.
func TestEachTypeIsTried(t *testing.T) {
	packages, err := parser.ParseDir(token.NewFileSet(), ".", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	tried := map[string]bool{}
	for _, a := range changetest.Alterations(sample.Load(t, changetest.Quay).Estate()) {
		tried[reflect.TypeOf(a.Change).Name()] = true
	}
	for _, file := range packages["change"].Files {
		for _, declaration := range file.Decls {
			f, ok := declaration.(*ast.FuncDecl)
			if !ok || f.Recv == nil || f.Name.Name != "apply" {
				continue
			}
			if name := fmt.Sprint(f.Recv.List[0].Type); !tried[name] {
				t.Errorf("%s has no alteration in package sample", name)
			}
		}
	}
}

// vary calls visit with copies of a value, each with one field otherwise.
func vary(value reflect.Value, path string, visit func(path string)) {
	for i := range value.NumField() {
		field, name := value.Field(i), path+"."+value.Type().Field(i).Name
		old := reflect.New(field.Type()).Elem()
		old.Set(field)
		switch field.Kind() {
		case reflect.String:
			field.SetString(field.String() + "x")
		case reflect.Bool:
			field.SetBool(!field.Bool())
		case reflect.Int:
			field.SetInt(field.Int() + 1)
		case reflect.Uint8, reflect.Uint32:
			field.SetUint((field.Uint() + 1) % 3)
		case reflect.Slice:
			field.Set(reflect.Append(field.Slice(0, field.Len()), reflect.Zero(field.Type().Elem())))
		case reflect.Struct:
			if field.Type().PkgPath() == reflect.TypeOf(change.Member{}).PkgPath() || name == path+".Membership" {
				vary(field, name, visit)
			}
			continue // an address has no fields of its own
		default:
			continue // a filter
		}
		visit(name)
		field.Set(old)
	}
}

// What makes a difference is in the key.
func TestKey(t *testing.T) {
	met := map[string]string{}
	for _, a := range changetest.Alterations(sample.Load(t, changetest.Quay).Estate()) {
		key := change.Key(a.Change)
		if other := met[key]; other != "" {
			t.Errorf("%T%+v has the key of %s", a.Change, a.Change, other)
		}
		met[key] = fmt.Sprintf("%T%+v", a.Change, a.Change)
		copied := reflect.New(reflect.TypeOf(a.Change)).Elem()
		copied.Set(reflect.ValueOf(a.Change))
		vary(copied, copied.Type().Name(), func(path string) {
			if strings.HasSuffix(path, ".Place") || strings.HasSuffix(path, ".IsRelist") {
				return
			}
			if change.Key(copied.Interface().(change.Change)) == key {
				t.Errorf("%s is not in the key", path)
			}
		})
	}
}

// What a change is about.
func TestAbout(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	var got []string
	for _, a := range changetest.Alterations(e) {
		about := changetest.Tell(e, a.Change)
		got = append(got, about[:strings.Index(about, "{")]+a.Change.About(e).Setting)
	}
	for _, want := range []string{
		"SetSetting desk@kelp.example - kind", "SetSetting crew@kelp.example - owners",
		"SetList desk@kelp.example - also", "SetList crew@kelp.example - moderators", "SetList desk@kelp.example ann@kelp.example owners",
		"InsertRule crew@kelp.example - send-as", "SetRule desk@kelp.example - gate", "RemoveRule desk@kelp.example - gate",
		"AddMember crew@kelp.example bob@kelp.example members", "AddMember crew@kelp.example - members",
		"SetMember desk@kelp.example bob@kelp.example members", "RemoveMember desk@kelp.example ann@kelp.example members",
		"SetMemberRule desk@kelp.example - members", "RemoveMemberRule desk@kelp.example - members",
		"AddGroup - - address", "RenameGroup desk@kelp.example - address", "RemoveGroup crew@kelp.example - address",
		"AddPerson - - address", "SetPerson - ann@kelp.example name", "SetAttribute - bob@kelp.example base",
		"SetPersonAlso - ann@kelp.example also", "RenamePerson - ann@kelp.example address", "RemovePerson - bob@kelp.example address",
		"AddDomain - - domains", "RemoveDomain - - domains", "Accept - - accept", "SetNestedGates - - nested-gates",
	} {
		if !slices.Contains(got, want) {
			t.Errorf("%q is not among %q", want, got)
		}
	}
}

// Who goes is taken out wherever somebody lists them, but of those that are skipped.
func TestCascade(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	id := func(i int) estate.ID { return e.PersonID(i) }
	desk, crew, ann, bob := estate.ID(0), estate.ID(1), id(0), id(1)
	for _, c := range []struct {
		gone []estate.ID
		skip func(estate.ID) bool
		want []change.Change
	}{
		{nil, nil, nil},
		{[]estate.ID{ann}, nil, []change.Change{
			change.SetList{Group: desk, Setting: "owners", Drop: []string{"ann@kelp.example"}}, change.RemoveMember{Group: desk, Entry: 0}}},
		{[]estate.ID{bob}, nil, []change.Change{change.RemoveMember{Group: desk, Entry: 1},
			change.SetList{Group: crew, Setting: "owners", Drop: []string{"bob@kelp.example"}}}},
		{[]estate.ID{bob}, func(g estate.ID) bool { return g == desk }, []change.Change{
			change.SetList{Group: crew, Setting: "owners", Drop: []string{"bob@kelp.example"}}}},
		{[]estate.ID{desk}, nil, []change.Change{
			change.SetList{Group: crew, Setting: "owners", Drop: []string{"desk@kelp.example"}}, change.RemoveMember{Group: crew, Entry: 0}}},
		{[]estate.ID{desk, crew, ann}, nil, nil},
	} {
		if got := change.Cascade(e, c.gone, c.skip); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%v go: %+v, want %+v", c.gone, got, c.want)
		}
	}
}

// What cannot be is an error, and says why.
func TestRefused(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	for _, c := range []struct {
		change change.Change
		want   string
	}{
		{change.SetSetting{Setting: "colour"}, "colour: there is no such setting"},
		{change.SetSetting{Setting: "address", Texts: []string{"a@kelp.example"}}, "address: this is for RenameGroup"},
		{change.SetSetting{Setting: "kind", Texts: []string{"pier"}}, "kind: expected list, forum"},
		{change.SetSetting{Setting: "echo", Texts: []string{"perhaps"}}, "echo: expected true or false"},
		{change.SetSetting{Setting: "pause-after", Texts: []string{"0"}}, "pause-after: expected a whole number of bounces"},
		{change.SetSetting{Setting: "gate", Texts: []string{"admit all"}}, "gate: "},
		{change.SetSetting{Setting: "gate", Texts: []string{"admit in no@kelp.example"}}, "there is no group"},
		{change.SetSetting{Setting: "access.find", Texts: []string{"("}}, "access.find: "},
		{change.SetList{Setting: "title", Add: []string{"x"}}, "title: this is no list"},
		{change.SetList{Setting: "owners", Add: []string{"x"}}, "owners: "},
		{change.SetList{Setting: "owners", Drop: []string{"x"}}, "owners: "},
		{change.InsertRule{Setting: "owners"}, "owners: this is no list of rules"},
		{change.SetPerson{Person: e.PersonID(0), Field: "post"}, "post: a person has none"},
		{change.SetPerson{Person: e.PersonID(0), Field: "mailbox", Text: "ajar"}, "expected open"},
		{change.AddGroup{Settings: []change.Said{{Setting: "colour"}}}, "colour: there is no such setting"},
		{change.RemoveDomain{Name: "kelp.example"}, "is outside, expected an address in a domain of the estate"},
	} {
		_, err := change.Apply(e, c.change)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%T%+v: %v, want %q", c.change, c.change, err, c.want)
		}
	}
}

// Who stays keeps their ID, and an estate that shares parts with another leaves it as
// it is; where somebody new is listed, the estate is made anew.
func TestShares(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	desk := estate.ID(0)
	near := change.AddMember{Group: desk, Member: change.Member{Address: e.Address(e.PersonID(2))}}
	far := change.AddMember{Group: desk, Member: change.Member{Address: address.MustParse("far@out.example")}}
	for _, c := range []struct {
		changes []change.Change
		people  int
	}{
		{nil, 3}, {[]change.Change{near}, 3}, {[]change.Change{far}, 4}, {[]change.Change{far, far, near}, 4},
		{[]change.Change{change.SetList{Group: desk, Setting: "owners", Add: []string{"far@out.example"}}}, 4},
		{[]change.Change{change.SetList{Group: desk, Setting: "moderators", Add: []string{"far@out.example"}}}, 4},
		{[]change.Change{change.SetPerson{Person: e.PersonID(0), Field: "mailbox", Text: "full"}}, 3},
		{[]change.Change{change.AddPerson{Person: estate.Person{Address: address.MustParse("new@kelp.example")}}}, 4},
		{[]change.Change{change.RemovePerson{Person: e.PersonID(2)}}, 2},
		{[]change.Change{change.SetNestedGates{Open: true}}, 3},
	} {
		later, err := change.Apply(e, c.changes...)
		if err != nil {
			t.Fatal(err)
		}
		if later.People() != c.people || e.People() != 3 || len(e.Entries(desk)) != 2 {
			t.Errorf("%+v: %d people, want %d", c.changes, later.People(), c.people)
		}
	}
}

// Several changes of one list all speak of it as it was before.
func TestSeveralAtOnce(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	desk := estate.ID(0)
	later, err := change.Apply(e, change.RemoveMember{Group: desk, Entry: 0}, change.RemoveMember{Group: desk, Entry: 1},
		change.SetRule{Group: desk, Setting: "gate", At: 0, Text: "drop unproven"}, change.RemoveRule{Group: desk, Setting: "gate", At: 1})
	if err != nil {
		t.Fatal(err)
	}
	if g := later.Group(desk); len(later.Entries(desk)) != 0 || len(g.Gate) != 1 || g.Gate[0].Text != "drop unproven" {
		t.Errorf("%d entries, gate %+v", len(later.Entries(desk)), g.Gate)
	}
	if gate := e.Group(desk).Gate; len(gate) != 2 || gate[0].Text != "refuse unproven" {
		t.Errorf("the gate before is %+v now", gate)
	}
	both := []change.Change{
		change.RenameGroup{Group: desk, To: address.MustParse("help@kelp.example")},
		change.AddGroup{Address: address.MustParse("desk2@kelp.example"), Place: estate.Place{Line: 9}},
	}
	if later, err = change.Apply(e, both...); err != nil {
		t.Fatal(err)
	}
	if g := later.Group(2); g.Place.Line != 9 || later.Group(desk).Address.String() != "help@kelp.example" || len(later.Group(desk).Also) != 2 {
		t.Errorf("%+v, %+v", later.Group(desk), g)
	}
}

// Who has another address is found by it, and no longer by one that was given up.
func TestFound(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	desk, person := estate.ID(0), e.PersonID(0)
	old := e.Address(person)
	fresh := address.MustParse("fresh@kelp.example")
	for _, c := range []struct {
		change change.Change
		id     estate.ID
		gone   address.Address
	}{
		{change.RenamePerson{Person: person, To: fresh}, person, old},
		{change.SetPersonAlso{Person: person, Also: []address.Address{fresh}}, person, address.Address{}},
		{change.SetSetting{Group: desk, Setting: "also", Texts: []string{"fresh@kelp.example"}}, desk, address.Address{}},
		{change.RenameGroup{Group: desk, To: fresh}, desk, address.Address{}},
		{change.AddGroup{Address: fresh}, estate.ID(e.Groups()), address.Address{}},
		{change.AddPerson{Person: estate.Person{Address: fresh}}, estate.None, address.Address{}},
	} {
		later, err := change.Apply(e, c.change)
		if err != nil {
			t.Fatal(err)
		}
		id, ok := later.Find(fresh)
		if !ok || c.id != estate.None && id != c.id {
			t.Errorf("%T: %s is %d, %t; want %d", c.change, fresh, id, ok, c.id)
		}
		if _, ok := later.Find(c.gone); c.gone != (address.Address{}) && ok {
			t.Errorf("%T: %s is still found", c.change, c.gone)
		}
	}
}

// Who is renamed to an address that they had has each address once.
func TestRenameToOwnAlias(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	person, alias, other := e.PersonID(0), address.MustParse("fresh@kelp.example"), address.MustParse("spare@kelp.example")
	later, err := change.Apply(e, change.SetPersonAlso{Person: person, Also: []address.Address{alias, other}})
	if err != nil {
		t.Fatal(err)
	}
	later, err = change.Apply(later, change.RenamePerson{Person: person, To: alias})
	if err != nil {
		t.Fatal(err)
	}
	if p := later.Person(person); p.Address != alias || len(p.Also) != 1 || p.Also[0] != other {
		t.Errorf("is %s, also %v", p.Address, p.Also)
	}
}

// The default holds again where nothing is said; a mailbox that was full is open.
func TestDefaultAgain(t *testing.T) {
	e := sample.Load(t, changetest.Quay).Estate()
	person := e.PersonID(0)
	full, err := change.Apply(e, change.SetPerson{Person: person, Field: "mailbox", Text: "full"})
	if err != nil {
		t.Fatal(err)
	}
	open, err := change.Apply(full, change.SetPerson{Person: person, Field: "mailbox"})
	if err != nil {
		t.Fatal(err)
	}
	if a, b := full.Person(person).Mailbox, open.Person(person).Mailbox; a != estate.MailboxFull || b != estate.MailboxOpen {
		t.Errorf("full is %v, and then it is %v", a, b)
	}
	added, err := change.Apply(e, change.AddGroup{Address: address.MustParse("new@kelp.example")})
	if err != nil {
		t.Fatal(err)
	}
	if p := added.Group(estate.ID(e.Groups())).Place; p.Line != 1 || p.Column != 1 {
		t.Errorf("a group from nowhere is at %+v", p)
	}
	one, other := change.AddGroup{Address: address.MustParse("a@kelp.example")}, change.AddGroup{Address: address.MustParse("b@kelp.example")}
	if change.Key(one) == change.Key(other) {
		t.Errorf("two groups have the key %q", change.Key(one))
	}
}
