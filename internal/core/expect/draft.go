package expect

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Draft writes expectations for groups that hold as the estate is.
func Draft(r *resolve.Resolver, groups []estate.ID) string {
	var b strings.Builder
	for i, id := range groups {
		if i > 0 {
			b.WriteString("\n")
		}
		b.WriteString("to " + r.Estate().Address(id).String() + "\n")
		for _, statement := range statements(r, id) {
			if holds(r, id, statement) {
				b.WriteString("  " + statement + "\n")
			}
		}
	}
	return b.String()
}

// holds reports whether a statement about a group holds.
func holds(r *resolve.Resolver, group estate.ID, statement string) bool {
	list, errs := Parse("to " + r.Estate().Address(group).String() + "\n" + statement + "\n")
	if len(errs) > 0 || len(list) != 1 || len(Check(r.Estate(), list)) > 0 {
		return false
	}
	return Evaluate(r, &list[0]).Holds
}

// statements returns what may be worth stating of a group: what its gate says to
// sorts of senders and to everybody who is treated otherwise, and what each
// person gets and may.
func statements(r *resolve.Resolver, group estate.ID) []string {
	e := r.Estate()
	var list []string
	who := []string{
		"outside and not known",
		"inside and not known",
		"unproven and not known",
		"members",
		"owners",
		"moderators",
		"known and not members",
		"suspect and known",
		"automatic and known",
		"invitation and known",
	}
	for _, s := range who {
		for _, verb := range verbs[:4] {
			list = append(list, verb+" "+s)
		}
	}
	list = append(list, usualAndOthers(r, group)...)
	reached := map[estate.ID]bool{}
	for _, recipient := range r.Deliver(group, nil, resolve.Message{}).Recipients {
		if e.IsPerson(recipient.ID) {
			reached[recipient.ID] = true
			list = append(list, "reaches "+e.Address(recipient.ID).String()+" in "+recipient.Outcome.String())
		}
	}
	for _, id := range e.PeopleByAddress() {
		if !reached[id] {
			list = append(list, "never reaches "+e.Address(id).String())
		}
	}
	var delegates []string
	for _, s := range r.Delegates(group).People {
		delegates = append(delegates, e.Address(s.ID).String())
		list = append(list, "sends "+s.SendAs.String()+" "+e.Address(s.ID).String())
	}
	if len(delegates) > 0 {
		list = append(list, "sends only "+strings.Join(delegates, " or "))
	} else {
		list = append(list, "sends only nobody")
	}
	approvers, _ := r.Approvers(group)
	for _, id := range approvers {
		list = append(list, "approves "+e.Address(id).String())
	}
	return append(list, "approves at least "+strconv.Itoa(len(approvers)))
}

// usualAndOthers returns what the gate says to most people, and to each of the
// others.
func usualAndOthers(r *resolve.Resolver, group estate.ID) []string {
	e := r.Estate()
	var people [estate.Drop + 1][]string
	for rule, class := range r.Posters(group, resolve.Message{}) {
		verdict := r.Verdict(group, rule)
		for it := class.Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); e.IsPerson(id) {
				people[verdict] = append(people[verdict], e.Address(id).String())
			}
		}
	}
	usual := 0
	for verdict := range people {
		if len(people[verdict]) > len(people[usual]) {
			usual = verdict
		}
	}
	var list, others []string
	for verdict := range people {
		if verdict == usual {
			continue
		}
		others = append(others, people[verdict]...)
		for _, person := range people[verdict] {
			list = append(list, verbs[verdict]+" "+person)
		}
	}
	if len(others) > 0 {
		return append([]string{verbs[usual] + " known and not (" + strings.Join(others, " or ") + ")"}, list...)
	}
	return []string{verbs[usual] + " known"}
}
