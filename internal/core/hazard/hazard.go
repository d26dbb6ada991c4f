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

// SeverityWords are the words of the severities.
var SeverityWords = []string{"high", "medium", "low"}

func (s Severity) String() string { return SeverityWords[s] }

// A Check is one kind of hazard.
type Check struct {
	Name     string
	Severity Severity
	Trap     string // what it is, in one line
	Doc      string // why it bites, and an example
	Cure     string // what to do
	Run      func(*Pass)

	copies bool // it looks at who gets what, rather than at gates
}

// All are the checks, the worst first.
var All = []*Check{
	&nobodyApproves, &approverUnreachable, &noWayIn, &nestedStops, &noSuchAddress, &forgeable, &voiceUnprovable,
	&nestedWaits, &codeShutOut, &unreachableMember, &getsNothing, &olderMembersDiffer, &outsideReader, &deadRule, &loop, &noMembers, &noOwner,
	&ownerLeftOut, &answersShowPerson, &membersOnShow, &twiceAMember, &sameMembers,
}

// A Finding is a hazard in an estate.
type Finding struct {
	Check   *Check
	Group   estate.ID
	Address string // of whom it concerns, or ""
	Place   estate.Place
	Says    string // what will go wrong
	Fix     string // what to do

	// Witness is a message that shows it, where one does: From is valid then.
	Witness Witness
	// Accepted is set where the estate says that this finding is meant to be, with
	// the reason that it gives.
	Accepted bool
	Because  string
}

// A Witness is a message to the group of a finding.
type Witness struct {
	From    address.Address
	Message resolve.Message
}

// A Pass is one run of a check over an estate.
type Pass struct {
	E *estate.Estate
	R *resolve.Resolver

	concerns func(estate.ID) bool // nil: all groups
	check    *Check
	findings []Finding
	flows    map[estate.ID][]flow
	gates    map[gateMessage][]*roaring.Bitmap
	verdict  map[string][]*roaring.Bitmap // by gate, see verdictSets
	alive    map[estate.ID][]bool         // see aliveRules
	keys     []string                     // by group, see gateKey
	further  []resolve.Sender             // see furtherAddresses
	outside  *roaring.Bitmap              // people whose main address is outside
	surveys  []*resolve.Survey            // by group, see survey
	direct   [][]membership               // by group, see memberships
}

// gateMessage is a gate and a message that it was asked about.
type gateMessage struct {
	gate    string
	message resolve.Message
}

// Run runs checks over an estate. The findings come by severity and then in the
// order of checks and groups.
func Run(r *resolve.Resolver, checks []*Check) []Finding { return RunOn(r, checks, nil) }

// RunOn is Run for some groups only, those that concerns is true for; nil means
// all. What takes two groups to find is found in any.
func RunOn(r *resolve.Resolver, checks []*Check, concerns func(estate.ID) bool) []Finding {
	// What gates say and what members get is worked out apart, side by side.
	var others []Finding
	done := make(chan struct{})
	go func() {
		defer close(done)
		others = newPass(r.Fork(), concerns).run(checks, true)
	}()
	findings := newPass(r, concerns).run(checks, false)
	<-done
	findings = append(findings, others...)
	order := map[*Check]int{}
	for i, check := range checks {
		order[check] = i
	}
	slices.SortStableFunc(findings, func(a, b Finding) int {
		if a.Check.Severity != b.Check.Severity {
			return int(a.Check.Severity) - int(b.Check.Severity)
		}
		return order[a.Check] - order[b.Check]
	})
	return findings
}

func newPass(r *resolve.Resolver, concerns func(estate.ID) bool) *Pass {
	p := &Pass{
		E: r.Estate(), R: r, concerns: concerns,
		flows:   map[estate.ID][]flow{},
		gates:   map[gateMessage][]*roaring.Bitmap{},
		verdict: map[string][]*roaring.Bitmap{},
		alive:   map[estate.ID][]bool{},
		keys:    make([]string, r.Estate().Groups()),
		outside: roaring.New(),
	}
	for i := range p.E.People() {
		if id := p.E.PersonID(i); !p.E.Inside(id) {
			p.outside.Add(uint32(id))
		}
	}
	return p
}

// run runs those of checks that are about copies, or those that are not.
func (p *Pass) run(checks []*Check, copies bool) []Finding {
	for _, check := range checks {
		if check.copies == copies {
			p.check = check
			check.Run(p)
		}
	}
	for i := range p.findings {
		p.accept(&p.findings[i])
	}
	return p.findings
}

// Stale returns the acceptances of the estate that no finding needs, of those
// that name one of the checks.
func Stale(e *estate.Estate, checks []*Check, findings []Finding) []estate.Acceptance {
	used := map[estate.Place]bool{}
	for _, f := range findings {
		for _, a := range e.Group(f.Group).Accepted {
			if a.Hazard == f.Check.Name && (a.Address == "" || strings.EqualFold(a.Address, f.Address)) {
				used[a.Place] = true
			}
		}
	}
	var stale []estate.Acceptance
	for id := range estate.ID(e.Groups()) {
		for _, a := range e.Group(id).Accepted {
			if !used[a.Place] && slices.ContainsFunc(checks, func(c *Check) bool { return c.Name == a.Hazard }) {
				stale = append(stale, a)
			}
		}
	}
	return stale
}

func (p *Pass) accept(f *Finding) {
	for _, a := range p.E.Group(f.Group).Accepted {
		if a.Hazard == f.Check.Name && (a.Address == "" || strings.EqualFold(a.Address, f.Address)) {
			f.Accepted, f.Because = true, a.Because
			return
		}
	}
}

// report notes a finding of the check at hand.
func (p *Pass) report(f Finding) {
	f.Check = p.check
	p.findings = append(p.findings, f)
}

// groups calls visit with every group that the run is about.
func (p *Pass) groups(visit func(id estate.ID, g *estate.Group)) {
	for id := range estate.ID(p.E.Groups()) {
		if p.concerns == nil || p.concerns(id) {
			visit(id, p.E.Group(id))
		}
	}
}

// mailed calls visit with every group that takes mail.
func (p *Pass) mailed(visit func(id estate.ID, g *estate.Group)) {
	p.groups(func(id estate.ID, g *estate.Group) {
		if g.Kind != estate.Roster {
			visit(id, g)
		}
	})
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

// where returns the place of a setting of a group, or else of the group.
func where(g *estate.Group, setting string) estate.Place {
	if place := g.Where(setting); place != (estate.Place{}) {
		return place
	}
	return g.Place
}

// count returns a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}
