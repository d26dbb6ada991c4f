package estate

import (
	"encoding/binary"
	"maps"
	"slices"
	"unsafe"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// A coder lays values one after another in bytes, or reads them back: what a kind of value
// consists of is said once, for both directions. Numbers are varints of package
// encoding/binary. Texts that are read share the memory of the bytes.
type coder struct {
	data    []byte
	at      int // in data, of what is read next
	reading bool
	damaged bool // what was read is nothing that was written; all else read is zero
	rules   *ruleTexts
	cells   []cell // of the columns that are read next
}

// take returns the next n bytes of what is read.
func (c *coder) take(n uint64) []byte {
	if n > uint64(len(c.data)-c.at) {
		c.damaged, c.at = true, len(c.data)
		return nil
	}
	taken := c.data[c.at : c.at+int(n)]
	c.at += int(n)
	return taken
}

// number codes a whole number that is not negative.
func number[T ~uint8 | ~uint16 | ~uint32 | ~int32 | ~int](c *coder, n *T) {
	if !c.reading {
		c.data = binary.AppendUvarint(c.data, uint64(*n))
		return
	}
	read, size := binary.Uvarint(c.data[c.at:])
	if size <= 0 || uint64(T(read)) != read {
		c.damaged, c.at = true, len(c.data)
		return
	}
	*n = T(read)
	c.at += size
}

func (c *coder) flag(is *bool) {
	n := uint8(0)
	if *is {
		n = 1
	}
	number(c, &n)
	*is = n != 0
}

func (c *coder) text(s *string) {
	n := len(*s)
	number(c, &n)
	if !c.reading {
		c.data = append(c.data, *s...)
		return
	}
	read := c.take(uint64(n))
	*s = unsafe.String(unsafe.SliceData(read), len(read))
}

// list codes a list of values, each coded by one; that it is nil counts.
func list[T any](c *coder, values *[]T, one func(*T)) {
	n := 0
	if *values != nil {
		n = len(*values) + 1
	}
	number(c, &n)
	if c.reading && n > 0 {
		if n-1 > len(c.data)-c.at { // each value takes a byte at least
			c.damaged = true
			return
		}
		*values = make([]T, n-1)
	}
	for i := range *values {
		one(&(*values)[i])
	}
}

// keyed codes a map, in the order of its keys.
func keyed[T any](c *coder, values map[string]T, one func(*T)) {
	keys := slices.Sorted(maps.Keys(values))
	list(c, &keys, func(key *string) {
		c.text(key)
		value := values[*key]
		one(&value)
		values[*key] = value
	})
}

func (c *coder) place(p *Place) {
	number(c, &p.Line)
	number(c, &p.Column)
	number(c, &p.File)
}

func (c *coder) address(a *address.Address) {
	text, key, at := a.String(), a.Key(), a.At()
	same := text == key
	c.text(&text)
	c.flag(&same)
	if !same {
		c.text(&key)
	} else {
		key = text
	}
	number(c, &at)
	if c.reading {
		var ok bool
		if *a, ok = address.Restore(text, key, at); !ok {
			c.damaged = true
		}
	}
}

func (c *coder) filter(f *selector.Filter) {
	text := ""
	if *f != nil {
		text = (*f).String()
	}
	c.text(&text)
	if c.reading && text != "" {
		var err error
		if *f, err = selector.ParseFilter(text); err != nil {
			c.damaged = true
		}
	}
}

func (c *coder) listed(l *Listed) {
	number(c, &l.ID)
	c.place(&l.Place)
}

func (c *coder) memberRule(r *MemberRule) {
	c.filter(&r.Filter)
	says := Entry{packed: pack(r.Membership)}
	number(c, &says.packed)
	r.Membership = says.Membership()
	c.place(&r.Place)
}

func (c *coder) acceptance(a *Acceptance) {
	c.text(&a.Hazard)
	c.text(&a.Address)
	c.text(&a.Because)
	number(c, &a.Until)
	c.place(&a.Place)
	list(c, &a.Groups, c.text)
	c.filter(&a.Filter)
}

func (c *coder) attribute(a *Attribute) {
	c.text(&a.Name)
	c.text(&a.Value)
}

func (c *coder) unknown(u *Unknown) {
	c.address(&u.Address)
	number(c, &u.Group)
	c.text(&u.Role)
	c.place(&u.Place)
}

func (c *coder) listing(l *Listing) {
	c.address(&l.Address)
	c.place(&l.Place)
}

func (c *coder) settings(s *Settings) {
	list(c, &s.Files, c.text)
	c.text(&s.Name)
	list(c, &s.Domains, func(d *Domain) {
		c.text(&d.Name)
		c.text(&d.SameAs)
		c.place(&d.Place)
	})
	c.text(&s.Subaddress)
	c.flag(&s.OpenNestedGates)
	c.address(&s.CodeSender)
	list(c, &s.Edge, func(r *GateRule) { c.gateRule(edgeRule, r) })
	list(c, &s.Accepted, c.acceptance)
}

// group codes what a group has apart from its addresses.
func (c *coder) group(g *Group) {
	c.text(&g.Title)
	c.text(&g.About)
	number(c, &g.Kind)
	list(c, &g.Owners, c.listed)
	list(c, &g.Moderators, c.listed)
	number(c, &g.Copy)
	number(c, &g.Joiners)
	number(c, &g.OutsideCopy)
	c.flag(&g.NoOutsideMembers)
	number(c, &g.Invitations)
	c.flag(&g.NoWelcome)
	c.flag(&g.NoEcho)
	c.gate(&g.Gate)
	c.selector(notifyRule, &g.NotifySender, &defaultNotify)
	list(c, &g.SendAs, c.sendAs)
	number(c, &g.SendAsProof)
	number(c, &g.RepliesAs)
	number(c, &g.RepliesTo)
	c.address(&g.RepliesToAt)
	c.access(&g.Access)
	c.text(&g.SubjectTag)
	c.text(&g.Footer)
	c.text(&g.AutoAnswer)
	list(c, &g.Attributes, c.attribute)
	number(c, &g.PauseAfter)
	c.text(&g.ManagedIn)
	c.place(&g.Place)
	list(c, &g.Given, func(given *Given) {
		c.text(&given.Setting)
		c.place(&given.Place)
	})
	list(c, &g.Accepted, c.acceptance)
}

// gate codes a gate. The default one is the same for all groups that have it.
func (c *coder) gate(gate *[]GateRule) {
	isDefault := len(*gate) == 1 && &(*gate)[0] == &defaultGate[0]
	c.flag(&isDefault)
	if isDefault {
		*gate = defaultGate
		return
	}
	list(c, gate, func(r *GateRule) { c.gateRule(gateRule, r) })
}

func (c *coder) gateRule(kind ruleKind, r *GateRule) {
	rule := c.rule(kind, r.Text)
	c.place(&r.Place)
	if c.reading && rule != nil {
		*r = NewGateRule(*rule, r.Place)
	}
}

func (c *coder) sendAs(r *SendAsRule) {
	number(c, &r.SendAs)
	rule := c.rule(sendAsRule, r.Text)
	c.place(&r.Place)
	if c.reading && rule != nil {
		r.Selector, r.Text = rule.Selector, rule.Text
	}
}

// access codes the rules of the access setting that are not as by default.
func (c *coder) access(rules *[actions]SelectorRule) {
	for action := range rules {
		c.selector(accessRule, &rules[action], &defaultAccess[action])
	}
}

// selector codes a setting that is one selector, if it is not as by default.
func (c *coder) selector(kind ruleKind, rule, byDefault *SelectorRule) {
	isDefault := rule.Selector == byDefault.Selector
	if c.flag(&isDefault); isDefault {
		*rule = *byDefault
		return
	}
	read := c.rule(kind, rule.Text)
	c.place(&rule.Place)
	if c.reading && read != nil {
		rule.Selector, rule.Text = read.Selector, read.Text
	}
}

// rule codes a rule by the number of its text. It returns the rule that is read.
func (c *coder) rule(kind ruleKind, text string) *selector.Rule {
	if !c.reading {
		n := c.rules.number(kind, text)
		number(c, &n)
		return nil
	}
	n := 0
	number(c, &n)
	rule := c.rules.rule(n)
	if rule == nil {
		c.damaged = true
	}
	return rule
}
