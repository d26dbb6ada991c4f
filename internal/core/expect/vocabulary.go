package expect

import (
	"slices"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
)

// A vocabulary is the selectors in which a draft describes sets of people, and who
// each picks of all who may send one sort of message.
type vocabulary struct {
	r         *resolve.Resolver
	group     estate.ID
	m         resolve.Message
	all       *roaring.Bitmap // people by ID, and strangers from first on
	first     uint32
	strangers []stranger
	words     []word
	pairs     []word // of two words, made when they are needed
}

// word is a selector and who it picks.
type word struct {
	text string
	set  *roaring.Bitmap
}

// mostOwnWords is how many selectors of a group's own rules are in its vocabulary.
const mostOwnWords = 12

func newVocabulary(r *resolve.Resolver, group estate.ID, m resolve.Message) *vocabulary {
	e := r.Estate()
	v := &vocabulary{r: r, group: group, m: m, all: roaring.New(), first: uint32(e.Groups() + e.People())}
	for _, id := range e.PeopleByAddress() {
		v.all.Add(uint32(id))
	}
	t := &trial{r: r}
	for _, s := range t.strangers() {
		if s.forged == m.Unproven {
			v.all.Add(v.first + uint32(len(v.strangers)))
			v.strangers = append(v.strangers, s)
		}
	}
	return v
}

// addAsked adds what selectors of the group's own rules ask about people.
func (v *vocabulary) addAsked(rules ...selector.Expr) {
	most := len(v.words) + mostOwnWords
	for _, x := range rules {
		selector.Atoms(x, func(a *selector.Atom) {
			if !a.Kind.AboutMessage() && a.Kind != selector.Is && len(v.words) < most {
				v.add(a.String())
			}
		})
	}
}

// addNested adds the groups that are nested in this one.
func (v *vocabulary) addNested() {
	e := v.r.Estate()
	most := len(v.words) + mostOwnWords
	for _, entry := range e.Entries(v.group) {
		if e.IsGroup(entry.Member) && len(v.words) < most {
			v.add("in " + e.Address(entry.Member).String())
		}
	}
}

// add adds selectors, unless they are there or pick nobody.
func (v *vocabulary) add(texts ...string) {
	for _, text := range texts {
		v.addOne(text)
	}
}

func (v *vocabulary) addOne(text string) {
	if slices.ContainsFunc(v.words, func(w word) bool { return w.text == text }) {
		return
	}
	x, err := selector.Parse(text, selector.ForMessages)
	if err != nil {
		return
	}
	set := roaring.And(v.r.Set(v.group, x, v.m), v.all)
	for i, s := range v.strangers {
		if v.all.Contains(v.first+uint32(i)) && v.r.Eval(v.group, x, s.sender, v.m) {
			set.Add(v.first + uint32(i))
		}
	}
	if !set.IsEmpty() {
		v.words = append(v.words, word{text, set})
	}
}

// onlyPeople leaves the strangers out.
func (v *vocabulary) onlyPeople() {
	v.all.RemoveRange(uint64(v.first), uint64(v.first)+uint64(len(v.strangers)))
}

// describe returns few selectors that together pick those of a set, and how many of
// the set none of them picks.
func (v *vocabulary) describe(set *roaring.Bitmap) (list []string, left int) {
	rest := set.Clone()
	for !rest.IsEmpty() {
		text, picked := v.best(set, rest)
		few := text == "" || picked.AndCardinality(rest) <= 1 && picked.GetCardinality() < rest.GetCardinality()
		if names := v.names(rest); names != "" && few {
			return append(list, names), 0
		}
		if text == "" {
			return v.listed(list, rest)
		}
		list = append(list, text)
		rest.AndNot(picked)
	}
	return list, 0
}

// mostListed is how many people a draft lists, mostNamed of them in a statement, where
// nothing describes them.
const mostListed = 25 * mostNamed

// listed adds statements that name all people of a set, unless they are too many; left
// is how many are not named then.
func (v *vocabulary) listed(list []string, set *roaring.Bitmap) (all []string, left int) {
	people := set.Clone()
	people.RemoveRange(uint64(v.first), uint64(v.first)+uint64(len(v.strangers)))
	left = int(set.GetCardinality() - people.GetCardinality())
	if people.GetCardinality() > mostListed {
		return list, left + int(people.GetCardinality())
	}
	for names := range slices.Chunk(v.sorted(people), mostNamed) {
		list = append(list, either(names))
	}
	return list, left
}

// best returns the selector that picks most of rest, and of others than those of set
// a few at most, which it names as exceptions. It is empty if there is none.
func (v *vocabulary) best(set, rest *roaring.Bitmap) (text string, picked *roaring.Bitmap) {
	most, exact := 0, false
	try := func(w word) {
		gain := int(w.set.AndCardinality(rest))
		if gain == 0 {
			return
		}
		wrong := roaring.AndNot(w.set, set)
		exceptions := int(wrong.GetCardinality())
		if gain-2*exceptions <= most || exceptions > mostNamed {
			return
		}
		candidate := w.text
		if exceptions > 0 {
			names := v.names(wrong)
			if names == "" {
				return
			}
			candidate = both(w.text, "not "+parenthesized(names))
		}
		most, exact = gain-2*exceptions, exceptions == 0
		text, picked = candidate, roaring.And(w.set, set)
	}
	for _, w := range v.words {
		try(w)
	}
	if exact && picked.AndCardinality(rest) == rest.GetCardinality() {
		return text, picked
	}
	for _, w := range v.twoWords() {
		try(w)
	}
	return text, picked
}

// twoWords returns what two words together pick: both of them, or one without the
// other.
func (v *vocabulary) twoWords() []word {
	if v.pairs != nil {
		return v.pairs
	}
	v.pairs = []word{}
	for i, a := range v.words {
		for j, b := range v.words {
			if without := roaring.AndNot(a.set, b.set); i != j && !without.IsEmpty() && !strings.HasPrefix(b.text, "not ") {
				v.pairs = append(v.pairs, word{both(a.text, "not "+b.text), without})
			}
			if with := roaring.And(a.set, b.set); i < j && !with.IsEmpty() {
				v.pairs = append(v.pairs, word{both(a.text, b.text), with})
			}
		}
	}
	return v.pairs
}

// names returns the people of a set by name, or nothing where they are too many or
// there is a stranger among them.
func (v *vocabulary) names(set *roaring.Bitmap) string {
	n := set.GetCardinality()
	if n == 0 || n > mostNamed || set.Maximum() >= v.first {
		return ""
	}
	return either(v.sorted(set))
}

// sorted returns the addresses of people.
func (v *vocabulary) sorted(set *roaring.Bitmap) []string {
	e := v.r.Estate()
	var people []estate.ID
	for it := set.Iterator(); it.HasNext(); {
		people = append(people, estate.ID(it.Next()))
	}
	slices.SortFunc(people, func(a, b estate.ID) int { return e.Rank(a) - e.Rank(b) })
	var texts []string
	for _, id := range people {
		texts = append(texts, e.Address(id).String())
	}
	return texts
}

// parenthesized returns a selector as it stands behind not.
func parenthesized(text string) string {
	if strings.Contains(text, " or ") {
		return "(" + text + ")"
	}
	return text
}
