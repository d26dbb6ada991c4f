package hazard_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/sample"
)

// This file finds hazards plainly: every sender with every message, one by one, and every
// person. Random estates have to come out the same.

// plain is one look at an estate.
type plain struct {
	r     *resolve.Resolver
	e     *estate.Estate
	found map[string]bool
}

// try is one message.
type try struct {
	s     resolve.Sender
	m     resolve.Message
	usual bool
}

func (p *plain) note(name string, severity hazard.Severity, id estate.ID, address string) {
	group := ""
	if id != estate.None {
		group = p.e.Address(id).String()
	}
	p.found[fmt.Sprint(name, " ", severity, " ", group, " ", address)] = true
}

// senders returns everybody tried but the forged stranger.
func (p *plain) senders() []resolve.Sender {
	strangers := p.r.Strangers()
	list := []resolve.Sender{strangers.Outside, strangers.Inside}
	add := func(main address.Address, also []address.Address) {
		for _, a := range append([]address.Address{main}, also...) {
			list = append(list, p.r.Sender(a))
		}
	}
	named := func(rules []estate.GateRule) {
		for _, rule := range rules {
			selector.Atoms(rule.Selector, func(a *selector.Atom) {
				switch a.Kind {
				case selector.Is:
					if codes := p.e.Settings().CodeSender; !codes.IsValid() || p.e.Key(codes) != p.e.Key(a.Address) {
						list = append(list, p.r.Sender(a.Address))
					}
				case selector.At:
					list = append(list, p.r.Sender(address.MustParse("somebody-else@"+a.Domain)))
				case selector.Below:
					list = append(list, p.r.Sender(address.MustParse("somebody-else@below."+a.Domain)))
				}
			})
		}
	}
	for id := range estate.ID(p.e.Groups()) {
		add(p.e.Group(id).Address, p.e.Group(id).Also)
		named(p.e.Group(id).Gate)
	}
	for i := range p.e.People() {
		person := p.e.Person(p.e.PersonID(i))
		add(person.Address, person.Also)
	}
	named(p.e.Settings().Edge)
	return list
}

// tries returns all messages that the gates of some groups may tell apart.
func (p *plain) tries(ids ...estate.ID) []try {
	kinds, sizes := map[selector.Kind]bool{}, []int64{0}
	rules := slices.Clone(p.e.Settings().Edge)
	for _, id := range ids {
		rules = append(rules, p.e.Group(id).Gate...)
	}
	for _, rule := range rules {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			if kinds[a.Kind] = true; a.Kind == selector.Larger {
				sizes = append(sizes, a.Size+1)
			}
		})
	}
	var list []try
	senders := p.senders()
	for bits := range 16 {
		m := resolve.Message{Unproven: bits&1 > 0, Suspect: bits&2 > 0, Automatic: bits&4 > 0, Invitation: bits&8 > 0}
		if m.Suspect && !kinds[selector.Suspect] || m.Automatic && !kinds[selector.Automatic] || m.Invitation && !kinds[selector.Invitation] {
			continue
		}
		for _, size := range sizes {
			m.Size = size
			switch {
			case m.Unproven && !kinds[selector.Unproven]:
				list = append(list, try{p.r.Strangers().Inside, m, false})
			default:
				for _, s := range senders {
					list = append(list, try{s, m, m == resolve.Message{}})
				}
			}
		}
	}
	return list
}

// worst is the severity of a hazard that some tries show, if any does.
func worst(tries []try, severity hazard.Severity, shows func(try) bool) (hazard.Severity, bool) {
	found := false
	for _, t := range tries {
		if shows(t) {
			if t.usual {
				return severity, true
			}
			found = true
		}
	}
	return hazard.Low, found
}

func (p *plain) isOutside(s resolve.Sender) bool {
	if s.ID != estate.None {
		return !p.e.Inside(s.ID)
	}
	return !s.Inside
}

func (p *plain) verdict(id estate.ID, t try) estate.Verdict {
	return p.r.Gate(id).Post(t.s, t.m).Verdict
}

// outcomes returns who gets what, by ID.
func (p *plain) outcomes(id estate.ID, s *resolve.Sender, m resolve.Message) map[estate.ID]resolve.Outcome {
	list := map[estate.ID]resolve.Outcome{}
	for _, recipient := range p.r.Deliver(resolve.Query{Group: id, Sender: s, Message: m}).Recipients() {
		if p.e.IsPerson(recipient.ID) {
			list[recipient.ID] = recipient.Outcome
		}
	}
	return list
}

// look finds the hazards of one group.
func (p *plain) look(id estate.ID) {
	g := p.e.Group(id)
	tries := p.tries(id)
	gets := p.outcomes(id, nil, resolve.Message{})
	p.wanting(id, g, gets)
	p.named(id)
	p.sending(id, g, tries)
	if g.Kind != estate.Roster {
		p.posting(id, g, tries, gets)
		p.nested(id)
		p.reading(id, g)
	}
}

// posting looks at who may post.
func (p *plain) posting(id estate.ID, g *estate.Group, tries []try, gets map[estate.ID]resolve.Outcome) {
	approvers, _ := p.r.Approvers(id)
	reachable := slices.ContainsFunc(approvers, func(x estate.ID) bool { return p.e.Person(x).Mailbox == estate.MailboxOpen })
	is := func(list ...estate.Verdict) func(try) bool {
		return func(t try) bool { return slices.Contains(list, p.verdict(id, t)) }
	}
	if severity, held := worst(tries, hazard.High, is(estate.Hold)); held && len(approvers) == 0 {
		p.note("nobody-approves", severity, id, "")
	} else if held && !reachable {
		p.note("approver-unreachable", severity, id, "")
	}
	path := slices.ContainsFunc(tries, is(estate.Admit)) || len(approvers) > 0 && slices.ContainsFunc(tries, is(estate.Hold))
	if !path {
		p.note("no-way-in", hazard.High, id, "")
	}
	_, outsiders := worst(tries, hazard.High, func(t try) bool {
		return p.isOutside(t.s) && is(estate.Admit, estate.Hold)(t)
	})
	copies := slices.ContainsFunc(slices.Collect(mapValues(gets)), func(o resolve.Outcome) bool { return o <= resolve.Digest })
	lacks, unanswered := worst(tries, hazard.High, func(t try) bool {
		o, member := gets[t.s.ID]
		return p.isOutside(t.s) && is(estate.Admit, estate.Hold)(t) && !(member && o <= resolve.Digest)
	})
	if unanswered && (g.RepliesTo != estate.PartyPerson || g.RepliesToAt.IsValid()) && g.Kind != estate.Mailbox && copies {
		p.note("author-unanswered", lacks, id, "")
	}
	members, send := 0, 0
	for i := range p.e.People() {
		person := p.e.PersonID(i)
		if p.r.Members(id).Contains(uint32(person)) {
			members++
			if as, _ := p.r.Rights(id).SendAs(p.r.Sender(p.e.Address(person))); as != estate.NoSendAs {
				send++
			}
		}
	}
	if outsiders && members > 0 && (send == 0 || g.RepliesAs == estate.PartyPerson) {
		p.note("answers-show-person", hazard.Low, id, "")
	}
	var forged *hazard.Severity
	for _, t := range p.forgeries(id) {
		honest := t.m
		honest.Unproven = false
		if p.verdict(id, t) == estate.Admit && p.r.Gate(id).Post(p.r.Strangers().Outside, honest).Verdict != estate.Admit {
			severity := hazard.Low
			if honest == (resolve.Message{}) {
				severity = hazard.High
			}
			if forged == nil || severity < *forged {
				forged = &severity
			}
		}
	}
	if forged != nil {
		p.note("forgeable", *forged, id, "")
	}
}

// forgeries returns every unproven message that claims a known address.
func (p *plain) forgeries(id estate.ID) []try {
	var list []try
	for _, t := range p.tries(id) {
		m := t.m
		m.Unproven = true
		for _, s := range p.senders() {
			if t.s.Address == p.r.Strangers().Outside.Address && s.ID != estate.None {
				list = append(list, try{s, m, false})
			}
		}
	}
	return list
}

func mapValues(m map[estate.ID]resolve.Outcome) func(func(resolve.Outcome) bool) {
	return func(yield func(resolve.Outcome) bool) {
		for _, o := range m {
			if !yield(o) {
				return
			}
		}
	}
}

// sending looks at who sends as a group, and at dead rules.
func (p *plain) sending(id estate.ID, g *estate.Group, tries []try) {
	for _, s := range p.r.Rights(id).Delegates().People {
		if s.Proof == resolve.ProofImpossible {
			p.note("send-as-unprovable", hazard.High, id, p.e.Address(s.ID).String())
		}
	}
	senders := p.senders()
	for _, rule := range g.SendAs {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			if a.Kind == selector.Is {
				senders = append(senders, p.r.Sender(a.Address))
			}
		})
	}
	for _, s := range senders {
		if as, _ := p.r.Rights(id).SendAs(s); as != estate.NoSendAs && p.isOutside(s) {
			p.note("outside-sends-as", hazard.High, id, "")
		}
	}
	if codes := p.e.Settings().CodeSender; g.SendAsProof == estate.ProofMailedCode &&
		(!codes.IsValid() || p.r.Gate(id).Post(p.r.Sender(codes), resolve.Message{Automatic: true}).Verdict != estate.Admit) {
		p.note("code-shut-out", hazard.Medium, id, "")
	}
	alive := map[int]bool{}
	for _, t := range tries {
		alive[p.r.Gate(id).Post(t.s, t.m).Rule] = true
		if codes := p.e.Settings().CodeSender; codes.IsValid() {
			alive[p.r.Gate(id).Post(p.r.Sender(codes), t.m).Rule] = true
		}
		for _, rule := range p.imagined(g.Gate, id, t) {
			alive[rule] = true
		}
	}
	if g.Where("gate") != (estate.Place{}) {
		for i := range g.Gate {
			if g.Kind == estate.Roster || !alive[i+1] {
				p.note(fmt.Sprint("dead-rule gate ", i+1), hazard.Medium, id, "")
			}
		}
	}
}

// imagined returns the rules of a gate that decide for somebody who would be a new member.
func (p *plain) imagined(gate []estate.GateRule, id estate.ID, t try) []int {
	ask := func(a *selector.Atom) bool {
		switch a.Kind {
		case selector.Members, selector.Known:
			return true
		case selector.Newcomers:
			return true
		case selector.In:
			other, _ := p.e.Find(a.Address)
			if other == id || p.r.Members(other).Contains(uint32(id)) {
				return true
			}
		}
		return p.r.Eval(id, a, t.s, t.m)
	}
	strangers := p.r.Strangers()
	if t.s.ID == estate.None && t.s.Address != strangers.Outside.Address && t.s.Address != strangers.Inside.Address ||
		t.s.ID != estate.None && p.e.IsGroup(t.s.ID) {
		return nil // it is a person of the estate, or somebody new
	}
	if slices.ContainsFunc(p.e.Settings().Edge, func(rule estate.GateRule) bool { return selector.Eval(rule.Selector, ask) }) {
		return nil
	}
	for i, rule := range gate {
		if selector.Eval(rule.Selector, ask) {
			return []int{i + 1}
		}
	}
	return nil
}

// wanting looks at what people get.
func (p *plain) wanting(id estate.ID, g *estate.Group, gets map[estate.ID]resolve.Outcome) {
	flow := g.Kind == estate.List || g.Kind == estate.Forum
	older := false
	p.r.EachMembership(id, func(person estate.ID, wish resolve.Wish, _ estate.Place) {
		outcome, any := gets[person]
		name := p.e.Address(person).String()
		wants := wish.Written == estate.CopyEvery || wish.Written == estate.CopyDigest
		shut := p.e.Person(person).Mailbox != estate.MailboxOpen
		paused := wish.Muting == resolve.MutedPaused
		if flow && wants && (shut || paused) && (!any || outcome == resolve.Nothing || outcome == resolve.Undeliverable) {
			p.note("unreachable-member", hazard.Medium, id, name)
		}
		if g.Kind == estate.List && !wants && !paused && outcome == resolve.Nothing {
			p.note("gets-nothing", hazard.Medium, id, name)
		}
		if wish.Source != resolve.FromMembership && !wants && outcome != resolve.Inbox && outcome != resolve.Digest && outcome != resolve.Undeliverable {
			older = true
		}
	})
	if flow && older && (g.Joiners == estate.CopyEvery || g.Joiners == estate.CopyDigest) {
		p.note("older-members-differ", hazard.Medium, id, "")
	}
	if len(p.r.Owners(id)) == 0 {
		p.note("no-owner", hazard.Medium, id, "")
	}
	if !p.r.Members(id).IsEmpty() && p.r.Eval(id, g.Access[estate.SeeMembers].Selector, p.r.Strangers().Outside, resolve.Message{}) {
		p.note("members-on-show", hazard.Low, id, "")
	}
	listed := map[estate.ID]int{}
	for _, entry := range p.e.Entries(id) {
		if listed[entry.Member]++; listed[entry.Member] == 2 && !entry.Member.IsNobody() {
			p.note("twice-a-member", hazard.Low, id, p.e.Address(entry.Member).String())
		}
	}
	if g.Kind == estate.Roster {
		return
	}
	for _, owner := range p.r.Owners(id) {
		if outcome, any := gets[owner]; !any || outcome == resolve.Nothing {
			p.note("owner-left-out", hazard.Low, id, p.e.Address(owner).String())
		}
	}
	invited := p.outcomes(id, nil, resolve.Message{Invitation: true})
	invitations := slices.ContainsFunc(p.tries(id), func(t try) bool {
		t.m.Invitation = true
		v := p.verdict(id, t)
		return v == estate.Admit || v == estate.Hold
	})
	reached := false
	for person, outcome := range gets {
		name := p.e.Address(person).String()
		if outside := !p.e.Inside(person); outside && g.NoOutsideMembers && (outcome <= resolve.Digest || outcome == resolve.Archive) {
			p.note("outside-member-barred", hazard.High, id, name)
		}
		if now, any := invited[person]; outcome <= resolve.Digest && invitations && (!any || now > resolve.Digest) {
			p.note("misses-invitations", hazard.Low, id, name)
		}
		reached = reached || outcome <= resolve.Digest || outcome == resolve.Archive
	}
	for _, outcome := range invited {
		reached = reached || outcome == resolve.Inbox
	}
	if !reached {
		p.note("no-members", hazard.Medium, id, "")
	}
}

// named looks at what a group, or the edge, names.
func (p *plain) named(id estate.ID) {
	for _, u := range p.e.Unknown() {
		if u.Group == id {
			p.note("no-such-address", hazard.High, id, u.Address.String())
		}
	}
	suspicious := func(a address.Address) {
		if p.e.InsideDomain(a.Domain()) {
			return
		}
		for _, d := range p.e.Settings().Domains {
			if distance(a.Domain(), d.Name) == 1 || !strings.Contains(a.Domain(), ".") {
				p.note("lookalike", hazard.Medium, id, a.String())
			}
		}
	}
	var rules []selector.Expr
	if id == estate.None {
		for _, rule := range p.e.Settings().Edge {
			rules = append(rules, rule.Selector)
		}
	} else {
		g := p.e.Group(id)
		for _, rule := range g.Gate {
			rules = append(rules, rule.Selector)
		}
		for _, rule := range g.SendAs {
			rules = append(rules, rule.Selector)
		}
		for _, rule := range g.Selectors {
			rules = append(rules, rule.Selector)
		}
		for _, entry := range p.e.Entries(id) {
			suspicious(p.e.Address(entry.Member))
		}
		for _, one := range slices.Concat(g.Owners, g.Moderators) {
			suspicious(p.e.Address(one.ID))
		}
		if g.RepliesToAt.IsValid() {
			suspicious(g.RepliesToAt)
		}
	}
	for _, rule := range rules {
		selector.Atoms(rule, func(a *selector.Atom) {
			if a.Kind != selector.Is {
				return
			}
			suspicious(a.Address)
			if person, ok := p.e.Find(a.Address); ok && p.e.IsPerson(person) {
				if m := p.e.Person(person).Mailbox; m == estate.MailboxClosed || m == estate.MailboxNone {
					p.note("names-closed", hazard.Medium, id, p.e.Address(person).String())
				}
			}
		})
	}
}

// distance counts the letters to insert, delete and exchange (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost++
			}
			before = row[j+1]
			row[j+1] = min(cost, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}

// nested looks at groups nested directly, with rosters between.
func (p *plain) nested(id estate.ID) {
	if p.e.Settings().OpenNestedGates {
		return
	}
	var inner []estate.ID
	var in func(estate.ID)
	in = func(group estate.ID) {
		if p.e.Group(group).Kind == estate.Mailbox {
			return
		}
		for _, child := range p.e.Children(group) {
			switch {
			case !child.Passes || child.Group == id || slices.Contains(inner, child.Group):
			case p.e.Group(child.Group).Kind == estate.Roster:
				inner = append(inner, child.Group)
				in(child.Group)
			default:
				inner = append(inner, child.Group)
			}
		}
	}
	in(id)
	for _, nested := range inner {
		if p.e.Group(nested).Kind == estate.Roster {
			continue
		}
		for name, want := range map[string]struct {
			severity hazard.Severity
			verdicts []estate.Verdict
		}{"nested-stops": {hazard.High, []estate.Verdict{estate.Refuse, estate.Drop}}, "nested-waits": {hazard.Medium, []estate.Verdict{estate.Hold}}} {
			severity, found := worst(p.tries(id, nested), want.severity, func(t try) bool {
				return p.verdict(id, t) == estate.Admit && slices.Contains(want.verdicts, p.r.Gate(nested).Judge(t.s, t.m).Verdict) &&
					p.misses(id, nested, t)
			})
			if found {
				p.note(name, severity, id, p.e.Address(nested).String())
			}
		}
	}
}

// misses reports whether a member of a nested group, who would get a message of it, gets
// none by another path.
func (p *plain) misses(id, nested estate.ID, t try) bool {
	elsewhere := map[estate.ID]resolve.Outcome{}
	for _, x := range p.r.Deliver(resolve.Query{Group: id, Sender: &t.s, Message: t.m, Author: resolve.NoAuthor,
		Over: func(group estate.ID) bool { return group != nested }}).Outcomes() {
		elsewhere[x.Person] = x.Outcome
	}
	mine := p.outcomes(id, &t.s, t.m)
	for person, outcome := range p.outcomes(nested, nil, t.m) {
		if outcome == resolve.Nothing {
			continue
		}
		now, any := elsewhere[person]
		if any && now != resolve.Nothing && now != resolve.Stopped && now != resolve.Archive {
			continue
		}
		if person == t.s.ID && mine[person] != resolve.Stopped && mine[person] != resolve.Waiting {
			continue // their own message
		}
		return true
	}
	return false
}

// reading looks at who outside reads what is internal.
func (p *plain) reading(id estate.ID, g *estate.Group) {
	gates := []estate.ID{id}
	for _, path := range p.r.Deliver(resolve.Query{Group: id}).Paths[1:] {
		if p.e.Group(path.Group).Kind != estate.Roster { // whose gate is never asked
			gates = append(gates, path.Group)
		}
	}
	internal := map[resolve.Message]bool{}
	tries := p.tries(gates...)
	for _, t := range tries {
		if _, known := internal[t.m]; !known {
			internal[t.m] = false
		}
		if v := p.verdict(id, t); v == estate.Admit && p.e.IsPerson(t.s.ID) && !p.isOutside(t.s) {
			internal[t.m] = true
		}
	}
	for _, t := range tries {
		if v := p.verdict(id, t); p.isOutside(t.s) && (v == estate.Admit || v == estate.Hold) {
			delete(internal, t.m)
		}
	}
	readers := map[estate.ID]hazard.Severity{}
	for _, t := range tries {
		if !internal[t.m] || p.verdict(id, t) != estate.Admit {
			continue
		}
		d := p.r.Deliver(resolve.Query{Group: id, Sender: &t.s, Message: t.m})
		for _, recipient := range d.Recipients() {
			reader := recipient.ID
			if !p.e.IsPerson(reader) || p.e.Inside(reader) || recipient.Outcome > resolve.Digest && recipient.Outcome != resolve.Archive {
				continue
			}
			if entry, _ := p.r.Membership(id, reader); len(d.Via(recipient)) == 1 && entry != nil {
				continue // meant to be
			}
			severity := hazard.Low
			if t.usual {
				severity = hazard.Medium
			}
			if was, known := readers[reader]; !known || severity < was {
				readers[reader] = severity
			}
		}
	}
	for reader, severity := range readers {
		p.note("outside-reader", severity, id, p.e.Address(reader).String())
	}
}

// edge looks at the edge.
func (p *plain) edge() {
	p.named(estate.None)
	alive := map[int]bool{}
	for _, t := range p.tries() {
		alive[p.r.Gate(estate.None).Judge(t.s, t.m).Rule] = true
		if codes := p.e.Settings().CodeSender; codes.IsValid() {
			alive[p.r.Gate(estate.None).Judge(p.r.Sender(codes), t.m).Rule] = true
		}
	}
	for i := range p.e.Settings().Edge {
		if !alive[i+1] {
			p.note(fmt.Sprint("dead-rule edge ", i+1), hazard.Medium, estate.None, "")
		}
	}
}

// On random estates all hazards but two are what trying everything finds: same-members and
// loop are about groups alone, and dead rules of send-as about nobody.
func TestExact(t *testing.T) {
	count := map[string]int{}
	estates := 400
	if os.Getenv("YORVET_LONG") != "" {
		estates = 20000
	}
	for seed := range estates {
		text := sample.Estate(rand.New(rand.NewPCG(uint64(seed), 3)))
		r := sample.Load(t, text)
		p := &plain{r, r.Estate(), map[string]bool{}}
		for id := range estate.ID(p.e.Groups()) {
			p.look(id)
		}
		p.edge()
		var got, want []string
		for _, f := range hazard.Run(r, hazard.All()) {
			confirm(t, r, f)
			count[f.Check.Name]++
			line, ok := inShort(p.e, f)
			if ok {
				got = append(got, line)
			}
		}
		for line := range p.found {
			want = append(want, line)
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Fatalf("estate %d: more %q, fewer %q\n%s", seed, without(got, want), without(want, got), text)
		}
	}
	for _, check := range hazard.All() {
		if count[check.Name] < 1 {
			t.Errorf("%s is found %d times, which tells little", check.Name, count[check.Name])
		}
	}
}

func without(list, other []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(x string) bool { return slices.Contains(other, x) })
}

// inShort writes a finding as the plain look does; false for what that does not look for.
func inShort(e *estate.Estate, f hazard.Finding) (string, bool) {
	name, group := f.Check.Name, ""
	if f.Group != estate.None {
		group = e.Address(f.Group).String()
	}
	switch name {
	case "same-members", "loop":
		return "", false
	case "dead-rule":
		says, _ := f.Text()
		var rule int
		if _, err := fmt.Sscanf(says, "Rule %d of the ", &rule); err != nil || strings.Contains(says, "of the send-as") {
			return "", false
		}
		name += " gate "
		if group == "" {
			name = "dead-rule edge "
		}
		name += fmt.Sprint(rule)
	}
	return fmt.Sprint(name, " ", f.Severity, " ", group, " ", f.Address), true
}
