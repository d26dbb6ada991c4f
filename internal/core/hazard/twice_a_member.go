package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
)

var twiceAMember = Check{
	Name:     "twice-a-member",
	Severity: Low,
	Trap:     "one person or nested group has two entries in one group",
	Doc: `Only the first entry that names somebody counts. What the second says (a copy, a pause) has no effect, and
neither has a change of it.`,
	Cure: "Remove the second entry.",
	Run: func(p *Pass, id estate.ID, _ *estate.Group) {
		if children := p.E.Children(id); !p.survey.ListsTwice(id) && len(children) < 2 {
			return // each is a membership of its own
		}
		first := map[estate.ID]estate.Place{}
		reported := map[estate.ID]bool{}
		for _, entry := range p.E.Entries(id) {
			if entry.Member.IsNobody() {
				continue
			}
			place, twice := first[entry.Member]
			if !twice {
				first[entry.Member] = entry.Place
				continue
			}
			if !reported[entry.Member] {
				reported[entry.Member] = true
				p.report(Finding{Group: id, Address: p.name(entry.Member), Place: entry.Place,
					text: func() (says, fix string) {
						return p.name(entry.Member) + " is listed twice in " + p.name(id) + "; the entry at " +
								p.E.Settings().Position(place) + " counts.",
							"Remove this entry."
					}})
			}
		}
	},
}
