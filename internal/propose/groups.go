package propose

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// A GroupRename is another address for a group, or for all that a pattern matches: what the star of one stands for
// is that of the other.
type GroupRename struct {
	Old, New string
	Groups   ask.Groups // of those with the pattern, which are meant
	Forget   bool       // the old address is given up
}

func (x *GroupRename) propose(w *work) error {
	old, now := x.Old, x.New
	if !strings.Contains(old, "*") {
		g, err := w.Group(old)
		if err != nil {
			return err
		}
		return x.rename(w, g, now)
	}
	if strings.Count(old, "*") != 1 || strings.Count(now, "*") != 1 || !strings.Contains(old, "@") {
		return ask.Errorf("of many groups, OLD and NEW each need one *, as in '*@old.example' '*@new.example'")
	}
	which := x.Groups
	which.Names = []string{old}
	groups, err := w.groups(which)
	if err != nil {
		return err
	}
	head, tail, _ := strings.Cut(strings.ToLower(old), "*")
	renamed := 0
	for _, g := range groups {
		text := strings.ToLower(w.Estate.Address(g).String())
		if !strings.HasPrefix(text, head) || !strings.HasSuffix(text, tail) || len(text) < len(head)+len(tail) {
			continue // an alias matches
		}
		middle := w.Estate.Address(g).String()[len(head) : len(text)-len(tail)]
		if err := x.rename(w, g, strings.Replace(now, "*", middle, 1)); err != nil {
			return err
		}
		renamed++
	}
	if renamed == 0 {
		return ask.Errorf("no group has a main address like %s", old)
	}
	return nil
}

func (x *GroupRename) rename(w *work, g estate.ID, text string) error {
	old := w.Estate.Address(g).String()
	a, err := address.Parse(text)
	if err != nil {
		return ask.Errorf("%w", err)
	}
	if id, known := w.Estate.Find(a); known && id == g {
		isAlso := func(also address.Address) bool { return also.Key() == a.Key() }
		if !slices.ContainsFunc(w.Estate.Group(g).Also, isAlso) {
			return ask.Errorf("%s has the address %s already", old, text)
		}
	} else if a, err = w.freeAddress(text); err != nil {
		return err
	}
	w.draft.Apply(change.RenameGroup{Group: g, To: a, Forget: x.Forget})
	w.warnManaged(g)
	return nil
}

// unused returns an error where rules of other groups name one of those that go.
func (w *work) unused(gone []estate.ID) error {
	for _, id := range gone {
		var used []string
		for _, use := range w.Estate.Uses(id) {
			if !slices.Contains(gone, use.Group) {
				place := w.Estate.Settings().Position(use.Place)
				used = append(used, fmt.Sprintf("  %s: %s, %s", place, w.Estate.Address(use.Group), use.Rule))
			}
		}
		if len(used) > 0 {
			return ask.Errorf("%s is still named by \"in\" in these rules; change them first\n%s", w.Estate.Address(id),
				strings.Join(used, "\n"))
		}
	}
	return nil
}

// A GroupRemoval takes groups out of the estate, and out of what lists them.
type GroupRemoval struct{ Groups ask.Groups }

func (x *GroupRemoval) propose(w *work) error {
	gone, err := w.groups(x.Groups)
	if err != nil {
		return err
	}
	if err := w.unused(gone); err != nil {
		return err
	}
	for _, g := range gone {
		w.draft.Apply(change.RemoveGroup{Group: g})
	}
	w.draft.Apply(change.Cascade(w.Estate, gone, nil)...)
	w.warnManaged(gone...)
	return nil
}
