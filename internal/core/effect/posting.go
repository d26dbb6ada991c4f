package effect

import (
	"cmp"
	"slices"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Said is what becomes of a message to a group, as far as its sender can tell.
type Said struct {
	Verdict estate.Verdict
	Told    bool   // the sender is notified that it is held or refused
	Text    string // what the rule that decides has to say; "" where it reaches no sender
	NoRule  bool   // none decides
	Roster  bool   // no rule is asked, as a roster accepts no mail
}

// A PostChange is another verdict for some senders of a message, or another text.
type PostChange struct {
	Message  resolve.Message
	Old, New Said
	People   []Somebody
}

// said returns what a decision about mail to a group says to a sender that notify-sender names or
// does not.
func said(r *resolve.Resolver, group estate.ID, d resolve.Decision, m resolve.Message, notified bool) Said {
	s := Said{
		Verdict: d.Verdict,
		Told:    message.Tells(d, m, func() bool { return notified }),
		NoRule:  r.Gate(group).Rule(d) == nil,
	}
	s.Roster = s.NoRule && r.Estate().Group(group).Kind == estate.Roster
	if d.Verdict == estate.Hold || d.Verdict == estate.Refuse {
		s.Text = r.Gate(group).Because(d)
	}
	return s
}

// posts compares what becomes of everybody's messages. Gates that are written alike and
// do not speak of their group are asked once.
func (c *comparison) posts(change *GroupChange) {
	old, id := change.Group.Old, change.Group.New
	was, is := c.a.Group(old), c.b.Group(id)
	key := ""
	if resolve.SameForAll(was) && resolve.SameForAll(is) && resolve.SameSelector(was.NotifySender.Selector) &&
		resolve.SameSelector(is.NotifySender.Selector) {
		key = gateText(was) + "\x00" + gateText(is)
		if known, ok := c.posted[key]; ok {
			change.Posts = known
			return
		}
	}
	asks := c.new.AsksOf(c.a.Settings().Edge, c.b.Settings().Edge, was.Gate, is.Gate, notifying(was), notifying(is))
	for _, m := range asks.Messages() {
		change.Posts = append(change.Posts, c.postsOf(old, id, m, &asks)...)
	}
	if key != "" {
		c.posted[key] = change.Posts
	}
}

// notifying is what notify-sender of a group asks, as a rule.
func notifying(g *estate.Group) []estate.GateRule {
	return []estate.GateRule{{Selector: g.NotifySender.Selector, Text: g.NotifySender.Text}}
}

// gateText stands for what a gate that does not speak of its group says to senders.
func gateText(g *estate.Group) string {
	var b strings.Builder
	b.WriteString(g.NotifySender.Text)
	for _, rule := range g.Gate {
		b.WriteString("\n" + rule.Text)
	}
	return b.String()
}

// postsOf compares what becomes of one message.
func (c *comparison) postsOf(old, id estate.ID, m resolve.Message, asks *resolve.Asks) []PostChange {
	type pair struct{ old, new Said }
	people, others := map[pair]*roaring.Bitmap{}, map[pair][]Somebody{}
	before := saidSets(c.old, old, m)
	later := saidSets(c.new, id, m)
	for was, set := range before {
		moved := c.translate(set)
		for is, other := range later {
			if was == is {
				continue
			}
			if both := roaring.And(moved, other); both.Intersects(c.both) {
				both.And(c.both)
				people[pair{was, is}] = both
			}
		}
	}
	for _, s := range c.others(asks, m.Unproven) {
		was := said(c.old, old, c.old.Gate(old).Post(s.old, m), m, message.Notified(c.old, old, s.old, m))
		is := said(c.new, id, c.new.Gate(id).Post(s.new, m), m, message.Notified(c.new, id, s.new, m))
		if was != is {
			others[pair{was, is}] = append(others[pair{was, is}], s.Somebody)
			if people[pair{was, is}] == nil {
				people[pair{was, is}] = nobody
			}
		}
	}
	var changes []PostChange
	for k, set := range people {
		changes = append(changes, PostChange{m, k.old, k.new, with(c.addresses(set), others[k])})
	}
	slices.SortFunc(changes, func(x, y PostChange) int {
		return cmp.Or(x.Old.compare(y.Old), x.New.compare(y.New))
	})
	return changes
}

func (s Said) compare(other Said) int {
	return cmp.Or(
		cmp.Compare(s.Verdict, other.Verdict), cmp.Compare(bit(s.Told), bit(other.Told)),
		strings.Compare(s.Text, other.Text), cmp.Compare(bit(s.NoRule), bit(other.NoRule)),
		cmp.Compare(bit(s.Roster), bit(other.Roster)),
	)
}

// nobody is the empty set. It is not to be changed.
var nobody = roaring.New()

// saidSets returns people and groups by what is said to them.
func saidSets(r *resolve.Resolver, id estate.ID, m resolve.Message) map[Said]*roaring.Bitmap {
	notified := r.Set(id, r.Estate().Group(id).NotifySender.Selector, m)
	sets := map[Said]*roaring.Bitmap{}
	add := func(s Said, set *roaring.Bitmap) {
		if sets[s] == nil {
			sets[s] = roaring.New()
		}
		sets[s].Or(set)
	}
	for _, class := range r.Gate(id).Posters(m) {
		heard, unheard := said(r, id, class.Decision, m, true), said(r, id, class.Decision, m, false)
		if heard == unheard {
			add(heard, class.Senders)
			continue
		}
		add(heard, roaring.And(class.Senders, notified))
		add(unheard, roaring.AndNot(class.Senders, notified))
	}
	return sets
}
