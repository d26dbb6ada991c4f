package propose

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/selector"
)

// An Acceptance says that findings of a check are intended.
type Acceptance struct {
	Check   *hazard.Check
	Groups  []string // may hold * for anything
	Filter  string   // groups that it matches, too; "": none
	Address string   // only findings about it; "": all
	Because string
	Until   string // the last day on which it holds; "": no end
}

func (x *Acceptance) propose(w *work) error {
	check := x.Check
	a := estate.Acceptance{Hazard: check.Name, Because: x.Because, Address: x.Address}
	for _, arg := range x.Groups {
		if !strings.Contains(arg, "*") {
			group, err := w.Group(arg)
			if err != nil {
				return err
			}
			arg = w.Estate.Address(group).String()
		} else if !strings.Contains(arg, "@") && arg != "*" {
			arg += "@*" // a pattern of local parts
		}
		a.Groups = append(a.Groups, arg)
	}
	if text := x.Filter; text != "" {
		f, err := selector.ParseFilter(text)
		if err != nil {
			return ask.SyntaxError("--groups", err)
		}
		if err := estate.CheckAcceptFilter(f); err != nil {
			return ask.Errorf("--groups: %w", err)
		}
		a.Filter = f
	}
	if len(a.Groups) == 0 && a.Filter == nil {
		return ask.Errorf("accept needs groups, or --groups FILTER; '*' is all of them")
	}
	if text := x.Until; text != "" {
		day, err := estate.ParseDay(text)
		if err != nil {
			return ask.Errorf("--until: %w", err)
		}
		if a.Until = day; !a.Holds(w.Resolver.Today()) {
			return ask.Errorf("--until: %s is over", text)
		}
	}
	var groups []estate.ID
	findings := 0
	for _, f := range hazard.Run(w.Resolver, []*hazard.Check{check}) {
		if !f.Accepted && a.IsFor(w.Estate, f.Group) && (a.Address == "" || estate.MatchStars(a.Address, f.Address)) {
			findings++
			if !slices.Contains(groups, f.Group) {
				groups = append(groups, f.Group)
			}
		}
	}
	if findings == 0 {
		return ask.Errorf("nothing to accept: check finds no %s there that is not accepted yet", check.Name)
	}
	w.about = fmt.Sprintf("%s accepted: %d found, in %d of %d groups", check.Name, findings, len(groups),
		w.Estate.Groups())
	w.draft.Apply(change.Accept{Acceptance: a})
	return nil
}
