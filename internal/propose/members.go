package propose

import (
	"errors"
	"slices"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// Membership says what memberships are to be like: texts by the names of the settings, without those of which
// nothing is said.
type Membership map[string]string

// of applies what is said to a membership.
func (x Membership) of(m estate.Membership) (estate.Membership, error) {
	var errs []error
	for _, s := range estate.MembershipSettings() {
		unset := "none"
		switch s.Form {
		case estate.FormFlag:
			unset = "false"
		case estate.FormWord:
			unset = "group"
		}
		switch text, said := x[s.Name]; {
		case !said:
		case text == unset:
			s.Reset(&m)
		default:
			var wrong *estate.ValueError
			if errors.As(s.Set(&m, text), &wrong) {
				errs = append(errs, ask.Errorf("--%s: %w%s", s.Name, wrong, ask.Meant(wrong.Nearest)))
			}
		}
	}
	return m, errors.Join(errs...)
}

// rule reads a rule for members, and notes that it picks nobody.
func (w *work) rule(text string) (change.Member, error) {
	f, err := selector.ParseFilter(text)
	if err != nil {
		return change.Member{}, ask.SyntaxError("--rule", err)
	}
	picks := selector.And{&selector.Atom{Kind: selector.Where, Filter: f}, &selector.Atom{Kind: selector.Inside}}
	if w.Resolver.Set(estate.None, picks, resolve.Message{}).IsEmpty() {
		w.note("%s picks nobody: there is no such person inside.", f)
	}
	return change.Member{Filter: f}, nil
}

// NewMembers are members, owners or moderators who are to be added to groups.
type NewMembers struct {
	Groups ask.Groups
	Role   string // the list of the group that they come into; "": its members
	Who
	Rule       string // a filter: a rule for members, instead; "": none
	Everyone   bool   // a rule for everybody inside, instead
	Membership Membership
}

func (x *NewMembers) propose(w *work) error {
	groups, err := w.groups(x.Groups)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if err := x.addTo(w, g); err != nil {
			return err
		}
	}
	w.warnManaged(groups...)
	return nil
}

func (x *NewMembers) addTo(w *work, g estate.ID) error {
	m, err := x.Membership.of(estate.Membership{})
	if err != nil {
		return err
	}
	if x.Rule != "" || x.Everyone {
		var one change.Member
		if x.Rule != "" {
			if one, err = w.rule(x.Rule); err != nil {
				return err
			}
		}
		one.Membership = m
		w.draft.Apply(change.AddMember{Group: g, Member: one})
		return nil
	}
	list, err := w.chosen(g, &x.Who, "added", x.Role)
	if err != nil {
		return err
	}
	if len(list) == 0 && len(w.notes) == 0 && x.Where == "" {
		return ask.Errorf("member add needs somebody to add: addresses, --from, --where, --rule or --everyone")
	}
	group := w.Estate.Group(g)
	for _, one := range list {
		if x.Role != "" {
			w.draft.Apply(change.SetList{Group: g, Setting: x.Role, Add: []string{one.address.String()}})
			w.addPerson(one)
			continue
		}
		if len(entriesOf(w.Estate, g, one.id)) > 0 && one.id != estate.None {
			w.note("%s is a member of %s already", one.address, group.Address)
			w.tally.isThere(one.address)
			continue
		}
		if one.id == g {
			return ask.Errorf("%s cannot be a member of itself", group.Address)
		}
		if group.NoOutsideMembers && !w.Estate.InsideDomain(one.address.Domain()) {
			return ask.Errorf("%s is outside, and outside-members of %s is refused; nothing written. To allow it: "+
				"yorvet group set %s outside-members=allowed", one.address, group.Address, group.Address)
		}
		says := m
		if _, said := x.Membership["copy"]; !said {
			says.Copy = group.Joiners
		}
		_, since := x.Membership["since"]
		if !since {
			says.Since = w.Resolver.Today()
		}
		if w.Estate.IsGroup(one.id) {
			says = estate.Membership{Copy: m.Copy}
		}
		member := change.Member{Address: one.address, Membership: says, JustNow: !since}
		w.draft.Apply(change.AddMember{Group: g, Member: member})
		w.addPerson(one)
	}
	return nil
}

// MemberRemoval takes members, owners or moderators out of groups.
type MemberRemoval struct {
	Groups ask.Groups
	Role   string // the list of the group that they are taken out of; "": its members
	Who
}

func (x *MemberRemoval) propose(w *work) error {
	groups, err := w.groups(x.Groups)
	if err != nil {
		return err
	}
	touched := []estate.ID{}
	for _, g := range groups {
		list, err := w.chosen(g, &x.Who, "removed", x.Role)
		if err != nil {
			return err
		}
		if len(list) == 0 && len(w.notes) == 0 && x.Where == "" {
			return ask.Errorf("member remove needs somebody to remove: addresses, --from or --where")
		}
		if x.takeOut(w, g, list, len(groups) == 1) {
			touched = append(touched, g)
		}
	}
	if len(touched) == 0 && !w.wrong && x.Where == "" {
		w.leaveOut("None of them is listed in these groups.")
	}
	w.warnManaged(touched...)
	return nil
}

// takeOut removes people from a group, and reports whether it lists any. alone
// says that this is the only group that is asked for.
func (x *MemberRemoval) takeOut(w *work, g estate.ID, list []somebody, alone bool) bool {
	touched := false
	for _, one := range list {
		if x.Role != "" {
			listed := w.Estate.Group(g).Owners
			if x.Role == "moderators" {
				listed = w.Estate.Group(g).Moderators
			}
			if slices.ContainsFunc(listed, func(l estate.Listed) bool { return l.ID == one.id }) {
				drop := []string{w.Estate.Address(one.id).String()}
				w.draft.Apply(change.SetList{Group: g, Setting: x.Role, Drop: drop})
				touched = true
			}
			continue
		}
		entries := entriesOf(w.Estate, g, one.id)
		if one.id == estate.None {
			entries = nobodyEntries(w.Estate, g, one.address)
		}
		for _, entry := range entries {
			w.draft.Apply(change.RemoveMember{Group: g, Entry: entry})
			touched = true
		}
		if one.id == estate.None || !w.Estate.IsPerson(one.id) {
			continue
		}
		if len(entries) == 0 && alone && x.Where == "" && w.isMember(g, one.id) {
			w.noDirectMember(g, one)
		}
	}
	return touched
}

// isMember reports whether somebody is a member of a group, in whatever way.
func (w *work) isMember(g, person estate.ID) bool {
	_, is := w.Resolver.Flow(g, resolve.Message{}).Best(person)
	return is
}

// noDirectMember reports somebody whom a rule or a nested group makes a member.
func (w *work) noDirectMember(g estate.ID, one somebody) {
	w.leaveOut("%s is no direct member of %s: %s brings them in", one.address, w.Estate.Address(g), w.bringsIn(g, one.id))
}

// bringsIn names what makes somebody a member of a group apart from an entry.
func (w *work) bringsIn(g, person estate.ID) string {
	for _, rule := range w.Estate.Rules(g) {
		if rule.Filter == nil && w.Estate.Inside(person) {
			return "the rule everyone"
		}
		if rule.Filter != nil && w.Estate.Inside(person) && w.Estate.Matches(person, rule.Filter) {
			return "the rule " + rule.Filter.String()
		}
	}
	for _, child := range w.Estate.Children(g) {
		if w.isMember(child.Group, person) {
			return w.Estate.Address(child.Group).String()
		}
	}
	return "a nested group"
}

// MemberSettings are what members of groups are to get from now on; of nobody in particular: all that are named.
type MemberSettings struct {
	Groups ask.Groups
	Who
	Membership Membership
}

func (x *MemberSettings) propose(w *work) error {
	groups, err := w.groups(x.Groups)
	if err != nil {
		return err
	}
	touched := []estate.ID{}
	for _, g := range groups {
		changed, err := x.setIn(w, g, len(groups) == 1)
		if err != nil {
			return err
		}
		if changed {
			touched = append(touched, g)
		}
	}
	w.warnManaged(touched...)
	return nil
}

// setIn changes entries of a group.
func (x *MemberSettings) setIn(w *work, g estate.ID, alone bool) (bool, error) {
	all := x.isNobody()
	list, err := w.chosen(g, &x.Who, "changed", "")
	if err != nil {
		return false, err
	}
	picked := map[estate.ID]bool{}
	for _, one := range list {
		picked[one.id] = true
	}
	changed := false
	listed := map[estate.ID]bool{}
	for i, entry := range w.Estate.Entries(g) {
		listed[entry.Member] = true
		if !all && !picked[entry.Member] {
			continue
		}
		m, err := x.Membership.of(entry.Membership())
		if err != nil {
			return false, err
		}
		if w.Estate.IsGroup(entry.Member) {
			if all || m.Copy == entry.Copy() {
				continue // what is said of people is not meant for nested groups
			}
			m = estate.Membership{Copy: m.Copy}
		}
		if m != entry.Membership() {
			w.draft.Apply(change.SetMember{Group: g, Entry: i, Membership: m})
			changed = true
		}
	}
	for _, one := range list {
		if listed[one.id] || x.Where != "" || !alone {
			continue
		}
		if one.id != estate.None && w.Estate.IsPerson(one.id) && w.isMember(g, one.id) {
			w.noDirectMember(g, one)
		} else {
			w.leaveOut("%s is no member of %s", one.address, w.Estate.Address(g))
		}
	}
	return changed, nil
}
