package directory

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// A Merged is what several directories come to.
type Merged struct {
	estatefile.Content
	Conflicts []Conflict
	Remarks   []Remark
	Partial   bool
	Coverage  []*Coverage // of the sources that have one
	// NeedsDomain is set where a source would have more groups if it knew a domain.
	NeedsDomain bool
	// GivesPeople is set where a source gives people inside, not just addresses of some.
	GivesPeople bool

	// What each record carries, with the same index as in Content: of the rest the
	// sources say nothing.
	carried []carried
	known   []recognised    // of people
	sources map[string]bool // by name
	prefer  map[string]bool // by key: the main addresses of MergeOptions.Prefer
	lost    []losses        // by source: what it says, and the sources together do not
	claims  []claim         // that others have what they claim
	covers  []*Coverage     // by source; nil: there is none
}

// A claim is what a source says of an address: that it is an alias of somebody.
type claim struct {
	file     uint16
	text, by string
}

// MergeOptions say how directories become one.
type MergeOptions struct {
	Name    string
	Domains []string // of the estate; if there are none, they are worked out
	// Known reports whether the estate has an address already. It may be nil.
	Known func(string) bool
	// Prefer are main addresses: of two people who claim an address, those with these have it.
	Prefer []string
}

// recognised says who of an estate a record of a person may be apart from the address.
type recognised struct {
	identity estate.Attribute // that they are known by
	hinted   bool             // an alias leads to the address, and nothing else is known
}

// carried is what the sources say of a group.
type carried struct {
	also, owners, moderators, members bool
	owns                              []string // settings that it has not got where they are missing
}

// A Conflict is something that two sources say differently.
type Conflict struct {
	Who   string // the person or group
	What  string // the field
	Taken Claim
	Left  Claim
}

// A Claim is what one source says, and where.
type Claim struct {
	Value string
	Place string // source:line
}

// String returns a conflict as one line.
func (c Conflict) String() string {
	return fmt.Sprintf(
		"%s: %s is %s (%s), not %s (%s)",
		c.Who,
		c.What,
		c.Taken.Value,
		c.Taken.Place,
		c.Left.Value,
		c.Left.Place,
	)
}

// mostConflicts is how many conflicts are kept.
const mostConflicts = 10_000

// Merge makes one of several directories. What an earlier one says counts more;
// a later one fills in what those before do not know. People are the same if they have the same
// main address: who else claims an address is in conflict with whose main address it is. Groups
// of different sources are the same if they share any address. The directories are used up. An
// alias that leads to an address which nobody knows leads to nobody: that is remarked.
func Merge(list []*Directory, options MergeOptions) *Merged {
	domains, known := options.Domains, options.Known
	m := &merger{
		at:  map[string]who{},
		met: make([]met, len(list)),
		out: &Merged{Content: estatefile.Content{Name: options.Name, Domains: domains}, sources: map[string]bool{},
			prefer: map[string]bool{}},
	}
	for _, text := range options.Prefer {
		m.out.prefer[key(text)] = true
	}
	for i, d := range list {
		m.out.Remarks = append(m.out.Remarks, d.Remarks...)
		m.out.Files = append(m.out.Files, d.File)
		m.out.Partial = m.out.Partial || d.Partial
		m.out.NeedsDomain = m.out.NeedsDomain || d.NeedsDomain
		if d.Coverage != nil {
			m.out.Coverage = append(m.out.Coverage, d.Coverage)
		}
		m.out.sources[d.Name] = true
		m.source, m.file = d, uint16(i)
		for j := range d.Groups {
			m.met[i].groups = append(m.met[i].groups, m.addGroup(&d.Groups[j]))
		}
	}
	first := map[*Person]who{}
	for i, d := range list { // those who are preferred claim their addresses first
		m.source, m.file = d, uint16(i)
		for j := range d.People {
			if p := &d.People[j]; !p.Hinted && m.out.prefer[key(p.Address)] {
				first[p] = m.addPerson(p)
			}
		}
	}
	for i, d := range list {
		m.source, m.file = d, uint16(i)
		for j := range d.People {
			p := &d.People[j]
			if p.Hinted {
				continue
			}
			at, done := first[p]
			if !done {
				at = m.addPerson(p)
			}
			m.given = append(m.given, p.Address)
			m.met[i].people = append(m.met[i].people, at)
			m.met[i].renamed = m.met[i].renamed || !at.isPerson() || m.people[at.index()].address != p.Address
		}
	}
	m.addHinted(list, known)
	if len(domains) == 0 {
		m.findDomains(list)
	}
	m.finish(list)
	for i, d := range list {
		m.out.lost, m.out.covers = append(m.out.lost, m.met[i].lost), append(m.out.covers, d.Coverage)
	}
	m.out.cover(nil, nil)
	return m.out
}

// cover notes in the coverage of each source what of it is lost: what the sources together do not
// say, and what the estate keeps for others. The latter says of addresses, by key, who has them.
func (m *Merged) cover(claims []claim, kept map[string]string) {
	lost := make([]losses, len(m.lost))
	for i, l := range m.lost {
		lost[i].list = slices.Clone(l.list)
	}
	for _, c := range append(slices.Clip(m.claims), claims...) {
		if key(kept[key(c.text)]) != key(c.by) {
			lost[c.file].add("an address", c.by)
		}
	}
	for i, c := range m.covers {
		if c != nil {
			c.Lost = lost[i].list
		}
	}
}

// addHinted adds the aliases of people that another source knows, or the estate.
func (m *merger) addHinted(list []*Directory, known func(string) bool) {
	for i, d := range list {
		m.source, m.file = d, uint16(i)
		for j := range d.People {
			p := &d.People[j]
			if !p.Hinted {
				continue
			}
			if at, ok := m.at[key(p.Address)]; !ok || !at.isPerson() {
				if base, tagged := withoutTag(p.Address); tagged && (m.knows(base) || known != nil && known(base)) {
					p.Address = base
				}
			}
			if m.knows(p.Address) || known != nil && known(p.Address) {
				m.met[i].people = append(m.met[i].people, m.addPerson(p))
				continue
			}
			for _, alias := range p.Also {
				m.out.Remarks = append(m.out.Remarks, Remark{Source: d.File, Line: p.Line, Harm: true,
					Text: "the alias " + alias + " leads to nobody: " + p.Address + " is in no other source"})
			}
		}
	}
}

// knows reports whether somebody has an address.
func (m *merger) knows(text string) bool {
	_, ok := m.at[key(text)]
	return ok
}

// withoutTag returns an address without what stands behind a plus sign (RFC 5233), and
// whether there is one.
func withoutTag(text string) (string, bool) {
	a, err := address.Parse(text)
	if err != nil {
		return text, false
	}
	base, ok := a.WithoutSubaddress("+")
	return base.String(), ok
}

type merger struct {
	out    *Merged
	source *Directory     // at hand
	file   uint16         // its number
	at     map[string]who // by key of an address
	groups []mergedGroup
	people []mergedPerson
	unlike []unlike
	met    []met    // by source
	given  []string // addresses of the people of all sources

	seenPeople []uint32 // by index of a person: the last group that they were found in
	turn       uint32   // of the group at hand
}

// met says what became of the people and groups of a source.
// renamed says that somebody has got another main address than the source says.
type met struct {
	people, groups []who
	renamed        bool
	lost           losses
}

// unlike is a list that a group has in two sources. Whether they say the same is
// known once it is known who is who.
type unlike struct {
	group       int
	what        string
	taken, left []string
	place       estate.Place // of the second
}

// mergedPerson is a person in the making. Of each field it is known who said it.
type mergedPerson struct {
	address, name, mailbox string
	also                   []string
	attributes             []estate.Attribute
	identity               estate.Attribute
	hinted                 bool
	said                   map[string]estate.Place // by field, where not at place
	place                  estate.Place
}

type mergedGroup struct {
	*Group
	place       estate.Place
	by          string // the source that has it
	membersFrom uint16 // the number of the source of its members
}

func (m *merger) place(line int) estate.Place {
	return estate.Place{File: m.file, Line: uint32(max(line, 1)), Column: 1}
}

func (m *merger) where(p estate.Place) string {
	return fmt.Sprintf("%s:%d", m.out.Files[p.File], p.Line)
}

func (m *merger) conflict(who, what, taken string, takenAt estate.Place, left string, leftAt estate.Place) {
	lost := what
	if what == "this" || what == "address" || strings.HasPrefix(what, "the address ") {
		lost = "an address"
	}
	m.met[leftAt.File].lost.add(lost, who)
	m.tell(who, what, taken, takenAt, left, leftAt)
}

// conflictOfAlias tells that an address, which somebody claims as an alias at a place, is something else.
func (m *merger) conflictOfAlias(alias, taken string, takenAt estate.Place, who string, at estate.Place) {
	m.out.claims = append(m.out.claims, claim{at.File, alias, who})
	m.tell(alias, "this", taken, takenAt, "an alias of "+who, at)
}

func (m *merger) tell(who, what, taken string, takenAt estate.Place, left string, leftAt estate.Place) {
	if len(m.out.Conflicts) < mostConflicts {
		m.out.Conflicts = append(
			m.out.Conflicts,
			Conflict{who, what, Claim{taken, m.where(takenAt)}, Claim{left, m.where(leftAt)}},
		)
	}
}

// key returns what an address is found by.
func key(text string) string {
	a, err := address.Parse(text)
	if err != nil {
		return strings.ToLower(text)
	}
	return a.Key()
}

// findDomains takes the domains that sources name, and those of groups; without
// any, the one that most people are in.
func (m *merger) findDomains(list []*Directory) {
	known := map[string]bool{}
	add := func(domain string) {
		if k := domainKey(domain); domain != "" && !known[k] {
			known[k] = true
			m.out.Domains = append(m.out.Domains, domain)
		}
	}
	for _, d := range list {
		for _, domain := range d.Domains {
			add(domain)
		}
	}
	for _, g := range m.groups {
		add(domainOf(g.Address))
	}
	for _, g := range m.groups {
		for _, alias := range g.Also {
			add(domainOf(alias))
		}
	}
	count := map[string]int{}
	for _, p := range m.people {
		count[domainOf(p.address)]++
	}
	if len(m.out.Domains) == 0 {
		best := ""
		for _, domain := range slices.Sorted(maps.Keys(count)) {
			if count[domain] > count[best] {
				best = domain
			}
		}
		add(best)
	}
	for _, domain := range slices.Sorted(maps.Keys(count)) {
		if domain != "" && !known[domain] {
			m.out.Remarks = append(
				m.out.Remarks,
				Remark{
					Source: domain,
					Text: fmt.Sprintf("%s taken to be outside; if the domain is yours, name it with --domain",
						map[bool]string{true: "1 person is", false: fmt.Sprint(count[domain], " people are")}[count[domain] == 1]),
				},
			)
		}
	}
}

// domainKey returns what a domain is compared by: its A-labels (RFC 5890), in lower case.
func domainKey(text string) string {
	if domain, err := address.ParseDomain(text); err == nil {
		return domain
	}
	return strings.ToLower(text)
}

func domainOf(text string) string {
	a, err := address.Parse(text)
	if err != nil {
		return ""
	}
	return a.Domain()
}
