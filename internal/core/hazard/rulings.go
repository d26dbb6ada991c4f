package hazard

import (
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// use is how far a rule decides.
type use uint8

const (
	unused use = iota
	barely     // for the code-sender or an imagined newcomer alone, who are tried for dead rules only
	seldom     // for other than default messages alone, or the forged stranger alone
	usual      // for a default message
)

// severity returns what becomes of the severity of a check where its finding holds as far
// as u.
func (u use) severity(s Severity) Severity {
	if u == usual {
		return s
	}
	return Low
}

// rulings are how far the rules that judge mail to a group decide: those of the edge,
// then those of its own gate. Mail to a roster is judged by the edge alone.
type rulings struct {
	rules    []estate.GateRule
	edge     int   // how many of them are the edge's
	anybody  []use // for anybody tried
	outside  []use // for somebody outside
	invited  []use // for an invitation of anybody tried
	forgery  *forgery
	outsider map[int]outsider // one that a rule decides about as far as outside says
}

// outsider is somebody outside, with a message of their own.
type outsider struct {
	resolve.Sender
	message resolve.Message
}

// forgery is an unproven message that is admitted where the proven outside stranger is
// not.
type forgery struct {
	rule    int // of the gate, from 1
	victim  resolve.Sender
	others  int // more known addresses that may be claimed
	message resolve.Message
}

// rulings returns how far the rules decide that judge mail to a group. Equal gates are
// looked at once.
func (p *Pass) rulings(id estate.ID) *rulings {
	if p.ruling != nil && p.group == id {
		return p.ruling
	}
	key, alike := p.R.Gate(id).Key()
	r, ok := p.ruled[key]
	if !ok {
		g := p.E.Group(id)
		gate := g.Gate
		if g.Kind == estate.Roster {
			gate = nil
		}
		r = p.rule(id, gate)
		if alike {
			p.ruled[key] = r
		}
	}
	if p.group == id {
		p.ruling = r
	}
	return r
}

// rule looks at the edge and a gate.
func (p *Pass) rule(id estate.ID, gate []estate.GateRule) *rulings {
	edge := p.E.Settings().Edge
	r := &rulings{rules: slices.Concat(edge, gate), edge: len(edge), outsider: map[int]outsider{}}
	n := len(r.rules)
	r.anybody, r.outside, r.invited = make([]use, n), make([]use, n), make([]use, n)
	d := &decisions{p: p, group: id, asks: p.R.AsksOf(r.rules), rulings: r}
	for _, rule := range r.rules {
		d.rules = append(d.rules, d.sized(rule.Selector))
	}
	d.all()
	return r
}

// decisions looks for who decides, over all sizes of messages at once: a gate with
// many thresholds tells as many ranges of sizes apart, but each of its rules only a
// few.
type decisions struct {
	*rulings
	p     *Pass
	group estate.ID
	asks  resolve.Asks
	rules []sizedRule
}

// sizedRule is a selector, and the ranges of sizes that it tells apart.
type sizedRule struct {
	x      selector.Expr
	ranges []sizeRange
}

// sizeRange is a range of the sizes of a gate: by index, without the last.
type sizeRange struct{ from, to int }

func (d *decisions) sized(x selector.Expr) sizedRule {
	r := sizedRule{x: x}
	sizes := []int64{0}
	selector.Atoms(x, func(a *selector.Atom) {
		if a.Kind == selector.Larger {
			sizes = append(sizes, a.Size+1)
		}
	})
	slices.Sort(sizes)
	for _, size := range slices.Compact(sizes) {
		from, _ := slices.BinarySearch(d.asks.Sizes, size)
		if n := len(r.ranges); n > 0 {
			r.ranges[n-1].to = from
		}
		r.ranges = append(r.ranges, sizeRange{from, len(d.asks.Sizes)})
	}
	return r
}

// all tries everybody with every message.
func (d *decisions) all() {
	codes := d.p.E.Settings().CodeSender
	for _, traits := range d.asks.Traits() {
		for _, unproven := range []bool{false, true} {
			m := traits
			m.Unproven = unproven
			d.everybody(m)
			for _, s := range d.p.others(&d.asks, unproven) {
				d.other(s, m, d.eval, func(i, at int) { d.noteOther(i, at, m, s) })
			}
			if unproven && d.asks.Domains {
				for _, s := range d.p.furtherAddresses() {
					d.other(s, m, d.eval, func(i, at int) { d.noteForged(i, at, m, s) })
				}
			}
			if !d.asks.KnownTried(m) {
				continue
			}
			if codes.IsValid() {
				d.other(d.p.R.Sender(codes), m, d.eval, func(i, _ int) { d.raise(d.anybody, i, barely) })
			}
		}
	}
	if !d.asks.Kinds[selector.Invitation] { // it is judged as any other message
		copy(d.invited, d.anybody)
	}
}

// imagined returns which rules of the edge and of a group's gate decide for somebody who is a new
// member of this very group, and so of every group that it is nested in.
func (p *Pass) imagined(id estate.ID) []bool {
	rules := slices.Concat(p.E.Settings().Edge, p.E.Group(id).Gate)
	d := &decisions{p: p, group: id, asks: p.R.AsksOf(rules), rulings: &rulings{rules: rules, anybody: make([]use, len(rules))}}
	for _, rule := range rules {
		d.rules = append(d.rules, d.sized(rule.Selector))
	}
	for _, m := range d.asks.Traits() {
		for _, m.Unproven = range []bool{false, true} {
			if d.asks.KnownTried(m) {
				d.newcomers(m)
			}
		}
	}
	decides := make([]bool, len(rules))
	for i, u := range d.anybody {
		decides[i] = u > unused
	}
	return decides
}

// everybody tries people and groups of the estate by their main addresses.
func (d *decisions) everybody(m resolve.Message) {
	if len(d.asks.Sizes) > 1 || d.group == estate.None {
		d.known(m, d.set, func(i, at int, class *roaring.Bitmap) { d.note(i, at, m, class) })
		return
	}
	for i, class := range d.p.R.Gate(d.group).Decided(m) {
		if !class.Senders.IsEmpty() {
			d.note(i, 0, m, class.Senders)
		}
	}
}

func (d *decisions) set(x selector.Expr, m resolve.Message) *roaring.Bitmap {
	return d.p.R.Set(d.group, x, m)
}

func (d *decisions) eval(x selector.Expr, s resolve.Sender, m resolve.Message) bool {
	return d.p.R.Eval(d.group, x, s, m)
}

// newcomers tries everybody, and a stranger, as if they were new members.
func (d *decisions) newcomers(m resolve.Message) {
	alive := func(i, _ int) { d.raise(d.anybody, i, barely) }
	d.known(m, d.p.R.Gate(d.group).AsNewcomers, func(i, at int, _ *roaring.Bitmap) { alive(i, at) })
	strangers := d.p.R.Strangers()
	for _, s := range []resolve.Sender{strangers.Inside, strangers.Outside} {
		d.other(s, m, d.p.R.Gate(d.group).EvalAsNewcomer, alive)
	}
}

func (d *decisions) raise(list []use, rule int, u use) { list[rule] = max(list[rule], u) }

// note notes that a rule decides for people and groups of the estate.
func (d *decisions) note(i, at int, m resolve.Message, class *roaring.Bitmap) {
	m.Size = d.asks.Sizes[at]
	if m.Unproven {
		d.noteForgery(i, m, class)
	}
	if !d.asks.KnownTried(m) {
		return
	}
	u := seldom
	if isUsual(m) {
		u = usual
	}
	d.raise(d.anybody, i, u)
	if m.Invitation {
		d.raise(d.invited, i, seldom)
	}
	if d.outside[i] < u && class.Intersects(d.p.outside) {
		d.outside[i] = u
		who := d.p.R.Sender(d.p.E.Address(estate.ID(roaring.And(class, d.p.outside).Minimum())))
		d.outsider[i] = outsider{who, m}
	}
}

// noteForgery notes that a rule decides for unproven messages that claim to be from
// people and groups of the estate.
func (d *decisions) noteForgery(i int, m resolve.Message, class *roaring.Bitmap) {
	if !d.forges(i, m) {
		return
	}
	victim := d.p.first(class)
	d.forgery = &forgery{
		rule:    i - d.edge + 1,
		victim:  d.p.R.Sender(d.p.E.Address(victim)),
		others:  int(class.GetCardinality()) - 1,
		message: m,
	}
}

// forges reports whether an unproven message that a rule decides about is the worst
// forgery so far, if it claims a known address.
func (d *decisions) forges(i int, m resolve.Message) bool {
	if i < d.edge || d.rulings.rules[i].Verdict != estate.Admit {
		return false
	}
	honest := m
	honest.Unproven = false
	if d.forgery != nil && (d.forgery.isUsual() || !isUsual(honest)) {
		return false
	}
	return d.p.R.Gate(d.group).Post(d.p.R.Strangers().Outside, honest).Verdict != estate.Admit
}

// isUsual reports whether a forgery is but for being one a default message.
func (f *forgery) isUsual() bool { return f.message == resolve.Message{Unproven: true} }

// noteOther notes that a rule decides for somebody else.
func (d *decisions) noteOther(i, at int, m resolve.Message, s resolve.Sender) {
	m.Size = d.asks.Sizes[at]
	u := seldom
	if isUsual(m) {
		u = usual
	}
	d.raise(d.anybody, i, u)
	if m.Invitation {
		d.raise(d.invited, i, seldom)
	}
	if d.outside[i] < u && d.p.isOutside(s) {
		d.outside[i], d.outsider[i] = u, outsider{s, m}
	}
}

// noteForged notes that a rule decides for unproven messages that claim an alias.
func (d *decisions) noteForged(i, at int, m resolve.Message, s resolve.Sender) {
	m.Size = d.asks.Sizes[at]
	if d.forges(i, m) {
		d.forgery = &forgery{rule: i - d.edge + 1, victim: s, message: m}
	}
}

// known visits the rules that decide for people and groups of the estate with a
// message, of whatever size: from the index of a size on.
func (d *decisions) known(
	m resolve.Message,
	whose func(selector.Expr, resolve.Message) *roaring.Bitmap,
	visit func(rule, at int, class *roaring.Bitmap),
) {
	// Those that no rule has decided about yet, by size. Sizes that are alike share a set.
	left := make([]*roaring.Bitmap, len(d.asks.Sizes))
	everyone := d.p.R.Set(d.group, &selector.Atom{Kind: selector.Anyone}, m)
	for i := range left {
		left[i] = everyone
	}
	for i, rule := range d.rules {
		for _, sizes := range rule.ranges {
			m.Size = d.asks.Sizes[sizes.from]
			set := whose(rule.x, m)
			var before, after *roaring.Bitmap
			for at := sizes.from; at < sizes.to && !set.IsEmpty(); at++ {
				if left[at] != before {
					before = left[at]
					class := roaring.And(before, set)
					if after = before; !class.IsEmpty() {
						after = roaring.AndNot(before, set)
						visit(i, at, class)
					}
				}
				left[at] = after
			}
		}
	}
}

// other visits the rules that decide for a sender with a message, of whatever size: from
// the index of a size on.
func (d *decisions) other(
	s resolve.Sender,
	m resolve.Message,
	holds func(selector.Expr, resolve.Sender, resolve.Message) bool,
	visit func(rule, at int),
) {
	decided := make([]bool, len(d.asks.Sizes))
	left := len(decided)
	for i, rule := range d.rules {
		for _, sizes := range rule.ranges {
			m.Size = d.asks.Sizes[sizes.from]
			if !holds(rule.x, s, m) {
				continue
			}
			first := true
			for at := sizes.from; at < sizes.to; at++ {
				if decided[at] {
					continue
				}
				decided[at] = true
				left--
				if first {
					visit(i, at)
				}
				first = false
			}
		}
		if left == 0 {
			return
		}
	}
}

// reaching returns how far mail of some senders gets one of some verdicts: of rulings.anybody,
// outside or invited.
func (r *rulings) reaching(by []use, verdicts ...estate.Verdict) use {
	most := unused
	for i, u := range by {
		if u > most && slices.Contains(verdicts, r.rules[i].Verdict) {
			most = u
		}
	}
	return most
}

// firstWith returns the place of the first rule of a group's gate, or of the edge, that decides with
// a verdict as far as any with it does, and how far; how far is less than seldom if there is none.
func (p *Pass) firstWith(id estate.ID, verdict estate.Verdict) (place estate.Place, far use) {
	r := p.rulings(id)
	most := r.reaching(r.anybody, verdict)
	for i, rule := range r.rules {
		if rule.Verdict != verdict || r.anybody[i] != most {
			continue
		}
		if i >= r.edge { // equal gates are looked at once, and each stands in a place of its own
			return p.E.Group(id).Gate[i-r.edge].Place, most
		}
		return rule.Place, most
	}
	return estate.Place{}, unused
}

// outsidersWrite returns how far somebody outside may write to a group, admitted or held.
func (p *Pass) outsidersWrite(id estate.ID) use {
	r := p.rulings(id)
	return r.reaching(r.outside, estate.Admit, estate.Hold)
}

// whoWrites says who outside may write to a group as far as that goes: anybody, or those it is
// about, and with which message.
func (p *Pass) whoWrites(id estate.ID) string {
	r := p.rulings(id)
	var far use
	var who outsider
	for i, u := range r.outside {
		verdict := r.rules[i].Verdict
		stranger := r.outsider[i].Address == p.R.Strangers().Outside.Address
		if (verdict == estate.Admit || verdict == estate.Hold) && (u > far || u == far && u > unused && stranger) {
			far, who = u, r.outsider[i]
		}
	}
	said := "People outside may write to " + p.name(id)
	switch {
	case who.ID != estate.None:
		said = p.name(who.ID) + ", who is outside, may write to " + p.name(id)
	case who.Address != p.R.Strangers().Outside.Address:
		said = "People of " + who.Address.Domain() + ", who are outside, may write to " + p.name(id)
	}
	return said + like(who.message)
}

// unanswered returns how far somebody outside may write to a group, admitted or held, who gets no
// copy of its mail.
func (p *Pass) unanswered(id estate.ID) use {
	most := p.outsidersWrite(id)
	if most < seldom || p.outside.IsEmpty() {
		return most
	}
	silent := p.outside.Clone()
	for _, x := range p.R.Flow(id, resolve.Message{}).Outcomes() {
		if x.Outcome == resolve.Inbox || x.Outcome == resolve.Digest {
			silent.Remove(uint32(x.Person))
		}
	}
	far := unused
	asks := p.R.AsksOf(p.E.Settings().Edge, p.E.Group(id).Gate)
	writes := func(v estate.Verdict) bool { return v == estate.Admit || v == estate.Hold }
	for _, m := range asks.Messages() {
		u := seldom
		if isUsual(m) {
			u = usual
		}
		if far >= u {
			continue
		}
		found := slices.ContainsFunc(p.others(&asks, m.Unproven), func(s resolve.Sender) bool {
			known := s.ID != estate.None && !silent.Contains(uint32(s.ID))
			return p.isOutside(s) && !known && writes(p.R.Gate(id).Post(s, m).Verdict)
		})
		for _, class := range p.R.Gate(id).Decided(m) {
			found = found || asks.KnownTried(m) && writes(class.Verdict) && class.Senders.Intersects(silent)
		}
		if found {
			far = u
		}
	}
	return far
}
