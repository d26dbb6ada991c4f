// Package hazard finds what in an estate is going to go wrong.
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
	Doc      string // why it goes wrong, and an example
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

// A Finding is a hazard in an estate. There may be hundreds of thousands: what few of them have
// stands apart.
type Finding struct {
	Check   *Check
	Address string // of the one it concerns, or ""
	Place   estate.Place
	Group   estate.ID // or estate.None, where it is about the edge of the estate

	Severity Severity // that of the check, or Low where other than default messages alone show it
	// Accepted is set where the estate says that this finding is intended.
	Accepted bool
	// own is set where what is wrong is with the address itself, as with Check.byAddress.
	own bool

	text func() (says, fix string)
	more *more // or nil
}

// more is what few findings have.
type more struct {
	detail  []string        // see Finding.Detail
	because string          // see Finding.Because
	witness func() *Witness // nil: none
	cure    func() string   // the fix that text gives; nil: text tells
}

// Detail tells findings apart that are about the same address: rules as they are written,
// addresses.
func (f *Finding) Detail() []string {
	if f.more == nil {
		return nil
	}
	return f.more.detail
}

// Because returns the reason that the estate gives for a finding that is intended.
func (f *Finding) Because() string {
	if f.more == nil {
		return ""
	}
	return f.more.because
}

// ByAddress reports whether what is wrong is about the address, in whatever groups it is
// found: one change there cures all of them.
func (f *Finding) ByAddress() bool { return f.Check.byAddress || f.own }

// Text returns what will go wrong, and what to do.
func (f Finding) Text() (says, fix string) { return f.text() }

// Fix returns what to do, as Text does: often in less time.
func (f *Finding) Fix() string {
	if f.more != nil && f.more.cure != nil {
		return f.more.cure()
	}
	_, fix := f.text()
	return fix
}

// Witness returns a message that shows it, or nil where none does.
func (f *Finding) Witness() *Witness {
	if f.more == nil || f.more.witness == nil {
		return nil
	}
	return f.more.witness()
}

// A Witness is a message to the group of a finding.
type Witness struct {
	From    address.Address
	Message resolve.Message
}

// Run runs checks over an estate, several groups at a time. The findings come by
// severity and then in the order of checks and groups.
func Run(r *resolve.Resolver, checks []*Check) []Finding {
	r.Survey() // all forks share it
	found := resolve.SideBySide(r, func(fork *resolve.Resolver, from, to estate.ID) *ByCheck {
		found := NewByCheck(checks)
		pass := NewPass(fork, checks, found.Add)
		for id := from; id < to; id++ {
			pass.Look(id)
		}
		pass.forget()
		return found
	})
	rest := NewByCheck(checks)
	NewPass(r, checks, rest.Add).Finish()
	return Findings(append(found, rest)...)
}

// A Pass runs checks over groups of an estate, one group after the other.
type Pass struct {
	E *estate.Estate
	R *resolve.Resolver

	survey *resolve.Survey
	acceptances
	checks []*Check
	check  *Check // the one at hand
	visit  func(Finding)
	groupMemory
	estateMemory
}

// NewPass returns a Pass that calls visit with what it finds.
func NewPass(r *resolve.Resolver, checks []*Check, visit func(Finding)) *Pass {
	p := &Pass{E: r.Estate(), R: r, survey: r.Survey(), checks: checks, visit: visit}
	p.acceptances = newAcceptances(r)
	p.estateMemory = estateMemory{
		ruled:   map[string]*rulings{},
		outside: roaring.New(),
		doubts:  map[string]string{},
		ringed:  map[estate.ID]bool{},
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
	p.groupMemory = groupMemory{group: id, list: p.list}
	for _, check := range p.checks {
		if check.Run != nil && !(check.mailed && g.Kind == estate.Roster) {
			p.check = check
			check.Run(p, id, g)
		}
	}
}

// Finish runs the checks of the edge, and those of two groups, over the whole estate.
func (p *Pass) Finish() {
	p.groupMemory = groupMemory{group: estate.None}
	for _, check := range p.checks {
		p.check = check
		if check.edge != nil {
			check.edge(p)
		}
		if check.alike != nil {
			p.eachAlike(func(id, earlier estate.ID) { check.alike(p, id, earlier) })
		}
	}
}

// eachAlike visits the groups that are like an earlier one in who gets what of their mail,
// over which nested groups, and in their rules.
func (p *Pass) eachAlike(visit func(id, earlier estate.ID)) {
	type looks struct {
		print resolve.Fingerprint
		rules string
	}
	first := map[looks]estate.ID{}
	for _, id := range p.perhapsAlike() {
		like := looks{p.R.Flow(id, resolve.Message{}).Fingerprint(), rulesText(p.E.Group(id))}
		if earlier, alike := first[like]; alike {
			visit(id, earlier)
		} else {
			first[like] = id
		}
	}
}

// perhapsAlike returns the groups that may be like another one: those whose people get the same,
// by whatever paths. Mail that comes over the same nested groups comes over one that is nested
// directly in both, so those who have none in common with another are left out.
func (p *Pass) perhapsAlike() []estate.ID {
	type people struct {
		kind  estate.Kind
		print uint64
	}
	type shared struct {
		people
		child estate.ID // None: nested groups give nothing
	}
	each := func(id estate.ID, visit func(shared)) {
		of := people{p.E.Group(id).Kind, p.survey.Print(id)}
		if !p.survey.NestedGives(id) {
			visit(shared{of, estate.None})
			return
		}
		for _, child := range p.E.Children(id) {
			if child.Passes {
				visit(shared{of, child.Group})
			}
		}
	}
	counts := map[shared]int{}
	last := map[shared]estate.ID{}
	for id := range estate.ID(p.E.Groups()) {
		if p.survey.Reaches(id) {
			each(id, func(s shared) {
				if other, met := last[s]; !met || other != id {
					counts[s]++
					last[s] = id
				}
			})
		}
	}
	var list []estate.ID
	for id := range estate.ID(p.E.Groups()) {
		alike := false
		if p.survey.Reaches(id) {
			each(id, func(s shared) { alike = alike || counts[s] > 1 })
		}
		if alike {
			list = append(list, id)
		}
	}
	return list
}

// report passes on a finding of the check at hand that holds for default messages.
func (p *Pass) report(f Finding) { p.reportAs(usual, f) }

// reportAs passes on a finding of the check at hand that holds as far as u.
func (p *Pass) reportAs(u use, f Finding) {
	f.Check, f.Severity = p.check, u.severity(p.check.Severity)
	if a := p.acceptances.accepting(&f); len(a) > 0 {
		accepted := more{}
		if f.more != nil {
			accepted = *f.more
		}
		accepted.because = a[0].Because
		f.Accepted, f.more = true, &accepted
	}
	p.visit(f)
}

// ByCheck gathers findings by severity, and then by check, the worst first.
type ByCheck struct {
	order    map[*Check]int
	findings [][][]Finding // by severity and the order of the check: in pieces
}

// mostPiece is how many findings a piece holds at most: there may be very many, and no long
// list is copied to make room.
const mostPiece = 1 << 12

// NewByCheck returns an empty ByCheck.
func NewByCheck(checks []*Check) *ByCheck {
	sorted := slices.Clone(checks)
	slices.SortStableFunc(sorted, func(a, b *Check) int { return int(a.Severity) - int(b.Severity) })
	s := &ByCheck{order: map[*Check]int{}, findings: make([][][]Finding, len(severityWords)*len(sorted))}
	for i, check := range sorted {
		s.order[check] = i
	}
	return s
}

// Add adds a finding of one of the checks.
func (s *ByCheck) Add(f Finding) {
	i := int(f.Severity)*len(s.order) + s.order[f.Check]
	pieces := s.findings[i]
	if last := len(pieces) - 1; last < 0 || len(pieces[last]) == mostPiece {
		pieces = append(pieces, nil)
	}
	last := len(pieces) - 1
	pieces[last] = append(pieces[last], f)
	s.findings[i] = pieces
}

// Findings returns what several hold of the same checks, check by check, and empties them.
func Findings(several ...*ByCheck) []Finding {
	all := 0
	for _, s := range several {
		for _, pieces := range s.findings {
			for _, piece := range pieces {
				all += len(piece)
			}
		}
	}
	list := make([]Finding, 0, all)
	for i := range several[0].findings {
		for _, s := range several {
			for n, piece := range s.findings[i] {
				list = append(list, piece...)
				s.findings[i][n] = nil
			}
		}
	}
	return list
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

// byAddress returns the people of a set, sorted by address.
func (p *Pass) byAddress(set *roaring.Bitmap) []estate.ID {
	list := make([]estate.ID, 0, set.GetCardinality())
	for it := set.Iterator(); it.HasNext(); {
		list = append(list, estate.ID(it.Next()))
	}
	slices.SortFunc(list, func(x, y estate.ID) int { return p.E.Rank(x) - p.E.Rank(y) })
	return list
}

// command quotes a command that sets something of a group.
func (p *Pass) command(verb string, id estate.ID, rest string) string {
	return "yorvet " + verb + " " + p.name(id) + " " + rest
}

// isListedOnly reports whether somebody is in a group by one entry, and by nothing else: neither a
// rule nor a nested group includes them.
func (p *Pass) isListedOnly(id, person estate.ID) bool {
	entries := 0
	for _, entry := range p.E.Entries(id) {
		if entry.Member == person {
			entries++
		}
	}
	for _, rule := range p.E.Rules(id) {
		if p.E.Inside(person) && (rule.Filter == nil || p.E.Matches(person, rule.Filter)) {
			return false
		}
	}
	return entries == 1 && !slices.ContainsFunc(p.E.Children(id), func(n estate.Nesting) bool {
		return p.R.Members(n.Group).Contains(uint32(person))
	})
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
