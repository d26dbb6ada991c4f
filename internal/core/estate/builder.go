package estate

import (
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/nearest"
)

// A Problem is something in the input that keeps it from being an estate.
type Problem struct {
	Place   Place
	Text    string // what is wrong, what was expected
	Nearest string // what may have been meant, or ""
	See     Place  // a second place that has to do with it, or the zero Place

	// Where the problem is a spot in a selector or rule: its text, and the spot
	// in bytes. Place is then where Source begins.
	Source         string
	Offset, Length int
}

// A Builder makes an Estate: of groups first, then people, then everything that
// refers to them, since each has a number that depends on those before. It panics where
// a caller does otherwise. What does not fit becomes a Problem; building continues, to
// find them all.
type Builder struct {
	e        *Estate
	problems []Problem
	also     map[string]Place // of the addresses that are not main ones, by key
	nobody   map[string]ID    // by key
	guesses  int              // see guess
	chunks   [][]row          // the entries in file order
	referred bool             // Refer has been asked
}

// row is an entry and its group.
type row struct {
	group ID
	entry Entry
}

// chunkSize is the number of rows that are allocated together.
const chunkSize = 1 << 15

// NewBuilder returns a Builder for an estate with those settings.
func NewBuilder(settings Settings) *Builder {
	b := &Builder{
		e: &Estate{
			settings: settings,
			index: &index{
				ids:        newDirectory(),
				implied:    newDirectory(),
				canonical:  map[string]string{},
				subaddress: strings.ToLower(settings.Subaddress),
				numbers:    map[string]uint32{},
			},
			attributes: attributes{columns: map[string]*column{}, written: map[string]*column{}, known: map[string]uint32{}},
		},
		also:   map[string]Place{},
		nobody: map[string]ID{},
	}
	b.addDomains(settings.Domains)
	return b
}

func (b *Builder) problem(p Problem) { b.problems = append(b.problems, p) }

// addDomains fills the index with the estate's domains and with what each means.
func (b *Builder) addDomains(domains []Domain) {
	means := map[string]string{}
	places := map[string]Place{}
	for _, d := range domains {
		name, err := address.ParseDomain(d.Name)
		if err != nil {
			b.problem(Problem{Place: d.Place, Text: "the domain " + err.Error()})
			continue
		}
		if place, taken := places[name]; taken {
			b.problem(Problem{Place: d.Place, Text: "the domain " + quote(d.Name) + " is listed twice", See: place})
			continue
		}
		places[name], means[name] = d.Place, name
		if d.SameAs != "" {
			target, err := address.ParseDomain(d.SameAs)
			if err != nil {
				b.problem(Problem{Place: d.Place, Text: "the domain " + err.Error()})
				continue
			}
			means[name] = target
			if target == name {
				b.problem(Problem{Place: d.Place, Text: "the domain " + quote(d.Name) + " is the same as itself"})
			}
		}
	}
	for _, d := range domains {
		name, _ := address.ParseDomain(d.Name)
		if _, ok := means[name]; !ok {
			continue
		}
		target := b.meant(name, means)
		switch _, known := means[target]; {
		case !known:
			b.problem(
				Problem{Place: d.Place, Text: "same-as names " + quote(target) + ", expected a domain of the estate",
					Nearest: b.nearestDomain(target, d.Name)},
			)
		case means[target] != target:
			b.problem(
				Problem{Place: d.Place, Text: "the domain " + quote(d.Name) + " is the same as itself, in a ring"},
			)
		}
	}
}

// meant returns the domain that one means in the end, and notes it for all on the
// way there, so that each is looked at once. In a ring it is one of the ring; it may
// be a domain that is not listed.
func (b *Builder) meant(name string, means map[string]string) string {
	canonical := b.e.index.canonical
	var way []string
	met := map[string]bool{}
	at := name
	for {
		if target, done := canonical[at]; done {
			at = target
			break
		}
		next, listed := means[at]
		if !listed || next == at || met[at] {
			break
		}
		met[at] = true
		way = append(way, at)
		at = next
	}
	if _, listed := means[at]; listed {
		canonical[at] = at
	}
	for _, one := range way {
		canonical[one] = at
	}
	return at
}

// mostGuesses is how many mistakes of an estate are looked at for what was meant:
// that takes as long as there are names.
const mostGuesses = 100

// guess reports whether one more mistake is to be looked at.
func (b *Builder) guess() bool {
	b.guesses++
	return b.guesses <= mostGuesses
}

// NearestGroup returns the address of a group that a text may have meant, or "".
func (b *Builder) NearestGroup(text string) string {
	if !b.guess() {
		return ""
	}
	return strings.Join(nearest.Words(text, b.GroupAddresses, 1), "")
}

// nearestDomain returns a domain of the estate, but for one, that a text may have
// meant, or "".
func (b *Builder) nearestDomain(text, except string) string {
	if !b.guess() {
		return ""
	}
	return nearest.Word(text, b.domainNames(except))
}

// domainNames returns the domains of the estate, but for one.
func (b *Builder) domainNames(except string) []string {
	var names []string
	for _, d := range b.e.settings.Domains {
		if d.Name != except {
			names = append(names, d.Name)
		}
	}
	return names
}

// inside reports whether a is in a domain of the estate.
func (b *Builder) inside(a address.Address) bool { return b.e.InsideDomain(a.Domain()) }

// AddGroup adds a group with its settings, and returns its ID. alsoPlaces are
// the places of g.Also.
func (b *Builder) AddGroup(g Group, alsoPlaces []Place) ID {
	if len(b.e.people) > 0 {
		panic("estate: a group is added after people")
	}
	id := ID(len(b.e.groups))
	if g.Gate == nil {
		g.Gate = defaultGate
	}
	if g.NotifySender.Selector == nil {
		g.NotifySender = defaultNotify
	}
	for action := range actions {
		if g.Access[action].Selector == nil {
			g.Access[action] = defaultAccess[action]
		}
	}
	b.e.groups = append(b.e.groups, g)
	b.e.count++
	b.e.rules = append(b.e.rules, nil)
	b.register(id, g.Address, g.Also, g.Place, alsoPlaces)
	for i, a := range append([]address.Address{g.Address}, g.Also...) {
		if a.IsValid() && !b.inside(a) {
			place := g.Place
			if i > 0 {
				place = alsoPlaces[i-1]
			}
			b.problem(
				Problem{
					Place: place,
					Text: "the group " + quote(
						a.String(),
					) + " is outside, expected an address in a domain of the estate",
					Nearest: b.nearestDomain(a.Domain(), ""),
				},
			)
		}
	}
	return id
}

// AddPerson adds a person with their attributes, and returns the ID. alsoPlaces are
// the places of p.Also.
func (b *Builder) AddPerson(p Person, attributes []Attribute, alsoPlaces []Place) ID {
	if b.referred {
		panic("estate: a person is added after what refers to them")
	}
	id := b.e.PersonID(len(b.e.people))
	b.e.people = append(b.e.people, p)
	for _, attribute := range attributes {
		b.e.attributes.add(b.e.PersonIndex(id), attribute)
	}
	b.register(id, p.Address, p.Also, p.Place, alsoPlaces)
	return id
}

// register enters the addresses of a person or group into the index.
func (b *Builder) register(id ID, main address.Address, also []address.Address, place Place, alsoPlaces []Place) {
	if main.IsValid() {
		b.claim(id, main, place, false)
	}
	for i, a := range also {
		b.claim(id, a, alsoPlaces[i], true)
	}
}

// claim enters one address. It belongs to the first who claims it.
func (b *Builder) claim(id ID, a address.Address, place Place, also bool) {
	key := b.e.index.key(a)
	holder, taken := b.e.index.exact(key)
	if !taken {
		b.e.index.ids.put(key, id)
		if also {
			b.also[key] = place
		}
		return
	}
	if holder == id {
		return
	}
	see, ok := b.also[key]
	if !ok {
		see = b.placeOf(holder)
	}
	first, second := see, place
	if second.before(first) {
		first, second, holder = second, first, id
	}
	kind := "person"
	if b.e.IsGroup(holder) {
		kind = "group"
	}
	b.problem(
		Problem{
			Place: second,
			Text:  quote(a.String()) + " is already the address of a " + kind,
			See:   first,
		},
	)
}

func (p Place) before(other Place) bool {
	if p.File != other.File {
		return p.File < other.File
	}
	if p.Line != other.Line {
		return p.Line < other.Line
	}
	return p.Column < other.Column
}

func (b *Builder) placeOf(id ID) Place {
	if b.e.IsGroup(id) {
		return b.e.Group(id).Place
	}
	return b.e.Person(id).Place
}

// FindAll sets each of ids to the ID of the group or added person whose address
// in canonical form is the text with the same index, or to None. It finds nothing
// that is written otherwise. It may be called by other goroutines while nothing
// but Refer, AddEntry and AddRule is.
func (b *Builder) FindAll(texts []string, ids []ID) { b.e.index.ids.getAll(texts, ids) }

// Find returns the ID of the person or group that has the address a, by
// subaddress if need be, and whether there is one.
func (b *Builder) Find(a address.Address) (ID, bool) { return b.e.index.find(a) }

// IsGroup reports whether id is that of a group.
func (b *Builder) IsGroup(id ID) bool { return b.e.IsGroup(id) }

// GroupAddresses calls yield with the addresses of all groups, as written.
func (b *Builder) GroupAddresses(yield func(string) bool) {
	for id := range ID(b.e.count) {
		if main, also := b.e.groupNames(id); !yieldAddresses(main, also, yield) {
			return
		}
	}
}

// Refer returns the ID of the one who has the address a, which a group lists in a
// role (member, owner or moderator). An outside address that nobody has becomes
// a person; an inside one belongs to nobody.
func (b *Builder) Refer(a address.Address, group ID, role string, place Place) ID {
	b.referred = true
	if id, ok := b.e.index.find(a); ok {
		return id
	}
	key := b.e.index.key(a)
	if !b.inside(a) {
		id := b.e.PersonID(len(b.e.people))
		b.e.people = append(b.e.people, Person{Address: a, Place: place, Implied: true})
		b.e.index.implied.put(key, id)
		return id
	}
	id, ok := b.nobody[key]
	if !ok {
		id = firstNobody + ID(len(b.e.nobody))
		b.nobody[key] = id
		b.e.nobody = append(b.e.nobody, Listing{Address: a, Place: place})
	}
	b.e.unknown = append(b.e.unknown, Unknown{Address: a, Group: group, Role: role, Place: place})
	return id
}

// AddOwner adds an owner to a group.
func (b *Builder) AddOwner(group ID, a address.Address, place Place) {
	g := &b.e.groups[group]
	g.Owners = append(g.Owners, Listed{b.Refer(a, group, "owner", place), place})
}

// AddModerator adds a moderator to a group.
func (b *Builder) AddModerator(group ID, a address.Address, place Place) {
	g := &b.e.groups[group]
	g.Moderators = append(g.Moderators, Listed{b.Refer(a, group, "moderator", place), place})
}

// AddEntry adds a member to a group, after those it has.
func (b *Builder) AddEntry(group, member ID, m Membership, place Place) {
	if b.e.IsGroup(member) {
		b.checkNested(member, m, place)
	}
	last := len(b.chunks) - 1
	if last < 0 || len(b.chunks[last]) == cap(b.chunks[last]) {
		size := chunkSize
		if last < 0 {
			size = 64
		}
		b.chunks = append(b.chunks, make([]row, 0, size))
		last++
	}
	b.chunks[last] = append(
		b.chunks[last],
		row{group, Entry{member, pack(m), place}},
	)
}

func (b *Builder) checkNested(member ID, m Membership, place Place) {
	name := "the nested group " + quote(b.e.Address(member).String())
	if m.Copy == CopyDigest || m.Copy == CopyReplies {
		b.problem(Problem{Place: place, Text: name + " takes copy every or none, not " + m.Copy.String()})
	}
	for _, s := range membershipSettings {
		if s.Name != "copy" && s.Text(m) != "" {
			b.problem(Problem{Place: place, Text: name + " takes no " + s.Name + ", expected copy or nothing"})
		}
	}
}

// AddRule adds a membership that picks people to a group, after those it has.
func (b *Builder) AddRule(group ID, rule MemberRule) {
	b.e.rules[group] = append(b.e.rules[group], rule)
}

// SetFiles names the files that places are in, where they are known only by now.
func (b *Builder) SetFiles(files []string) { b.e.settings.Files = files }
