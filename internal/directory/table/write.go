package table

import (
	"bytes"
	"encoding/csv"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/directory"
)

// taken are the names of columns that are no attributes.
var taken = []string{
	"address",
	"mail",
	"email",
	"e-mail",
	"email address",
	"e-mail address",
	"name",
	"display name",
	"full name",
	"also",
	"alias",
	"aliases",
	"mailbox",
	"kind",
	"group",
}

// Carries says what tables hold: all but attributes whose values or names a table has
// another meaning for, and accepted hazards.
func Carries() directory.Carries {
	return directory.Carries{
		Settings:    []string{"all"},
		Also:        true,
		AlsoPeople:  true,
		AlsoOutside: true,
		Owners:      true,
		Moderators:  true,
		Access:      true,
		Names:       true,
		Attributes: func(name, value string) bool {
			return !slices.Contains(taken, selector.Fold(name)) && !strings.Contains(value, ";") &&
				strings.TrimSpace(value) == value
		},
		Mailbox:     func(estate.MailboxState) bool { return true },
		Memberships: true,
		Nobody:      true,
		Unnamed:     true,
		Rules: func(rule estate.MemberRule) bool {
			return rule.Membership == (estate.Membership{}) &&
				(rule.Filter == nil || !strings.Contains(rule.Filter.String(), ";"))
		},
	}
}

// Write returns an estate as tables, by the names of their files: people.csv,
// groups.csv, memberships.csv.
func Write(e *estate.Estate) map[string][]byte {
	return map[string][]byte{"people.csv": people(e), "groups.csv": groups(e), "memberships.csv": memberships(e)}
}

// sheet is a table in the making.
type sheet struct {
	b bytes.Buffer
	w *csv.Writer
}

func newSheet(columns ...string) *sheet {
	s := &sheet{}
	s.w = csv.NewWriter(&s.b)
	s.row(slices.Clone(columns))
	return s
}

func (s *sheet) row(cells []string) {
	for i, cell := range cells {
		cells[i] = Neutral(directory.Plain(cell))
	}
	_ = s.w.Write(cells)
}

func (s *sheet) bytes() []byte {
	s.w.Flush()
	return s.b.Bytes()
}

func joined(list []address.Address) string {
	var texts []string
	for _, a := range list {
		texts = append(texts, a.String())
	}
	return strings.Join(texts, ";")
}

func people(e *estate.Estate) []byte {
	columns := []string{"address", "name", "also", "mailbox"}
	carries := Carries()
	for i := range e.People() {
		for _, f := range e.Attributes(e.PersonID(i)) {
			if !slices.Contains(columns, f.Name) && carries.Attributes(f.Name, f.Value) {
				columns = append(columns, f.Name)
			}
		}
	}
	s := newSheet(columns...)
	for i := range e.People() {
		p := e.Person(e.PersonID(i))
		row := make([]string, len(columns))
		row[0], row[1], row[2] = p.Address.String(), p.Name, joined(p.Also)
		if p.Mailbox != estate.MailboxOpen {
			row[3] = p.Mailbox.String()
		}
		for _, f := range e.Attributes(e.PersonID(i)) {
			if !carries.Attributes(f.Name, f.Value) {
				continue
			}
			cell := &row[slices.Index(columns, f.Name)]
			if *cell != "" {
				*cell += ";"
			}
			*cell += f.Value
		}
		s.row(row)
	}
	return s.bytes()
}

func groups(e *estate.Estate) []byte {
	columns := []string{"address", "also", "title", "about", "kind", "owners", "moderators", "members"}
	for _, lists := range []bool{false, true} {
		for setting := range estate.GroupSettings() {
			if setting.Form.IsList() == lists && !slices.Contains(columns, setting.Name) {
				columns = append(columns, setting.Name)
			}
		}
	}
	s := newSheet(columns...)
	for g := range estate.ID(e.Groups()) {
		group := e.Group(g)
		row := make([]string, len(columns))
		set := func(name, text string) { row[slices.Index(columns, name)] = text }
		set("address", group.Address.String())
		set("also", joined(group.Also))
		set("kind", group.Kind.String())
		set("owners", listed(e, group.Owners))
		set("moderators", listed(e, group.Moderators))
		var rules []string
		for _, rule := range e.Rules(g) {
			if rule.Filter == nil {
				rules = append(rules, "everyone")
			} else {
				rules = append(rules, "where "+rule.Filter.String())
			}
		}
		set("members", strings.Join(rules, ";"))
		for _, f := range directory.Settings(group) {
			set(f.Name, f.Text+strings.Join(f.List, "; "))
			if f.Name == "gate" && len(f.List) == 0 {
				set(f.Name, "refuse anyone") // an empty cell would say nothing
			}
		}
		for i, action := range estate.ActionWords() {
			if rule := group.Access[i]; rule.Place != (estate.Place{}) {
				set("access."+action, rule.Text)
			}
		}
		s.row(row)
	}
	return s.bytes()
}

func listed(e *estate.Estate, list []estate.Listed) string {
	var texts []string
	for _, one := range list {
		texts = append(texts, e.Address(one.ID).String())
	}
	return strings.Join(texts, ";")
}

func memberships(e *estate.Estate) []byte {
	header := []string{"group", "address"}
	for _, setting := range estate.MembershipSettings() {
		header = append(header, setting.Name)
	}
	s := newSheet(header...)
	for g := range estate.ID(e.Groups()) {
		for _, entry := range e.Entries(g) {
			row := []string{e.Address(g).String(), e.Address(entry.Member).String()}
			for _, setting := range estate.MembershipSettings() {
				row = append(row, setting.Text(entry.Membership()))
			}
			s.row(row)
		}
	}
	return s.bytes()
}
