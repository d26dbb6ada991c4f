package directory

import (
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// fewestAlike is how many members a group has to have for another one with the same to be
// taken for it.
const fewestAlike = 2

// maybeRenamed remarks that a group which goes has just the members of one that comes: what
// Yorvet alone knows of it would go with it, if that is a rename.
func (u *updater) maybeRenamed(goes []estate.ID, comes []*estatefile.NewGroup) {
	byMembers := map[string][]*estatefile.NewGroup{}
	for _, g := range comes {
		var members []string
		for _, m := range g.Members {
			members = append(members, memberKey(m.Address, m.Where, m.Everyone))
		}
		byMembers[membersKey(members)] = append(byMembers[membersKey(members)], g)
	}
	for _, id := range goes {
		var members []string
		for _, entry := range u.e.Entries(id) {
			members = append(members, memberKey(u.e.Address(entry.Member).String(), "", false))
		}
		for _, rule := range u.e.Rules(id) {
			if rule.Filter == nil {
				members = append(members, memberKey("", "", true))
			} else {
				members = append(members, memberKey("", rule.Filter.String(), false))
			}
		}
		alike := byMembers[membersKey(members)]
		if len(members) < fewestAlike || len(alike) != 1 {
			continue
		}
		was, now := u.e.Address(id).String(), alike[0].Fields[0].Text
		u.notTaken(alike[0].Place, fmt.Sprintf("%s comes and %s goes, with the same %d members: if that is a rename, "+
			"\"yorvet group rename %s %s\" first keeps its gate and what members chose", now, was, len(members), was, now))
	}
}

func memberKey(text, where string, everyone bool) string {
	switch {
	case everyone:
		return "everyone"
	case where != "":
		return ruleText(where)
	}
	return key(text)
}

func membersKey(members []string) string {
	slices.Sort(members)
	return strings.Join(slices.Compact(members), "\n")
}
