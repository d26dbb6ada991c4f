package propose

import (
	"errors"
	"fmt"
	"slices"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// A Leaving takes somebody out of everything.
type Leaving struct {
	Person          string
	Successor       string // who takes their place; "": nobody
	Keep            bool   // they stay in the estate, with a closed mailbox
	HandOverAddress bool   // their addresses become aliases of the successor
}

func (x *Leaving) propose(w *work) error {
	id, err := w.Person(x.Person)
	if err != nil {
		return err
	}
	heir := estate.None
	if x.Successor != "" {
		if heir, err = w.Person(x.Successor); err != nil {
			return err
		}
	}
	p := w.Estate.Person(id)
	switch handsOver := x.HandOverAddress; {
	case heir == id:
		return ask.Errorf("the successor is the person who leaves")
	case handsOver && (heir == estate.None || w.Estate.Person(heir).Implied):
		return ask.Errorf("--hand-over-address needs --successor with a person who is written down")
	case handsOver && x.Keep:
		return ask.Errorf("--keep and --hand-over-address exclude each other")
	case p.Implied:
	case !x.Keep:
		w.draft.Apply(change.RemovePerson{Person: id})
		if handsOver {
			also := slices.Concat(w.Estate.Person(heir).Also, []address.Address{p.Address}, p.Also)
			w.draft.Apply(change.SetPersonAlso{Person: heir, Also: also})
		}
	case p.Mailbox == estate.MailboxOpen:
		w.draft.Apply(change.SetPerson{Person: id, Field: "mailbox", Text: "closed"})
	}
	changes := slices.Concat(change.Cascade(w.Estate, []estate.ID{id}, nil), change.Unnamed(w.Estate, id))
	w.about = fmt.Sprintf("%s leaves, and is taken out of everything", w.Estate.Address(id))
	if heir != estate.None {
		changes = change.HandOver(w.Estate, id, heir, w.Resolver.Today())
		w.about = fmt.Sprintf("%s leaves, and %s takes their place", w.Estate.Address(id), w.Estate.Address(heir))
	}
	w.draft.Apply(changes...)
	w.warnTouched(changes)
	w.noteEdge(id)
	return nil
}

// A PersonRemoval takes people out of the estate, and out of what names them.
type PersonRemoval struct{ People []string }

func (x *PersonRemoval) propose(w *work) error {
	people, err := w.PeopleOrAll(x.People)
	if err != nil {
		return err
	}
	changes := change.Cascade(w.Estate, people, nil)
	for _, id := range people {
		if !w.Estate.Person(id).Implied {
			w.draft.Apply(change.RemovePerson{Person: id})
		}
		changes = append(changes, change.Unnamed(w.Estate, id)...)
		w.noteEdge(id)
	}
	if err := sameRuleTwice(changes); err != nil {
		return err
	}
	w.draft.Apply(changes...)
	w.warnTouched(changes)
	return nil
}

// sameRuleTwice returns an error where two of several changes are about the rules of one
// group: each knows nothing of the other.
func sameRuleTwice(changes []change.Change) error {
	seen := map[string]bool{}
	for _, one := range changes {
		key := ""
		switch one := one.(type) {
		case change.SetSetting:
			key = fmt.Sprint(one.Group, one.Setting)
		default:
			continue
		}
		if seen[key] {
			return errors.New("yorvet: two of these people are named in the rules of one group; remove them one after the other")
		}
		seen[key] = true
	}
	return nil
}
