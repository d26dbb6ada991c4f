package effect

import (
	"encoding/binary"
	"hash/maphash"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// unchanged returns the groups of the new estate for which nothing can have
// changed: they are written as before, and so is everything that they refer to. It
// returns nil where settings or people differ.
func (c *comparison) unchanged() []bool {
	seed := maphash.MakeSeed()
	old, new := printer{seed: seed, e: c.a}, printer{seed: seed, e: c.b}
	if old.settings() != new.settings() || c.a.People() != c.b.People() ||
		len(c.report.People.Added)+len(c.report.People.Renamed) > 0 ||
		!c.report.Groups.isEmpty() {
		return nil
	}
	var was, is prints
	done := make(chan struct{})
	go func() {
		defer close(done)
		was = old.all()
	}()
	is = new.all()
	<-done
	for i := range c.b.People() {
		if is.people[i] != was.people[c.a.PersonIndex(c.toOld[c.b.PersonID(i)])] {
			return nil
		}
	}
	c.kept = make([]bool, c.b.Groups())
	for id := range estate.ID(c.b.Groups()) {
		if is.addresses[id] != was.addresses[c.toOld[id]] {
			return nil // a sender writes from it
		}
		c.kept[id] = is.groups[id] == was.groups[c.toOld[id]]
	}
	same := c.concerned()
	for _, e := range []*estate.Estate{c.a, c.b} {
		for _, rule := range e.Settings().Edge {
			if c.refersToChanged(e, rule.Selector, same) {
				return nil
			}
		}
	}
	return same
}

// refersToChanged reports whether a selector of an estate names a group that has changed.
func (c *comparison) refersToChanged(e *estate.Estate, x selector.Expr, same []bool) bool {
	changed := false
	selector.Atoms(x, func(a *selector.Atom) {
		if a.Kind != selector.In && a.Kind != selector.Is {
			return
		}
		if id, ok := e.Find(a.Address); ok && e.IsGroup(id) {
			if e == c.a {
				id = c.toNew[id]
			}
			changed = changed || !same[id]
		}
	})
	return changed
}

// concerned returns the groups of the new estate that are written as before, and that no change of
// another group concerns. Who the members of a group are concerns the groups that it is nested in,
// and their members; and what those say that name it in a selector, or as owner or moderator. What
// a group says, and what comes of its mail, concerns those that it is nested in, and nobody else.
func (c *comparison) concerned() (same []bool) {
	same = slices.Clone(c.kept)
	members := make([]bool, len(same)) // of a group may have changed
	var queue []estate.ID
	for id, kept := range c.kept {
		if !kept {
			members[id] = true
			queue = append(queue, estate.ID(id))
		}
	}
	naming := c.naming()
	reach := func(id estate.ID, its bool) {
		if same[id] || its && !members[id] {
			same[id], members[id] = false, members[id] || its
			queue = append(queue, id)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		id := queue[0]
		for _, parent := range c.b.Parents(id) {
			reach(parent.Group, members[id])
		}
		if members[id] {
			for _, other := range naming[id] {
				reach(other, false)
			}
		}
	}
	return same
}

// naming returns, for each group of the new estate, those that name it as owner, moderator or in
// a selector.
func (c *comparison) naming() map[estate.ID][]estate.ID {
	naming := map[estate.ID][]estate.ID{}
	for id := range estate.ID(c.b.Groups()) {
		g := c.b.Group(id)
		note := func(other estate.ID) {
			if c.b.IsGroup(other) {
				naming[other] = append(naming[other], id)
			}
		}
		for _, listed := range slices.Concat(g.Owners, g.Moderators) {
			note(listed.ID)
		}
		visit := func(a *selector.Atom) {
			if a.Kind == selector.In || a.Kind == selector.Is {
				if other, ok := c.b.Find(a.Address); ok {
					note(other)
				}
			}
		}
		for _, rule := range g.AllSelectors {
			selector.Atoms(rule.Selector, visit)
		}
	}
	return naming
}

// printer makes fingerprints of what stands in an estate, that compare between
// two estates.
type printer struct {
	seed    maphash.Seed
	e       *estate.Estate
	hashes  []uint64 // by ID: of the address
	scratch maphash.Hash
}

// prints are the fingerprints of what stands in an estate.
type prints struct {
	people    []uint64 // by index
	addresses []uint64 // by group: of its addresses
	groups    []uint64 // of all else about it
}

func (p *printer) all() prints {
	p.names()
	x := prints{make([]uint64, p.e.People()), make([]uint64, p.e.Groups()), make([]uint64, p.e.Groups())}
	for i := range x.people {
		x.people[i] = p.person(p.e.PersonID(i))
	}
	for i := range x.groups {
		x.addresses[i], x.groups[i] = p.addresses(estate.ID(i)), p.group(estate.ID(i))
	}
	return x
}

// begin starts a fingerprint.
func (p *printer) begin() *maphash.Hash {
	p.scratch.SetSeed(p.seed)
	p.scratch.Reset()
	return &p.scratch
}

// text adds texts, each with its length so that they do not run together.
func text(h *maphash.Hash, texts ...string) {
	for _, t := range texts {
		number(h, uint64(len(t)))
		_, _ = h.WriteString(t)
	}
}

func number(h *maphash.Hash, n uint64) {
	_, _ = h.Write(binary.LittleEndian.AppendUint64(nil, n))
}

func flag(h *maphash.Hash, yes bool) {
	if yes {
		number(h, 1)
	} else {
		number(h, 0)
	}
}

func (p *printer) settings() uint64 {
	h := p.begin()
	s := p.e.Settings()
	for _, d := range s.Domains {
		text(h, d.Name, d.SameAs)
	}
	text(h, s.Subaddress, s.CodeSender.String())
	text(h, edgeTexts(s)...)
	text(h, acceptanceTexts(s.Accepted)...)
	flag(h, s.OpenNestedGates)
	return h.Sum64()
}

// names works out the fingerprints of all addresses.
func (p *printer) names() {
	p.hashes = make([]uint64, p.e.Groups()+p.e.People())
	for id := range estate.ID(len(p.hashes)) {
		p.hashes[id] = maphash.String(p.seed, p.e.Key(p.e.Address(id)))
	}
}

func (p *printer) name(id estate.ID) uint64 {
	if id.IsNobody() {
		return maphash.String(p.seed, "nobody "+p.e.Key(p.e.Address(id)))
	}
	return p.hashes[id]
}

func (p *printer) person(id estate.ID) uint64 {
	h := p.begin()
	person := p.e.Person(id)
	number(h, p.hashes[id])
	text(h, person.Name, person.Mailbox.String())
	for _, a := range person.Also {
		text(h, p.e.Key(a))
	}
	for _, attribute := range p.e.Attributes(id) {
		text(h, selector.Fold(attribute.Name), attribute.Value)
	}
	return h.Sum64()
}

// addresses is the fingerprint of a group's addresses.
func (p *printer) addresses(id estate.ID) uint64 {
	h := p.begin()
	number(h, p.hashes[id])
	for _, a := range p.e.Group(id).Also {
		text(h, p.e.Key(a))
	}
	return h.Sum64()
}

func (p *printer) group(id estate.ID) uint64 {
	h := p.begin()
	g := p.e.Group(id)
	for setting := range estate.GroupSettings() {
		if setting.Form == estate.FormParties {
			continue // they count by who they are
		}
		if !setting.Form.IsList() {
			text(h, setting.Text(g))
			continue
		}
		texts := setting.Texts(p.e, g)
		flag(h, texts != nil)
		number(h, uint64(len(texts)))
		text(h, texts...)
	}
	text(h, acceptances(g)...)
	for _, list := range [][]estate.Listed{g.Owners, g.Moderators} {
		text(h, "list")
		for _, listed := range list {
			number(h, p.name(listed.ID))
		}
	}
	for _, e := range p.e.Entries(id) {
		number(h, p.name(e.Member))
		number(h, uint64(e.Says()))
	}
	for _, rule := range p.e.Rules(id) {
		if rule.Filter == nil {
			text(h, "everyone")
		} else {
			text(h, rule.Filter.String())
		}
		number(h, uint64(estate.NewEntry(0, rule.Membership, rule.Place).Says()))
	}
	return h.Sum64()
}
