// Package hazard finds what in an estate is going to bite.
//
// Each kind of hazard is one Check, in a file of its own, listed in All. A check
// reports findings; it cannot fail.
package hazard

import (
	"slices"
	"strconv"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Severity says how much a hazard matters.
type Severity uint8

// The severities.
const (
	High Severity = iota
	Medium
	Low
)

// SeverityWords returns the words of the severities, in the order of their constants.
func SeverityWords() []string { return slices.Clone(severityWords) }

var severityWords = []string{"high", "medium", "low"}

func (s Severity) String() string { return severityWords[s] }

// A Check is one kind of hazard.
type Check struct {
	Name     string
	Severity Severity
	Trap     string // what it is, in one line
	Doc      string // why it bites, and an example
	Cure     string // what to do
	// Run looks at one group, and reports what it finds to the Pass.
	Run func(p *Pass, id estate.ID, g *estate.Group)

	// byAddress is set where what is wrong is about the address of a finding (a gate, a name), in
	// whatever groups it is found.
	byAddress bool

	mailed bool // Run looks at groups that take mail, not at rosters
	// edge looks at the edge of the estate.
	edge func(p *Pass)
	// alike, in place of Run, looks at a group that is like an earlier one in who
	// gets what of its mail, over which nested groups.
	alike func(p *Pass, id, earlier estate.ID)
}

// All returns the checks, the worst first.
func All() []*Check { return slices.Clone(all) }

var all = []*Check{
	&nobodyApproves, &approverUnreachable, &noWayIn, &nestedStops, &noSuchAddress, &forgeable, &sendAsUnprovable,
	&outsideSendsAs, &authorUnanswered, &outsideMemberBarred, &loop,
	&nestedWaits, &codeShutOut, &unreachableMember, &getsNothing, &olderMembersDiffer,
	&outsideReader, &deadRule, &noMembers, &noOwner, &lookalike, &namesClosed,
	&ownerLeftOut, &missesInvitations, &answersShowPerson, &membersOnShow, &twiceAMember, &sameMembers,
}

// A Finding is a hazard in an estate.
type Finding struct {
	Check    *Check
	Severity Severity  // that of the check, or Low where other than default messages alone show it
	Group    estate.ID // or estate.None, where it is about the edge of the estate
	Address  string    // of whom it concerns, or ""
	Place    estate.Place
	// Detail tells findings apart that are about the same address: rules as they are
	// written, addresses.
	Detail []string

	Witness *Witness // a message that shows it, where one does
	// Accepted is set where the estate says that this finding is meant to be, with
	// the reason that it gives.
	Accepted bool
	Because  string

	text func() (says, fix string)
	// own is set where what is wrong is with the address itself, as with Check.byAddress.
	own bool
}

// ByAddress reports whether what is wrong is about the address, in whatever groups it is
// found: one change there cures all of them.
func (f *Finding) ByAddress() bool { return f.Check.byAddress || f.own }

// Text returns what will go wrong, and what to do.
func (f Finding) Text() (says, fix string) { return f.text() }

// A Witness is a message to the group of a finding.
type Witness struct {
	From    address.Address
	Message resolve.Message
}

// Run runs checks over an estate, several groups at a time. The findings come by
// severity and then in the order of checks and groups.
func Run(r *resolve.Resolver, checks []*Check) []Finding {
	type stretch struct {
		pass  *Pass
		found *ByCheck
	}
	var passes []*Pass
	var found []*ByCheck
	for _, done := range resolve.SideBySide(r, func(fork *resolve.Resolver, from, to estate.ID) stretch {
		found := NewByCheck(checks)
		pass := NewPass(fork, checks, found.Add)
		for id := from; id < to; id++ {
			pass.Look(id)
		}
		return stretch{pass, found}
	}) {
		passes, found = append(passes, done.pass), append(found, done.found)
	}
	Finish(passes...)
	return Findings(found...)
}

// A Pass runs checks over groups of an estate, one group after the other.
type Pass struct {
	E *estate.Estate
	R *resolve.Resolver

	checks []*Check
	pairs  bool   // there are checks of two groups
	check  *Check // the one at hand
	visit  func(Finding)
	groupMemory
	estateMemory
}

// NewPass returns a Pass that calls visit with what it finds.
func NewPass(r *resolve.Resolver, checks []*Check, visit func(Finding)) *Pass {
	p := &Pass{E: r.Estate(), R: r, checks: checks, visit: visit}
	p.pairs = slices.ContainsFunc(checks, func(c *Check) bool { return c.alike != nil })
	p.estateMemory = estateMemory{
		classes: map[gateMessage][]*roaring.Bitmap{},
		gates:   map[gateMessage]letIn{},
		ruled:   map[string]*rulings{},
		keys:    make([]string, p.E.Groups()),
		outside: roaring.New(),
		doubts:  map[string]string{},
		ringed:  map[estate.ID]bool{},
		prints:  map[estate.ID]resolve.Fingerprint{},
	}
	for i := range p.E.People() {
		if id := p.E.PersonID(i); !p.E.Inside(id) {
			p.outside.Add(uint32(id))
		}
	}
	return p
}

// Look runs the checks over a group.
func (p *Pass) Look(id estate.ID) {
	g := p.E.Group(id)
	p.groupMemory = groupMemory{group: id, list: p.list, own: map[gateMessage][]*roaring.Bitmap{}}
	for _, check := range p.checks {
		if check.Run != nil && !(check.mailed && g.Kind == estate.Roster) {
			p.check = check
			check.Run(p, id, g)
		}
	}
	p.PassOver(id)
}

// PassOver notes a group for the checks of two groups, and runs no others over it.
func (p *Pass) PassOver(id estate.ID) {
	if p.pairs && p.R.Reaches(id) {
		p.prints[id] = p.R.Fingerprint(id)
	}
}

// Finish runs the checks of two groups and of the edge, once every group has been looked
// at or passed over by one of some passes over the same estate.
func Finish(passes ...*Pass) {
	p := passes[0]
	p.groupMemory = groupMemory{group: estate.None, own: map[gateMessage][]*roaring.Bitmap{}}
	for _, check := range p.checks {
		if check.edge != nil {
			p.check = check
			check.edge(p)
		}
	}
	type looks struct {
		print resolve.Fingerprint
		rules string
	}
	first := map[looks]estate.ID{}
	for id := range estate.ID(p.E.Groups()) {
		for _, pass := range passes {
			print, ok := pass.prints[id]
			if !ok {
				continue
			}
			of := looks{print, rulesText(p.E.Group(id))}
			earlier, alike := first[of]
			if !alike {
				first[of] = id
				continue
			}
			for _, check := range p.checks {
				if check.alike != nil {
					p.check = check
					check.alike(p, id, earlier)
				}
			}
		}
	}
}

// report passes on a finding of the check at hand that holds for default messages.
func (p *Pass) report(f Finding) { p.reportAs(usual, f) }

// reportAs passes on a finding of the check at hand that holds as far as u.
func (p *Pass) reportAs(u use, f Finding) {
	f.Check, f.Severity = p.check, u.severity(p.check.Severity)
	var accepted []estate.Acceptance
	if f.Group != estate.None {
		accepted = p.E.Group(f.Group).Accepted
	}
	for _, a := range accepted {
		if accepts(a, &f) {
			f.Accepted, f.Because = true, a.Because
			break
		}
	}
	p.visit(f)
}

func accepts(a estate.Acceptance, f *Finding) bool {
	return a.Hazard == f.Check.Name && (a.Address == "" || address.Same(a.Address, f.Address))
}

// ByCheck gathers findings by severity, and then by check, the worst first.
type ByCheck struct {
	order    map[*Check]int
	findings [][]Finding // by severity and the order of the check
}

// NewByCheck returns an empty ByCheck.
func NewByCheck(checks []*Check) *ByCheck {
	sorted := slices.Clone(checks)
	slices.SortStableFunc(sorted, func(a, b *Check) int { return int(a.Severity) - int(b.Severity) })
	s := &ByCheck{order: map[*Check]int{}, findings: make([][]Finding, len(severityWords)*len(sorted))}
	for i, check := range sorted {
		s.order[check] = i
	}
	return s
}

// Add adds a finding of one of the checks.
func (s *ByCheck) Add(f Finding) {
	i := int(f.Severity)*len(s.order) + s.order[f.Check]
	s.findings[i] = append(s.findings[i], f)
}

// Findings returns what several hold of the same checks, check by check.
func Findings(several ...*ByCheck) []Finding {
	var parts [][]Finding
	for i := range several[0].findings {
		for _, s := range several {
			parts = append(parts, s.findings[i])
		}
	}
	return slices.Concat(parts...)
}

// Stale returns the acceptances of some groups that no finding needs, of those that name
// one of the checks.
func Stale(e *estate.Estate, checks []*Check, findings []Finding, groups []estate.ID) []estate.Acceptance {
	used := map[estate.Place]bool{}
	for i := range findings {
		if findings[i].Group == estate.None {
			continue
		}
		for _, a := range e.Group(findings[i].Group).Accepted {
			if accepts(a, &findings[i]) {
				used[a.Place] = true
			}
		}
	}
	var stale []estate.Acceptance
	for _, id := range groups {
		for _, a := range e.Group(id).Accepted {
			if !used[a.Place] && slices.ContainsFunc(checks, func(c *Check) bool { return c.Name == a.Hazard }) {
				stale = append(stale, a)
			}
		}
	}
	return stale
}

func (p *Pass) name(id estate.ID) string { return p.E.Address(id).String() }

// names lists people and groups: some of them, and how many more.
func (p *Pass) names(ids []estate.ID) string { return p.some(ids[:min(mostNames, len(ids))], len(ids)) }

// mostNames is how many are named in a sentence.
const mostNames = 3

// some lists some of so many.
func (p *Pass) some(ids []estate.ID, total int) string {
	var list []string
	for _, id := range ids {
		list = append(list, p.name(id))
	}
	if total > len(ids) {
		return strings.Join(list, ", ") + " and " + strconv.Itoa(total-len(ids)) + " more"
	}
	if len(list) > 1 {
		return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
	}
	return strings.Join(list, "")
}

// people returns the first people of a set, and how many there are.
func (p *Pass) people(set *roaring.Bitmap) (some []estate.ID, total int) {
	total = int(set.GetCardinality())
	if groups := uint32(p.E.Groups()); groups > 0 {
		total -= int(set.Rank(groups - 1))
	}
	it := set.Iterator()
	it.AdvanceIfNeeded(uint32(p.E.Groups()))
	for len(some) < mostNames && it.HasNext() {
		some = append(some, estate.ID(it.Next()))
	}
	return some, total
}

// first returns one of a set: a person, if there is one.
func (p *Pass) first(set *roaring.Bitmap) estate.ID {
	it := set.Iterator()
	it.AdvanceIfNeeded(uint32(p.E.Groups()))
	if it.HasNext() {
		return estate.ID(it.Next())
	}
	return estate.ID(set.Minimum())
}

// command quotes a command that sets something of a group.
func (p *Pass) command(verb string, id estate.ID, rest string) string {
	return "yorvet " + verb + " " + p.name(id) + " " + rest
}

// where returns the place of a setting of a group, or else of the group.
func where(g *estate.Group, setting string) estate.Place {
	if place := g.Where(setting); place != (estate.Place{}) {
		return place
	}
	return g.Place
}

// count returns a number with its noun.
func count(n int, one, many string) string { return strconv.Itoa(n) + " " + choose(n, one, many) }

// choose returns the word for one, or that for several.
func choose(n int, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}
