package effect

import (
	"cmp"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Right is how somebody may send as a group.
type Right struct {
	SendAs estate.SendAs
	Proof  resolve.Proof // of people; else not needed
}

// A SendAsChange is another right to send as a group for some people.
type SendAsChange struct {
	Old, New Right
	People   []Somebody
}

// sendsAs compares who may send as a group, and whether they can show it.
func (c *comparison) sendsAs(change *GroupChange) {
	old, id := change.Group.Old, change.Group.New
	if len(c.a.Group(old).SendAs)+len(c.b.Group(id).SendAs) == 0 {
		return
	}
	before, later := c.rights(c.old, c.a, old, true), c.rights(c.new, c.b, id, false)
	type pair struct{ old, new Right }
	people := map[pair][]Somebody{}
	for key, was := range before {
		if is := later[key]; is.Right != was.Right {
			people[pair{was.Right, is.Right}] = append(people[pair{was.Right, is.Right}], was.Somebody)
		}
	}
	for key, is := range later {
		if _, known := before[key]; !known {
			people[pair{Right{}, is.Right}] = append(people[pair{Right{}, is.Right}], is.Somebody)
		}
	}
	var rules []estate.GateRule
	for _, rule := range slices.Concat(c.a.Group(old).SendAs, c.b.Group(id).SendAs) {
		rules = append(rules, estate.GateRule{Selector: rule.Selector})
	}
	asks := c.new.AsksOf(rules)
	for _, s := range c.others(&asks, false) {
		was, _ := c.old.Rights(old).SendAs(s.old)
		is, _ := c.new.Rights(id).SendAs(s.new)
		if c.isPerson(s) || was == is {
			continue // people who are already listed
		}
		k := pair{Right{SendAs: was}, Right{SendAs: is}}
		people[k] = append(people[k], s.Somebody)
	}
	for k, list := range people {
		change.SendsAs = append(change.SendsAs, SendAsChange{k.old, k.new, sorted(list)})
	}
	slices.SortFunc(change.SendsAs, func(x, y SendAsChange) int {
		return cmp.Or(
			cmp.Compare(x.Old.SendAs, y.Old.SendAs), cmp.Compare(x.New.SendAs, y.New.SendAs),
			cmp.Compare(x.Old.Proof, y.Old.Proof), cmp.Compare(x.New.Proof, y.New.Proof),
		)
	})
}

// isPerson reports whether a sender is a person of either estate by their main address.
func (c *comparison) isPerson(s twin) bool {
	main := func(e *estate.Estate, x resolve.Sender) bool {
		return x.ID != estate.None && e.IsPerson(x.ID) && e.Key(e.Address(x.ID)) == e.Key(x.Address)
	}
	return main(c.a, s.old) || main(c.b, s.new)
}

// holder is somebody with a right.
type holder struct {
	Somebody
	Right
}

// rights returns the people who may send as a group.
func (c *comparison) rights(r *resolve.Resolver, e *estate.Estate, group estate.ID, isOld bool) map[string]holder {
	list := map[string]holder{}
	for _, s := range r.Rights(group).Delegates().People {
		key := c.keyOf(e, s.ID, isOld)
		list[key] = holder{Somebody{Address: c.addressOf(e, s.ID, isOld)}, Right{s.SendAs, s.Proof}}
	}
	return list
}

// A MayChange is people who may do something with a group, or may no longer.
type MayChange struct {
	What   string // approves, or an action of access
	Now    bool   // they may now, and could not before
	People []Somebody
}

// may compares who approves, and who may do what access says.
func (c *comparison) may(change *GroupChange) {
	old, id := change.Group.Old, change.Group.New
	approvers := func(r *resolve.Resolver, group estate.ID) *roaring.Bitmap {
		set := roaring.New()
		people, _ := r.Approvers(group)
		for _, person := range people {
			set.Add(uint32(person))
		}
		return set
	}
	c.mayChanges(change, "approves", approvers(c.old, old), approvers(c.new, id), [2]bool{}, [2]bool{})
	for i, name := range estate.ActionWords() {
		was, outsideBefore, insideBefore := c.old.Rights(old).May(estate.Action(i))
		is, outsideLater, insideLater := c.new.Rights(id).May(estate.Action(i))
		c.mayChanges(change, name, was, is, [2]bool{outsideBefore, insideBefore}, [2]bool{outsideLater, insideLater})
	}
}

// mayChanges notes who may do something, and could not before, and the other way round.
// The strangers are those outside and inside.
func (c *comparison) mayChanges(change *GroupChange, what string, was, is *roaring.Bitmap, before, later [2]bool) {
	moved := c.translate(was)
	lost, gone := roaring.AndNot(moved, is), roaring.AndNot(was, c.stays)
	people := [2][]Somebody{c.addresses(lost), c.addresses(roaring.AndNot(is, moved))}
	var others [2][]Somebody
	for it := gone.Iterator(); it.HasNext(); {
		others[0] = append(others[0], Somebody{Address: c.a.Address(estate.ID(it.Next()))})
	}
	for i, name := range []string{"outside", "inside"} {
		if before[i] != later[i] {
			others[bit(later[i])] = append(others[bit(later[i])], Somebody{Stranger: name})
		}
	}
	for side := range people {
		if list := with(people[side], others[side]); len(list) > 0 {
			change.May = append(change.May, MayChange{what, side == 1, list})
		}
	}
}

// addressOf returns the address of somebody of one of the estates: of who is in both, the
// new one.
func (c *comparison) addressOf(e *estate.Estate, id estate.ID, isOld bool) address.Address {
	if isOld && c.toNew[id] != estate.None {
		return c.b.Address(c.toNew[id])
	}
	return e.Address(id)
}

// sees compares what a reader of the group's mail sees.
func (c *comparison) sees(change *GroupChange) {
	was, is := c.a.Group(change.Group.Old), c.b.Group(change.Group.New)
	if was.Kind == estate.Roster && is.Kind == estate.Roster {
		return
	}
	var list settingChanges
	list.note("from-of-replies", one(replyFrom(was)), one(replyFrom(is)))
	list.note("reply-to", one(replyTo(was)), one(replyTo(is)))
	list.note("subject-tag", one(was.SubjectTag), one(is.SubjectTag))
	list.note("footer", one(was.Footer), one(is.Footer))
	list.note("auto-answer", one(was.AutoAnswer), one(is.AutoAnswer))
	change.Sees = list
}

// replyFrom returns From of a member's answer, by default.
func replyFrom(g *estate.Group) string {
	if g.RepliesAs == estate.PartyGroup {
		return g.Address.String()
	}
	return "person"
}

// replyTo returns Reply-To of copies, or "".
func replyTo(g *estate.Group) string {
	switch {
	case g.RepliesToAt.IsValid():
		return g.RepliesToAt.String()
	case g.RepliesTo == estate.PartyGroup:
		return g.Address.String()
	}
	return ""
}

// joining compares what a new member gets.
func (c *comparison) joining(change *GroupChange) {
	was, is := c.a.Group(change.Group.Old), c.b.Group(change.Group.New)
	var list settingChanges
	list.note("copy", one(joiners(was)), one(joiners(is)))
	list.note("welcome", one(yesNo(!was.NoWelcome)), one(yesNo(!is.NoWelcome)))
	change.Joining = list
}

// joiners returns what a new membership is written with, or what holds for it.
func joiners(g *estate.Group) string {
	for _, copy := range []estate.Copy{g.Joiners, g.Copy} {
		if copy != estate.CopyUnset {
			return copy.String()
		}
	}
	return estate.CopyEvery.String()
}

func yesNo(yes bool) string {
	if yes {
		return "true"
	}
	return "false"
}
