package hazard

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// eachDecision calls visit with every rule of a gate that decides for somebody,
// whatever the message, until it returns false: nonGroup reports whether a person
// or a stranger is among those.
func (p *Pass) eachDecision(id estate.ID, visit func(rule int, nonGroup func() bool) bool) {
	if p.E.Group(id).Kind == estate.Roster {
		return // no gate of a roster is asked
	}
	selectors := gateSelectors(p.E.Group(id))
	d := &decisions{p: p, group: id, visit: visit, sizes: sizesIn(selectors)}
	for _, x := range selectors {
		d.rules = append(d.rules, d.rule(x))
	}
	others := p.otherSenders(selectors)
	for _, m := range messages(selectors) {
		if !d.known(m) {
			return
		}
		for _, s := range others {
			if !d.other(s, m) {
				return
			}
		}
	}
}

// messages returns every kind of message that a gate can tell apart but by its size:
// all combinations of what its selectors ask about messages, proven and not.
func messages(rules []selector.Expr) []resolve.Message {
	list := []resolve.Message{{}, {Unproven: true}}
	vary := func(set func(*resolve.Message)) {
		for _, m := range slices.Clone(list) {
			set(&m)
			list = append(list, m)
		}
	}
	named := map[selector.Kind]bool{}
	for _, x := range rules {
		selector.Atoms(x, func(a *selector.Atom) { named[a.Kind] = true })
	}
	if named[selector.Suspect] {
		vary(func(m *resolve.Message) { m.Suspect = true })
	}
	if named[selector.Automatic] {
		vary(func(m *resolve.Message) { m.Automatic = true })
	}
	if named[selector.Invitation] {
		vary(func(m *resolve.Message) { m.Invitation = true })
	}
	return list
}

// sizesIn returns the least size of each range of sizes that selectors tell apart,
// in order; 0 is the first.
func sizesIn(list []selector.Expr) []int64 {
	sizes := []int64{0}
	for _, x := range list {
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind == selector.Larger {
				sizes = append(sizes, a.Size+1)
			}
		})
	}
	slices.Sort(sizes)
	return slices.Compact(sizes)
}

// decisions looks for who decides, over all sizes of messages at once: a gate with
// many thresholds tells as many ranges of sizes apart, but each of its rules only a
// few.
type decisions struct {
	p     *Pass
	group estate.ID
	visit func(rule int, nonGroup func() bool) bool
	sizes []int64 // of the whole gate
	rules []sizedRule
}

// sizedRule is a selector, and the ranges of sizes that it tells apart.
type sizedRule struct {
	x      selector.Expr
	ranges []sizeRange
}

// sizeRange is a range of the sizes of a gate: by index, without the last.
type sizeRange struct{ from, to int }

func (d *decisions) rule(x selector.Expr) sizedRule {
	r := sizedRule{x: x}
	for _, size := range sizesIn([]selector.Expr{x}) {
		from, _ := slices.BinarySearch(d.sizes, size)
		if n := len(r.ranges); n > 0 {
			r.ranges[n-1].to = from
		}
		r.ranges = append(r.ranges, sizeRange{from, len(d.sizes)})
	}
	return r
}

// known visits the rules that decide for people and groups of the estate with a
// message, of whatever size.
func (d *decisions) known(m resolve.Message) bool {
	if len(d.sizes) == 1 {
		for i, class := range d.p.deciding(d.group, m) {
			if !d.visitClass(i, class) {
				return false
			}
		}
		return true
	}
	// For whom no rule has decided yet, by size. Sizes that are alike share a set.
	left := make([]*roaring.Bitmap, len(d.sizes))
	everyone := d.p.R.Set(d.group, &selector.Atom{Kind: selector.Anyone}, m)
	for i := range left {
		left[i] = everyone
	}
	for i, rule := range d.rules {
		for _, sizes := range rule.ranges {
			m.Size = d.sizes[sizes.from]
			set := d.p.R.Set(d.group, rule.x, m)
			var before, class, after *roaring.Bitmap
			for at := sizes.from; at < sizes.to && !set.IsEmpty(); at++ {
				if left[at] != before {
					before = left[at]
					class = roaring.And(before, set)
					if after = before; !class.IsEmpty() {
						after = roaring.AndNot(before, set)
						if !d.visitClass(i, class) {
							return false
						}
					}
				}
				left[at] = after
			}
		}
	}
	return true
}

func (d *decisions) visitClass(i int, class *roaring.Bitmap) bool {
	return class.IsEmpty() || d.visit(i+1, func() bool { return d.p.E.IsPerson(d.p.first(class)) })
}

// other visits the rules that decide for a sender with a message, of whatever size.
func (d *decisions) other(s resolve.Sender, m resolve.Message) bool {
	decided := make([]bool, len(d.sizes))
	left := len(decided)
	for i, rule := range d.rules {
		for _, sizes := range rule.ranges {
			m.Size = d.sizes[sizes.from]
			if !d.p.R.Eval(d.group, rule.x, s, m) {
				continue
			}
			first := true
			for at := sizes.from; at < sizes.to; at++ {
				if decided[at] {
					continue
				}
				decided[at] = true
				left--
				if first && !d.visit(i+1, func() bool { return !d.p.E.IsGroup(s.ID) }) {
					return false
				}
				first = false
			}
		}
		if left == 0 {
			break
		}
	}
	return true
}
