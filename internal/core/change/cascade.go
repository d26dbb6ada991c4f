package change

import "yorvet.example/yorvet/internal/core/estate"

// Cascade returns what else has to change where people and groups go: they are taken
// out wherever a group lists them as a member, owner or moderator. Groups that go
// themselves, and those that skip reports, stay as they are.
func Cascade(e *estate.Estate, gone []estate.ID, skip func(group estate.ID) bool) []Change {
	goes := map[estate.ID]bool{}
	for _, id := range gone {
		goes[id] = true
	}
	var list []Change
	if len(goes) == 0 {
		return list
	}
	for group := range estate.ID(e.Groups()) {
		if goes[group] || skip != nil && skip(group) {
			continue
		}
		g := e.Group(group)
		for _, role := range []struct {
			setting string
			list    []estate.Listed
		}{{"owners", g.Owners}, {"moderators", g.Moderators}} {
			var drop []string
			for _, one := range role.list {
				if goes[one.ID] {
					drop = append(drop, e.Address(one.ID).String())
				}
			}
			if drop != nil {
				list = append(list, SetList{Group: group, Setting: role.setting, Drop: drop})
			}
		}
		for i, entry := range e.Entries(group) {
			if goes[entry.Member] {
				list = append(list, RemoveMember{group, i})
			}
		}
	}
	return list
}
