package handout

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/template"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/table"
)

// A Step is one thing to do in a system so that its groups become what an estate says.
type Step struct {
	// Do is group-add, group-rename, group-remove, setting, member-add, member-change,
	// member-remove, owner-add, owner-remove, moderator-add or moderator-remove.
	Do      string   `json:"do"`
	Group   string   `json:"group"`             // by its new address
	Was     string   `json:"was,omitempty"`     // of group-rename: the old address
	Setting string   `json:"setting,omitempty"` // its name in the estate
	Value   string   `json:"value,omitempty"`   // that holds, of a list with "; " between the items; "": none
	Values  []string `json:"values,omitempty"`  // each item of a list
	Before  string   `json:"before,omitempty"`
	Member  string   `json:"member,omitempty"` // an address, or everyone, or where and a filter
	IsGroup bool     `json:"isGroup,omitempty"`
	// What a membership says; "" where it says nothing.
	Copy        string `json:"copy,omitempty"`
	Since       string `json:"since,omitempty"`
	Invitations string `json:"invitations,omitempty"`
	Paused      bool   `json:"paused,omitempty"`
}

// stepColumns are the columns of steps as a table.
var stepColumns = []string{"do", "group", "was", "setting", "value", "before", "member", "is-group", "copy", "since",
	"invitations", "paused"}

func (s *Step) cells() []string {
	flag := func(is bool) string {
		if is {
			return "true"
		}
		return ""
	}
	return []string{s.Do, s.Group, s.Was, s.Setting, s.Value, s.Before, s.Member, flag(s.IsGroup), s.Copy, s.Since,
		s.Invitations,
		flag(s.Paused)}
}

// Steps returns a difference as steps: groups that come first, and those
// that go last.
func Steps(d *directory.Difference) []Step {
	s := &steps{d: d}
	for i := range d.Groups {
		g := &d.Groups[i]
		switch {
		case g.Old == estate.None:
			s.add(Step{Do: "group-add", Group: s.name(d.New, g.New)})
		case g.New == estate.None:
			continue
		case d.Old.Address(g.Old).Key() != d.New.Address(g.New).Key():
			s.add(Step{Do: "group-rename", Group: s.name(d.New, g.New), Was: s.name(d.Old, g.Old)})
		}
	}
	for i := range d.Groups {
		if g := &d.Groups[i]; g.New != estate.None {
			s.settings(g)
			s.people(g)
		}
	}
	for i := range d.Groups {
		if g := &d.Groups[i]; g.New == estate.None {
			s.add(Step{Do: "group-remove", Group: s.name(d.Old, g.Old)})
		}
	}
	return s.list
}

type steps struct {
	d    *directory.Difference
	list []Step
}

func (s *steps) add(one Step) { s.list = append(s.list, one) }

func (s *steps) name(e *estate.Estate, id estate.ID) string { return e.Address(id).String() }

// settings adds what a group says otherwise.
func (s *steps) settings(g *directory.GroupDifference) {
	now := s.d.New.Group(g.New)
	was := &estate.Group{}
	if g.Old != estate.None {
		was = s.d.Old.Group(g.Old)
	}
	for setting := range estate.GroupSettings() {
		if setting.Form == estate.FormParties || setting.Name == "address" || setting.Name == "managed-in" {
			continue // steps of their own
		}
		before, after := []string(nil), setting.Texts(s.d.New, now)
		if g.Old != estate.None {
			before = setting.Texts(s.d.Old, was)
		}
		if slices.Equal(before, after) {
			continue
		}
		holds := s.holds(setting, now)
		one := Step{Do: "setting", Group: now.Address.String(), Setting: setting.Name, Value: strings.Join(holds, "; "),
			Before: strings.Join(before, "; ")}
		if setting.Form.IsList() {
			one.Values = holds
		}
		s.add(one)
	}
}

// holds returns what holds for a group in a setting: a system may have other defaults.
func (s *steps) holds(setting *estate.Setting, g *estate.Group) []string {
	texts := setting.Holds(s.d.New, g)
	if texts == nil && setting.Name == "joiners" { // the same as members from before
		if other, ok := estate.GroupSetting("copy"); ok {
			texts = other.Holds(s.d.New, g)
		}
	}
	return texts
}

// people adds who comes and goes in a group, in every role.
func (s *steps) people(g *directory.GroupDifference) {
	group := s.name(s.d.New, g.New)
	add, owners, moderators, rules := g.Add, g.AddOwners, g.AddMods, g.AddRules
	if g.Old == estate.None {
		now := s.d.New.Group(g.New)
		for _, entry := range s.d.New.Entries(g.New) {
			add = append(add, entry.Member)
		}
		owners, moderators, rules = idsOf(now.Owners), idsOf(now.Moderators), s.d.New.Rules(g.New)
	}
	each := func(do string, e *estate.Estate, list []estate.ID) {
		for _, id := range list {
			one := Step{Do: do, Group: group, Member: s.name(e, id), IsGroup: e.IsGroup(id)}
			if do == "member-add" {
				s.said(&one, g.New, id)
			}
			s.add(one)
		}
	}
	rule := func(do string, list []estate.MemberRule) {
		for _, r := range list {
			one := Step{Do: do, Group: group, Member: "everyone"}
			one.says(r.Membership)
			if r.Filter != nil {
				one.Member = "where " + r.Filter.String()
			}
			s.add(one)
		}
	}
	each("owner-add", s.d.New, owners)
	each("owner-remove", s.d.Old, g.DropOwners)
	each("moderator-add", s.d.New, moderators)
	each("moderator-remove", s.d.Old, g.DropMods)
	each("member-add", s.d.New, add)
	rule("member-add", rules)
	for _, id := range g.Memberships {
		one := Step{Do: "member-change", Group: group, Member: s.name(s.d.New, id), IsGroup: s.d.New.IsGroup(id)}
		s.said(&one, g.New, id)
		s.add(one)
	}
	each("member-remove", s.d.Old, g.Drop)
	rule("member-remove", g.DropRules)
}

func idsOf(list []estate.Listed) (out []estate.ID) {
	for _, one := range list {
		out = append(out, one.ID)
	}
	return out
}

// said puts what a membership says into a step.
func (s *steps) said(one *Step, g, member estate.ID) {
	for _, entry := range s.d.New.Entries(g) {
		if entry.Member != member {
			continue
		}
		one.says(entry.Membership())
		return
	}
}

func (s *Step) says(m estate.Membership) {
	s.Copy, s.Since, s.Invitations, s.Paused = m.Copy.String(), m.Since.String(), m.Invitations.String(), m.Paused
}

// writeSteps writes steps as a table or as lines of JSON.
func writeSteps(w io.Writer, format string, list []Step) error {
	if format == "csv" {
		out := csv.NewWriter(w)
		rows := [][]string{stepColumns}
		for i := range list {
			cells := list[i].cells()
			for j := range cells {
				cells[j] = table.Neutral(cells[j])
			}
			rows = append(rows, cells)
		}
		return out.WriteAll(rows)
	}
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	for i := range list {
		if err := out.Encode(&list[i]); err != nil {
			return err
		}
	}
	return nil
}

// mostRendered is how many bytes a template may make of a change.
const mostRendered = 256 << 20

// limited fails beyond so many bytes.
type limited struct {
	bytes.Buffer
	most int
}

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > l.most {
		return 0, fmt.Errorf("it makes more than %d MiB", l.most>>20)
	}
	return l.Buffer.Write(p)
}

// Render executes a template (package text/template) for each step, with the step as dot.
// What it makes of one ends with a line feed, or is nothing at all. Templates called begin
// and end, if there are any, come before and behind, with all steps as dot.
func Render(name, text string, list []Step) ([]byte, error) {
	t, err := template.New(name).Option("missingkey=error").Funcs(template.FuncMap{
		"sh":     shell,
		"csv":    cell,
		"json":   asJSON,
		"local":  func(s string) string { a, _ := address.Parse(s); return a.Local() },
		"domain": func(s string) string { a, _ := address.Parse(s); return a.Domain() },
		"upper":  strings.ToUpper,
		"join":   func(between string, list []string) string { return strings.Join(list, between) },
	}).Parse(text)
	if err != nil {
		return nil, templateError(err)
	}
	out := &limited{most: mostRendered}
	run := func(t *template.Template, dot any) error {
		if t == nil {
			return nil
		}
		before := out.Len()
		if err := t.Execute(out, dot); err != nil {
			return templateError(err)
		}
		made := out.Bytes()[before:]
		if len(bytes.TrimSpace(made)) == 0 {
			out.Truncate(before)
		} else if made[len(made)-1] != '\n' {
			return out.WriteByte('\n')
		}
		return nil
	}
	if err := run(t.Lookup("begin"), list); err != nil {
		return nil, err
	}
	for i := range list {
		if err := run(t, &list[i]); err != nil {
			return nil, err
		}
	}
	if err := run(t.Lookup("end"), list); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func templateError(err error) error {
	return errors.New(strings.TrimPrefix(err.Error(), "template: "))
}

// shell quotes a text as one word of a POSIX shell.
func shell(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// cell quotes a text as a cell of a table (RFC 4180) that no spreadsheet takes for a
// formula.
func cell(text string) string {
	return `"` + strings.ReplaceAll(table.Neutral(text), `"`, `""`) + `"`
}

// asJSON writes a value as JSON.
func asJSON(value any) (string, error) {
	var b bytes.Buffer
	out := json.NewEncoder(&b)
	out.SetEscapeHTML(false)
	err := out.Encode(value)
	return strings.TrimSuffix(b.String(), "\n"), err
}
