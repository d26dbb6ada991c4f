package propose

import (
	"fmt"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/directory/paste"
)

// somebody is a person, group or address that a command is about.
type somebody struct {
	id      estate.ID // None for an address that the estate does not know
	address address.Address
	name    string // as pasted
}

// Who says who is meant.
type Who struct {
	Addresses []string
	From      string // a file with a pasted list, or - for standard input; "": none
	Where     string // a selector; "": none
	Nest      bool   // a group that is pasted becomes a member
	AsPasted  bool   // pasted addresses that look mistyped are taken

	text *string // of From, once it was read
}

// isNobody reports whether nothing says who is meant.
func (x *Who) isNobody() bool { return len(x.Addresses) == 0 && x.From == "" && x.Where == "" }

// read returns what From holds: it is read once, however often the change is worked out.
func (x *Who) read(w *work) (string, error) {
	if x.text == nil {
		text, err := ask.ReadPasted(w.ctx, x.From)
		if err != nil {
			return "", err
		}
		x.text = &text
	}
	return *x.text, nil
}

// chosen returns who is meant. verb is what is done with them, and role in which list of a group, "" for its
// members; to be a member one has to be known or outside.
func (w *work) chosen(group estate.ID, who *Who, verb, role string) ([]somebody, error) {
	var list []somebody
	met, written := map[estate.ID]bool{}, map[string]bool{}
	add := func(a address.Address, name string) {
		id, known := w.Estate.Find(a)
		if !known {
			id = estate.None
		}
		if known && met[id] || written[a.Key()] {
			return
		}
		met[id], written[a.Key()] = true, true
		list = append(list, somebody{id, a, name})
	}
	for _, text := range who.Addresses {
		if id, ok, err := w.ByLocalPart(text, ask.Anybody); err != nil {
			return nil, err
		} else if ok {
			add(w.Estate.Address(id), "")
			continue
		}
		a, err := address.Parse(text)
		if err != nil {
			return nil, ask.Errorf("%w", err)
		}
		if _, known := w.Estate.Find(a); !known && w.Estate.InsideDomain(a.Domain()) && verb != "removed" {
			return nil, ask.Errorf("%s does not exist%s", text, ask.Meant(w.nearAddress(text)))
		}
		add(a, "")
	}
	if err := w.pasted(who, verb, role, add); err != nil {
		return nil, err
	}
	if text := who.Where; text != "" {
		x, err := w.ParsePeople("--where", text)
		if err != nil {
			return nil, err
		}
		if group == estate.None {
			var own error
			selector.Atoms(x, func(a *selector.Atom) {
				switch a.Kind {
				case selector.Members, selector.Owners, selector.Moderators, selector.Newcomers:
					own = ask.Errorf("--where: %q is about a group that is there already, expected in GROUP", a.Text)
				}
			})
			if own != nil {
				return nil, own
			}
		}
		picked, of := false, ""
		w.EachPicked(group, x, func(id estate.ID) {
			picked = true
			add(w.Estate.Address(id), "")
		})
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind.AboutGroup() && group != estate.None {
				of = " for " + w.Estate.Address(group).String()
			}
		})
		if !picked {
			w.note("Nobody is picked by --where %q%s.", text, of)
		}
	}
	return list, nil
}

// pasted adds the people of the pasted list.
func (w *work) pasted(who *Who, verb, role string, add func(address.Address, string)) error {
	from := who.From
	if from == "" {
		return nil
	}
	text, err := who.read(w)
	if err != nil {
		return err
	}
	people, remarks := paste.Parse(text)
	tally := &pastedTally{verb: "understood", keys: map[string]bool{}}
	if verb == "added" {
		tally.verb = verb
	}
	w.tally = tally
	for _, p := range people {
		if why := w.heldBack(p.Address, who, verb, role); why != "" {
			w.leaveOut("%s:%d: %s %s", from, p.Line, p.Address, why)
			tally.unclear++
			continue
		}
		tally.take(p.Address)
		add(p.Address, p.Name)
	}
	for _, r := range remarks {
		switch id, ok, err := w.namedAs(r); {
		case ok:
			w.note("%s:%d: %s is %s", from, r.Line, r.Text, w.Estate.Address(id))
			tally.take(w.Estate.Address(id))
			add(w.Estate.Address(id), "")
		case r.Twice:
			w.leaveOut("%s:%d: %s: %s", from, r.Line, r.Text, r.Why)
			tally.twice++
		case err != nil:
			w.leaveOut("%s:%d: %s", from, r.Line, strings.TrimPrefix(err.Error(), "yorvet: "))
			tally.unclear++
		default:
			w.leaveOut("%s:%d: %s: %s", from, r.Line, r.Text, r.Why)
			tally.unclear++
		}
	}
	return nil
}

// pastedTally counts what became of the pasted list.
type pastedTally struct {
	taken, there, unclear, twice int

	verb string          // what is done with those that are taken
	keys map[string]bool // of those that are taken
}

func (t *pastedTally) take(a address.Address) {
	if !t.keys[a.Key()] {
		t.keys[a.Key()] = true
		t.taken++
		return
	}
	t.twice++
}

// isThere notes that somebody is a member already.
func (t *pastedTally) isThere(a address.Address) {
	if t != nil && t.keys[a.Key()] {
		delete(t.keys, a.Key())
		t.taken, t.there = t.taken-1, t.there+1
	}
}

// String says it in a line.
func (t *pastedTally) String() string {
	if t == nil {
		return ""
	}
	parts := []string{fmt.Sprintf("Of what was pasted: %d %s", t.taken, t.verb)}
	if t.there > 0 {
		parts = append(parts, fmt.Sprintf("%d there already", t.there))
	}
	if t.unclear > 0 {
		parts = append(parts, fmt.Sprintf("%d not understood or held back", t.unclear))
	}
	if t.twice > 0 {
		parts = append(parts, fmt.Sprintf("%d twice", t.twice))
	}
	return strings.Join(parts, ", ")
}

// byName is who has a name.
type byName struct {
	id  estate.ID
	ok  bool
	err error
}

// namedAs returns the person whose name is pasted without an address: the whole name, or
// two words of it at least that only they have.
func (w *work) namedAs(r paste.Remark) (estate.ID, bool, error) {
	words := strings.Fields(r.Text)
	if !r.Nameless || len(words) == 0 || len(words) > 6 {
		return estate.None, false, nil
	}
	if w.pastedNames == nil {
		w.pastedNames = map[string]byName{}
	}
	found, asked := w.pastedNames[r.Text]
	if !asked {
		found.id, found.ok, found.err = w.ByName(r.Text)
		w.pastedNames[r.Text] = found
	}
	id, ok, err := found.id, found.ok, found.err
	if ok && len(words) == 1 && !strings.EqualFold(w.Estate.Person(id).Name, r.Text) {
		return estate.None, false, nil
	}
	return id, ok, err
}

// heldBack returns why an address that is pasted is not taken just so, or "".
func (w *work) heldBack(a address.Address, who *Who, verb, role string) string {
	id, known := w.Estate.Find(a)
	switch {
	case verb == "removed":
		return ""
	case known && w.Estate.IsGroup(id) && verb == "added" && role == "" && !who.Nest:
		return fmt.Sprintf("is a group of %d members; --nest makes it a member, with all of them", len(w.Estate.Entries(id)))
	case known:
		return ""
	case w.Estate.InsideDomain(a.Domain()):
		return "does not exist" + ask.Meant(w.nearAddress(a.String()))
	case who.AsPasted:
		return ""
	case !strings.Contains(a.Domain(), "."):
		return "has a domain without a dot; --as-pasted takes it all the same"
	}
	for _, d := range w.Estate.Settings().Domains {
		if nearest.Distance(a.Domain(), strings.ToLower(d.Name)) == 1 {
			return fmt.Sprintf("is one letter off %s; --as-pasted takes it all the same%s", d.Name,
				ask.Meant(w.nearAddress(a.String())))
		}
	}
	return ""
}

// addPerson writes down an outside person who is pasted with a name.
func (w *work) addPerson(one somebody) {
	if one.id == estate.None && one.name != "" && !w.Estate.InsideDomain(one.address.Domain()) &&
		!w.written[one.address.Key()] {
		if w.written == nil {
			w.written = map[string]bool{}
		}
		w.written[one.address.Key()] = true
		w.draft.Apply(change.AddPerson{Person: estate.Person{Address: one.address, Name: one.name}})
	}
}

// entriesOf returns which entries of a group name somebody, by their index.
func entriesOf(e *estate.Estate, g, id estate.ID) []int {
	return entriesWhere(e, g, func(member estate.ID) bool { return member == id })
}

// nobodyEntries returns which entries of a group list an inside address that is
// nobody's.
func nobodyEntries(e *estate.Estate, g estate.ID, a address.Address) []int {
	return entriesWhere(e, g, func(member estate.ID) bool {
		return member.IsNobody() && e.Key(e.Address(member)) == e.Key(a)
	})
}

func entriesWhere(e *estate.Estate, g estate.ID, is func(member estate.ID) bool) []int {
	var list []int
	for i, entry := range e.Entries(g) {
		if is(entry.Member) {
			list = append(list, i)
		}
	}
	return list
}
