package present

import (
	"strconv"
	"strings"
)

// A Difference is one that a comparison found, in a line.
type Difference struct {
	Group, Who string // addresses, or ""
	Says       string
	Detail     string // what tells it from others that say the same
}

// Differences returns all that a comparison found, each in a line.
func (a *Comparison) Differences() []Difference {
	var list []Difference
	settings := func(group, who string, changes []SettingChange) {
		for _, c := range changes {
			list = append(list, Difference{group, who, c.Name + ": " + orNone(strings.Join(c.Old, ", ")) + " -> " +
				orNone(strings.Join(c.New, ", ")), ""})
		}
	}
	settings("", "", a.Estate)
	for _, one := range []struct {
		what string
		p    PartyChanges
	}{{"group", a.Groups}, {"person", a.People}} {
		for _, name := range one.p.Added {
			list = append(list, Difference{name, "", one.what + " added", ""})
		}
		for _, name := range one.p.Removed {
			list = append(list, Difference{name, "", one.what + " removed", ""})
		}
		for _, r := range one.p.Renamed {
			list = append(list, Difference{r.New, "", one.what + " renamed from " + r.Old, ""})
		}
	}
	for i := range a.Changes {
		c := &a.Changes[i]
		for _, part := range []struct {
			name   string
			counts []EffectCount
		}{
			{"posting", c.Posts}, {"receiving", c.Receives}, {"sending as it", c.SendsAs}, {"posting", c.OtherPosts},
			{"receiving", c.OtherReceives}, {"may", c.May},
		} {
			for _, e := range part.counts {
				list = append(list, e.difference(c.Group, part.name))
			}
		}
		settings(c.Group, "", c.Sees)
		settings(c.Group, "", c.Joining)
		settings(c.Group, "", c.Settings)
	}
	for _, p := range a.Persons {
		settings("", p.Address, p.Settings)
	}
	for _, h := range a.Hazards.Appear {
		list = append(list, Difference{h.Group, h.Address, "new hazard " + h.Name + ": " + h.Says, ""})
	}
	for _, h := range a.Hazards.Go {
		list = append(list, Difference{h.Group, h.Address, "hazard " + h.Name + " disappears: " + h.Says, ""})
	}
	for _, text := range a.Open {
		list = append(list, Difference{"", "", text, ""})
	}
	return list
}

func (e *EffectCount) difference(group, part string) Difference {
	d := Difference{Group: group, Says: part + ": " + orNone(e.Old)}
	switch {
	case part == "may" && e.New == "":
		d.Says = "may no longer " + e.What
	case part == "may":
		d.Says = "may " + e.What
	case e.Old != e.New:
		d.Says += " -> " + orNone(e.New)
	case e.OldProof != e.NewProof:
		d.Says += ", proof " + orNone(e.OldProof) + " -> " + orNone(e.NewProof)
	case e.OldText != e.NewText:
		d.Says += ", " + orNone(e.OldText) + " -> " + orNone(e.NewText)
	}
	switch n := len(e.People); {
	case n == 1:
		d.Who = e.People[0]
	case n > 1:
		d.Says += " for " + strconv.Itoa(n)
	}
	if e.Message != "" {
		d.Says += ", if the message is " + e.Message
	}
	d.Detail = strings.Join(e.People, "\n") + "\n" + strings.Join(e.From, "\n")
	return d
}
