package expect

import (
	"slices"
	"strconv"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// mostNamed is how many people a drafted statement names.
const mostNamed = 12

// Draft writes expectations for groups that hold as the estate is: few, and in the
// words in which somebody would state them. What cannot be stated in a few words
// is said in a comment.
func Draft(r *resolve.Resolver, groups []estate.ID) string {
	var b strings.Builder
	for i, id := range groups {
		if i > 0 {
			b.WriteString("\n")
		}
		d := &draft{r: r, group: id}
		d.posting()
		d.receiving()
		d.sending()
		d.approving()
		b.WriteString("to " + r.Estate().Address(id).String() + "\n")
		for _, line := range d.lines {
			b.WriteString("  " + line + "\n")
		}
	}
	return b.String()
}

// draft collects the statements about one group. Those who receive, send as the group
// or approve are described and, where they are few, named, too, so that one who
// comes or goes is noticed.
type draft struct {
	r     *resolve.Resolver
	group estate.ID
	lines []string
}

// state adds a statement if it holds and is not there yet, and reports whether it
// holds.
func (d *draft) state(statement string) bool {
	list, errs := Parse("to " + d.r.Estate().Address(d.group).String() + "\n" + statement + "\n")
	if len(errs) > 0 || len(list) != 1 || len(Check(d.r.Estate(), list)) > 0 || !Evaluate(d.r, &list[0]).Holds {
		return false
	}
	if !slices.Contains(d.lines, statement) {
		d.lines = append(d.lines, statement)
	}
	return true
}

// comment says that something is not stated.
func (d *draft) comment(n int, what string) {
	if n > 0 {
		d.lines = append(d.lines, "# "+what+": "+strconv.Itoa(n)+" that a few words do not describe")
	}
}

// posting states what the gate says to everybody: of a message that is like most,
// then of those that are otherwise.
func (d *draft) posting() {
	usual := d.postingOf(resolve.Message{}, "")
	d.postingOf(resolve.Message{Unproven: true}, "unproven")
	var alike []string
	for _, one := range d.otherwise() {
		if d.sameVerdicts(one.m) {
			alike = append(alike, one.word)
			continue
		}
		d.postingOf(one.m, one.word)
	}
	for _, s := range usual {
		if len(alike) == 0 || d.state(s.verb+" "+both(either(alike), s.who)) {
			continue
		}
		for _, word := range alike { // both together are treated otherwise
			d.state(s.verb + " " + both(word, s.who))
		}
	}
}

// sort is a sort of messages: the atom that is true of one, and one like it.
type sort struct {
	word string
	m    resolve.Message
}

// otherwise returns the sorts of messages that a gate may treat otherwise, with the
// sizes that this one asks about.
func (d *draft) otherwise() []sort {
	list := []sort{
		{"suspect", resolve.Message{Suspect: true}},
		{"automatic", resolve.Message{Automatic: true}},
		{"invitation", resolve.Message{Invitation: true}},
	}
	for _, rule := range d.rules() {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			if a.Kind == selector.Larger {
				list = append(list, sort{a.String(), resolve.Message{Size: a.Size + 1}})
			}
		})
	}
	return list
}

// rules returns those that judge a message to the group.
func (d *draft) rules() []estate.GateRule {
	e := d.r.Estate()
	return slices.Concat(e.Settings().Edge, e.Group(d.group).Gate)
}

// said is a statement in its two parts.
type said struct{ verb, who string }

// postingOf states what the gate says to everybody who sends such a message, and
// returns what it stated.
func (d *draft) postingOf(m resolve.Message, word string) []said {
	var list []said
	v := newVocabulary(d.r, d.group, m)
	v.add("anyone", "members", "owners", "moderators", "inside", "outside", "known", "not known")
	for _, rule := range d.rules() {
		v.addAsked(rule.Selector)
	}
	verdicts := d.verdicts(v)
	for verdict, set := range verdicts {
		if set.IsEmpty() {
			continue
		}
		if word != "" && v.all.GetCardinality() == set.GetCardinality() {
			d.state(verbs[verdict] + " " + word)
			continue
		}
		who, left := v.describe(set)
		for _, one := range who {
			if d.state(verbs[verdict] + " " + both(word, one)) {
				list = append(list, said{verbs[verdict], one})
			} else {
				left++
			}
		}
		d.comment(left, strings.TrimSpace(verbs[verdict]+" "+word)+", and others")
	}
	return list
}

// verdicts returns who gets which verdict, of all that a vocabulary speaks of.
func (d *draft) verdicts(v *vocabulary) [estate.Drop + 1]*roaring.Bitmap {
	var sets [estate.Drop + 1]*roaring.Bitmap
	for verdict := range sets {
		sets[verdict] = roaring.New()
	}
	for _, class := range d.r.Gate(d.group).Posters(v.m) {
		sets[class.Verdict].Or(roaring.And(class.Senders, v.all))
	}
	for i, s := range v.strangers {
		sets[d.r.Gate(d.group).Post(s.sender, v.m).Verdict].Add(v.first + uint32(i))
	}
	return sets
}

// sameVerdicts reports whether such a message gets from everybody the verdict that
// one gets that is like most.
func (d *draft) sameVerdicts(m resolve.Message) bool {
	usual := d.verdicts(newVocabulary(d.r, d.group, resolve.Message{}))
	for verdict, set := range d.verdicts(newVocabulary(d.r, d.group, m)) {
		if !set.Equals(usual[verdict]) {
			return false
		}
	}
	return true
}

// receiving states who gets what, and who gets nothing.
func (d *draft) receiving() {
	v := newVocabulary(d.r, d.group, resolve.Message{})
	sets := map[resolve.Outcome]*roaring.Bitmap{}
	got, people := roaring.New(), roaring.New()
	for _, recipient := range d.r.Deliver(resolve.Query{Group: d.group}).Recipients() {
		if !d.r.Estate().IsPerson(recipient.ID) {
			continue
		}
		if sets[recipient.Outcome] == nil {
			sets[recipient.Outcome] = roaring.New()
		}
		people.Add(uint32(recipient.ID))
		if sets[recipient.Outcome].Add(uint32(recipient.ID)); recipient.Outcome <= resolve.Digest {
			got.Add(uint32(recipient.ID))
		}
	}
	v.onlyPeople()
	v.add("members", "inside", "outside")
	v.addNested()
	for i, word := range resolve.OutcomeWords() {
		set := sets[resolve.Outcome(i)]
		if set == nil {
			continue
		}
		who, left := v.describe(set)
		for _, one := range append(who, v.names(set)) {
			d.state("reaches " + one + map[bool]string{false: " in " + word}[resolve.Outcome(i) == resolve.Inbox])
		}
		d.comment(left, "reaches others in "+word)
	}
	if d.state("never reaches anyone") {
		return
	}
	d.state("never reaches outside")
	if names := v.names(got); names != "" {
		d.state("never reaches not " + parenthesized(names))
	} else {
		d.state("never reaches inside and not members")
	}
}

// sending states who may send as the group.
func (d *draft) sending() {
	if d.state("sends only nobody") {
		return
	}
	v := newVocabulary(d.r, d.group, resolve.Message{})
	v.add("anyone", "members", "owners", "moderators", "inside", "outside")
	for _, rule := range d.r.Estate().Group(d.group).SendAs {
		v.addAsked(rule.Selector)
	}
	sets := map[estate.SendAs]*roaring.Bitmap{estate.AsGroup: roaring.New(), estate.ForGroup: roaring.New()}
	add := func(how estate.SendAs, id uint32) {
		if set := sets[how]; set != nil {
			set.Add(id)
		}
	}
	for _, s := range d.r.Rights(d.group).Delegates().People {
		add(s.SendAs, uint32(s.ID))
	}
	for i, s := range v.strangers {
		how, _ := d.r.Rights(d.group).SendAs(s.sender)
		add(how, v.first+uint32(i))
	}
	for _, how := range []estate.SendAs{estate.AsGroup, estate.ForGroup} {
		who, left := v.describe(sets[how])
		for _, one := range append(who, v.names(sets[how])) {
			d.state("sends " + how.String() + " " + one)
		}
		d.comment(left, "sends "+how.String()+", and others")
	}
	all := roaring.Or(sets[estate.AsGroup], sets[estate.ForGroup])
	if who, left := v.describe(all); left == 0 {
		d.state("sends only " + either(who))
	}
	d.state("sends only " + v.names(all))
}

// approving states who can release held mail, and how many can with a mailbox that
// works.
func (d *draft) approving() {
	v := newVocabulary(d.r, d.group, resolve.Message{})
	v.onlyPeople()
	v.add("owners", "moderators")
	approvers, _ := d.r.Approvers(d.group)
	set, working := roaring.New(), 0
	for _, id := range approvers {
		set.Add(uint32(id))
		if d.r.Estate().Person(id).Mailbox == estate.MailboxOpen {
			working++
		}
	}
	if set.IsEmpty() {
		return
	}
	who, left := v.describe(set)
	for _, one := range append(who, v.names(set)) {
		d.state("approves " + one)
	}
	d.comment(left, "approves, further people")
	if working > 0 {
		d.state("approves at least " + strconv.Itoa(working))
	}
}

// both joins two selectors of which both are to be true; the first may be empty.
func both(a, b string) string {
	switch {
	case a == "" || a == "anyone":
		return b
	case b == "anyone":
		return a
	}
	return grouped(a) + " and " + grouped(b)
}

// either joins selectors of which one is to be true.
func either(list []string) string { return strings.Join(list, " or ") }

// grouped returns a selector as it stands before and behind and.
func grouped(text string) string {
	x, err := selector.Parse(text, selector.ForMessages)
	if _, isOr := x.(selector.Or); err == nil && isOr {
		return "(" + text + ")"
	}
	return text
}
