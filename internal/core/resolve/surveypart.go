package resolve

import (
	"math/bits"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

// look works out what is to be known of the people from one index to another.
func (s *Survey) look(r *Resolver, from, to int, owners [][]uint32) *part {
	groups := r.e.Groups()
	p := &part{s: s, r: r, from: from, to: to, owners: owners, next: make([]int32, groups),
		of: make([]reached, len(s.of)), people: make([]int, len(s.people)),
		asked: make([][]asked, groups), twice: make([]bool, groups),
		members: make([]plane, s.members.count()), got: make([]got, s.passing.count()),
		listing: make(touched, s.members.count()/64+1), giving: make(touched, s.passing.count()/64+1)}
	for id := range estate.ID(groups) {
		if len(r.e.Rules(id)) > 0 {
			p.rules = append(p.rules, id)
		}
		at, _ := slices.BinarySearch(owners[id], uint32(from))
		p.next[id] = int32(at)
	}
	p.cut()
	for b := range p.blocks {
		p.block(b)
		p.blocks[b] = nil
	}
	return p
}

// cut lays the entries of people out by blocks, in the order of groups.
func (p *part) cut() {
	e := p.r.e
	counts := make([]int, (p.to-p.from+blockSize-1)/blockSize)
	each := func(visit func(group estate.ID, entry *estate.Entry, index int)) {
		for group := range estate.ID(e.Groups()) {
			entries := e.Entries(group)
			for i := range entries {
				if !e.IsPerson(entries[i].Member) {
					continue
				}
				if index := e.PersonIndex(entries[i].Member); index >= p.from && index < p.to {
					visit(group, &entries[i], index-p.from)
				}
			}
		}
	}
	each(func(_ estate.ID, _ *estate.Entry, index int) { counts[index/blockSize]++ })
	p.blocks = make([][]cell, len(counts))
	for b, n := range counts {
		p.blocks[b] = make([]cell, 0, n)
	}
	last := make([]uint32, p.to-p.from) // 1 + the last group that named them
	plain, invitation := &Query{}, &Query{Message: Message{Invitation: true}}
	each(func(group estate.ID, entry *estate.Entry, index int) {
		b := index / blockSize
		c := cell{group: uint32(group), bit: uint16(index % blockSize)}
		if last[index] == uint32(group)+1 {
			c.flags = cellRepeated
			p.twice[group] = true
		} else {
			last[index] = uint32(group) + 1
			says := entry.Membership()
			p.lay(&c, group, entry.Member, says, plain, invitation)
		}
		p.blocks[b] = append(p.blocks[b], c)
	})
}

// lay notes what a membership gives, over an open path.
func (p *part) lay(c *cell, group, person estate.ID, says estate.Membership, plain, invitation *Query) {
	g := p.r.e.Group(group)
	wish := p.r.wish(g, person, says, plain)
	c.outcome = outcomes(g.Kind, wish.Copy, PathOpen)
	if outcomes(g.Kind, p.r.wish(g, person, says, invitation).Copy, PathOpen) == Inbox {
		c.flags |= cellInvited
	}
	if g.Kind.Keeps() {
		c.flags |= cellKept
	}
	if g.Kind != estate.Mailbox && (wish.Muting != NotMuted || wish.Copy == estate.CopyNone ||
		wish.Copy == estate.CopyReplies || p.r.e.IsShut(person)) {
		c.flags |= cellAsked
	}
}

// block works a block out.
func (p *part) block(b int) {
	p.listing.each(func(c int32) { p.members[c] = plane{} })
	p.giving.each(func(c int32) { p.got[c] = got{} })
	clear(p.listing)
	clear(p.giving)
	first := p.from + b*blockSize
	size := min(blockSize, p.to-first)
	p.shut, p.beyond = plane{}, plane{}
	for bit := range size {
		if p.r.e.IsShut(p.r.e.PersonID(first + bit)) {
			p.shut.set(uint16(bit))
		}
		if !p.r.e.Inside(p.r.e.PersonID(first + bit)) {
			p.beyond.set(uint16(bit))
		}
	}
	var listed map[estate.ID]*plane // by group with rules: who its entries name
	if len(p.rules) > 0 {
		listed = map[estate.ID]*plane{}
		for _, id := range p.rules {
			listed[id] = &plane{}
		}
	}
	for _, c := range p.blocks[b] {
		p.list(estate.ID(c.group), c.bit)
		if c.flags&cellRepeated == 0 && p.r.e.Group(estate.ID(c.group)).Kind != estate.Mailbox {
			p.give(c)
		}
	}
	for _, c := range p.blocks[b] {
		if of := listed[estate.ID(c.group)]; of != nil {
			of.set(c.bit)
		}
	}
	picked := p.pick(first, size, listed)
	p.gather()
	p.pass()
	p.tell(first, size)
	p.answer(b, first, picked)
}

// list notes a member of a group.
func (p *part) list(group estate.ID, bit uint16) {
	c := p.s.members.of[group]
	p.members[c].set(bit)
	p.listing.add(c)
}

// give notes what a group gives a member.
func (p *part) give(one cell) {
	c := p.s.passing.of[one.group]
	p.got[c].add(one.bit, one.outcome, one.flags)
	p.giving.add(c)
}

// pick adds who rules pick, and returns those of them who are asked about.
func (p *part) pick(first, size int, listed map[estate.ID]*plane) []cell {
	var picked []cell
	plain, invitation := &Query{}, &Query{Message: Message{Invitation: true}}
	for _, id := range p.rules {
		named := listed[id]
		for _, rule := range p.r.e.Rules(id) {
			it := p.r.picks(rule).Iterator()
			it.AdvanceIfNeeded(uint32(p.r.e.PersonID(first)))
			for it.HasNext() {
				person := estate.ID(it.Next())
				index := p.r.e.PersonIndex(person)
				if index >= first+size {
					break
				}
				bit := uint16(index - first)
				p.list(id, bit)
				if named.has(bit) {
					p.twice[id] = true
					continue
				}
				named.set(bit)
				if p.r.e.Group(id).Kind == estate.Mailbox {
					continue
				}
				c := cell{group: uint32(id), bit: bit}
				p.lay(&c, id, person, rule.Membership, plain, invitation)
				p.give(c)
				if c.flags&cellAsked != 0 {
					picked = append(picked, c)
				}
			}
		}
	}
	return picked
}

// gather adds the members of groups to those of the groups that they are nested in. All members
// of a shared mailbox read it there.
func (p *part) gather() {
	p.listing.each(func(c int32) {
		members := &p.members[c]
		for _, word := range members {
			p.people[c] += bits.OnesCount64(word)
		}
		for _, outer := range p.s.outer.of(c) {
			p.members[outer].or(members)
			p.listing.add(outer)
		}
		for _, id := range p.s.members.in(c) {
			if p.r.e.Group(id).Kind == estate.Mailbox {
				own := p.s.passing.of[id]
				g := &p.got[own]
				g.anyone, g.archive, g.kept = *members, *members, *members
				p.giving.add(own)
			}
		}
	})
}

// pass adds what groups give to what the groups give that pass mail to them.
func (p *part) pass() {
	p.giving.each(func(c int32) {
		g := &p.got[c]
		p.of[c].nested = p.of[c].nested || len(p.s.passing.in(c)) > 1
		for _, outer := range p.s.passers.of(c) {
			if p.got[outer].or(g) {
				p.of[outer].nested = true
			}
			p.giving.add(outer)
		}
	})
}

// tell counts what the people of the block get.
func (p *part) tell(first, size int) {
	ones := func(n *int, word uint64) { *n += bits.OnesCount64(word) }
	p.giving.each(func(c int32) {
		g, to := &p.got[c], &p.of[c]
		to.any = true
		for w := range blockWords {
			inbox, shut := g.inbox[w], p.shut[w]
			digest := g.digest[w] &^ inbox
			copies := inbox | digest
			archive := g.archive[w] &^ copies
			anyone := g.anyone[w]
			if anyone == 0 {
				continue
			}
			ones(&to.counts[Inbox], inbox&^shut)
			ones(&to.counts[Digest], digest&^shut)
			ones(&to.counts[Undeliverable], copies&shut)
			ones(&to.counts[Archive], archive)
			ones(&to.counts[Nothing], anyone&^copies&^archive)
			ones(&to.invited, g.invited[w]&^shut)
			to.outside = to.outside || (copies|archive)&p.beyond[w] != 0
			at := uint64(first/64+w) << outcomeBits
			to.print += mix(inbox^mix(at)) + mix(digest^mix(at+1)) + mix(archive^mix(at+2)) + mix(anyone^mix(at+3))
			to.finally += mix(copies&shut^mix(at+4)) + mix(g.invited[w]^mix(at+5)) + mix(g.invited[w]&shut^mix(at+6)) +
				mix(g.kept[w]^mix(at+7))
			for left := copies &^ shut &^ g.invited[w]; left != 0; left &= left - 1 {
				if to.uninvited == nil {
					to.uninvited = roaring.New()
				}
				to.uninvited.Add(uint32(p.r.e.PersonID(first + 64*w + bits.TrailingZeros64(left))))
			}
		}
	})
}

// answer notes the outcomes of those who are asked about.
func (p *part) answer(b, first int, picked []cell) {
	for _, list := range [][]cell{p.blocks[b], picked} {
		for _, c := range list {
			if c.flags&cellAsked != 0 {
				p.note(estate.ID(c.group), c.bit, first)
			}
		}
	}
	for id, owners := range p.owners {
		for int(p.next[id]) < len(owners) && int(owners[p.next[id]]) < min(first+blockSize, p.to) {
			p.note(estate.ID(id), uint16(int(owners[p.next[id]])-first), first)
			p.next[id]++
		}
	}
	p.order(first)
}

func (p *part) note(id estate.ID, bit uint16, first int) {
	outcome, has := p.got[p.s.passing.of[id]].outcome(bit)
	if outcome <= Digest && p.shut.has(bit) {
		outcome = Undeliverable
	}
	p.asked[id] = append(p.asked[id], asked{uint32(first) + uint32(bit), outcome, has})
}

// order sorts what was noted of a block that begins with a person.
func (p *part) order(first int) {
	for id, list := range p.asked {
		from := len(list)
		for from > 0 && int(list[from-1].person) >= first {
			from--
		}
		if tail := list[from:]; len(tail) > 1 {
			slices.SortFunc(tail, func(x, y asked) int { return int(x.person) - int(y.person) })
			tail = slices.CompactFunc(tail, func(x, y asked) bool { return x.person == y.person })
			p.asked[id] = list[:from+len(tail)]
		}
	}
}
