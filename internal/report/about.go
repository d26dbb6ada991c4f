package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
)

// own collects what somebody gets and may; of groups that they may not find, nothing but the
// mail that comes to them.
func own(r *resolve.Resolver, id estate.ID) *Own {
	a := present.NewPerson(r, id)
	o := &Own{Address: present.Clean(a.Address), Name: present.Clean(a.Name), Gets: []OwnGroup{}, Posts: []OwnPosts{}}
	for _, g := range a.Receives {
		one := OwnGroup{Group: present.Clean(g.Group), Outcome: g.Outcome, Why: present.Clean(g.Reason())}
		if len(g.Via) > 1 {
			one.Via = present.Clean(strings.Join(g.Via[1:], ", "))
		}
		o.Gets = append(o.Gets, one)
	}
	for _, verdict := range estate.VerdictWords() {
		one := OwnPosts{Verdict: verdict}
		for _, posted := range a.Posts[verdict] {
			if to, err := address.Parse(posted.Group); err == nil {
				group, _ := r.Estate().Find(to)
				if finds, _, _ := r.Rights(group).May(estate.Find); !finds.Contains(uint32(id)) {
					continue
				}
			}
			one.Groups = append(one.Groups, present.Clean(posted.Group))
		}
		if one.Groups != nil {
			o.Posts = append(o.Posts, one)
		}
	}
	return o
}

// hazards collects the hazards of the groups that the page is about, those of one kind in
// one group as one, and marks the nested groups that stop or hold what the outer one admits.
func (b *book) hazards(r *resolve.Resolver, findings []hazard.Finding, places bool) {
	type key struct {
		group    estate.ID
		name     string
		severity hazard.Severity
	}
	index := map[key]int{}
	var firsts []hazard.Finding
	var others [][]estate.ID
	for i := range findings {
		f := &findings[i]
		_, within := b.groups[f.Group]
		if !within && (f.Group != estate.None || !b.d.Whole) {
			continue
		}
		if b.mark(f); f.Accepted { // what is intended is true all the same
			continue
		}
		k := key{f.Group, f.Check.Name, f.Severity}
		at, ok := index[k]
		if !ok {
			index[k] = len(firsts)
			firsts = append(firsts, *f)
			others = append(others, nil)
			b.d.Hazards = append(b.d.Hazards, Hazard{Count: 1})
			continue
		}
		h := &b.d.Hazards[at]
		h.Count++
		if id, known := b.idOf(f.Address); known && b.e.IsPerson(id) {
			others[at] = append(others[at], id)
		} else if f.Address != "" {
			h.Further = append(h.Further, present.Clean(f.Address))
		}
	}
	for i, h := range present.NewHazards(r, hazard.All(), firsts, present.HazardLayout{}).All() {
		one := &b.d.Hazards[i]
		one.Name, one.Severity, one.Group, one.Address = h.Name, h.Severity, -1, present.Clean(h.Address)
		one.Says, one.Fix, one.Others = present.Clean(h.Says), present.Clean(h.Fix), b.persons(others[i])
		if !places { // for people who do not type commands
			one.Fix, _, _ = strings.Cut(one.Fix, ": yorvet ")
		} else if h.File != "" {
			one.Place = present.Clean(h.File + ":" + strconv.Itoa(h.Line) + ":" + strconv.Itoa(h.Column))
		}
		if group, ok := b.groups[firsts[i].Group]; ok {
			one.Group = group
			b.d.Groups[group].Hazards = append(b.d.Groups[group].Hazards, i)
		}
	}
}

// mark marks the nested group that a hazard is about.
func (b *book) mark(f *hazard.Finding) {
	state := map[string]string{"nested-stops": "stopped", "nested-waits": "waiting"}[f.Check.Name]
	if state == "" || f.Group == estate.None {
		return
	}
	inner, ok := b.idOf(f.Address)
	if !ok || !b.e.IsGroup(inner) {
		return
	}
	number := b.groupNumber(inner)
	nested := b.d.Groups[b.groups[f.Group]].Nested
	for i := range nested {
		if n := &nested[i]; n.Group == number && n.State != "stopped" {
			says, _ := f.Text()
			n.State, n.Says = state, b.text(says)
		}
	}
}

// idOf returns who has an address, and false for nobody.
func (b *book) idOf(text string) (estate.ID, bool) {
	id, ok := b.found[text]
	if !ok {
		id = estate.None
		if a, err := address.Parse(text); err == nil {
			if found, known := b.e.Find(a); known {
				id = found
			}
		}
		b.found[text] = id
	}
	return id, id != estate.None
}

// groupOf returns the number of the group with an address.
func (b *book) groupOf(text string) (int, bool) {
	id, ok := b.idOf(text)
	if !ok {
		return 0, false
	}
	n, ok := b.groups[id]
	return n, ok
}

// expectations collects statements about the groups of the page.
func (b *book) expectations(a *present.Expectations) {
	if a == nil {
		return
	}
	const most = 20
	for one := range a.Each() {
		group, ok := b.groupOf(one.Group)
		if !ok {
			continue
		}
		x := Expectation{Group: group, Text: present.Clean(one.Text), Holds: one.Holds}
		for i, c := range one.Counterexamples {
			if i == most {
				x.Against = append(x.Against, fmt.Sprintf("and %d more", len(one.Counterexamples)-most))
				break
			}
			x.Against = append(x.Against, present.Clean(c.Address+": "+c.Says))
		}
		b.d.Expectations = append(b.d.Expectations, x)
	}
}

// probe collects a run, as far as it is about the groups of the page.
func (b *book) probe(a *present.Probe, began string) *Probe {
	p := &Probe{Run: a.Run, Line: present.FirstLine(a), Began: began, Cases: []Case{}, Causes: []string{},
		Arrived: Arrivals{Run: a.Run, Began: began}}
	if !b.d.Whole {
		p.Line = ""
	}
	at := map[string]int{}
	for _, c := range a.Cases {
		if _, ok := b.groupOf(c.Group); !ok {
			continue
		}
		at[c.Case] = len(p.Cases)
		one := Case{From: present.Clean(c.From), To: present.Clean(c.To), Kind: c.Kind, Predicted: c.Predicted,
			Seen: c.Seen,
			As:   c.AsPredicted && !c.Unlooked()}
		if c.Why != "" {
			one.Seen += " (" + present.Clean(c.Why) + ")"
		}
		for _, f := range c.Facets {
			if !f.AsPredicted {
				one.Unlike = append(one.Unlike, [3]string{f.Name, present.Clean(f.Predicted), present.Clean(f.Seen)})
			}
		}
		p.Cases = append(p.Cases, one)
	}
	for _, m := range a.Members {
		i, ok := at[m.Case]
		if !ok {
			continue
		}
		c := &p.Cases[i]
		if c.Members++; !m.AsPredicted || m.Unlooked() {
			seen := m.Seen
			if m.Why != "" {
				seen += " (" + m.Why + ")"
			}
			c.Unlike = append(c.Unlike, [3]string{present.Clean(m.Address), m.Predicted, present.Clean(seen)})
		}
		if m.Seconds > 0 {
			p.Arrived.Seconds = append(p.Arrived.Seconds, m.Seconds)
		}
	}
	slices.Sort(p.Arrived.Seconds)
	for _, cause := range a.Causes {
		if len(cause.AsIf) > 0 && slices.ContainsFunc(cause.Cases, func(name string) bool {
			_,
				ok := at[name]
			return ok
		}) {
			p.Causes = append(p.Causes, present.Clean(cause.AsIf[0].Says))
		}
	}
	return p
}

// firstLines collects the first line of each answer.
func (b *book) firstLines(findings []hazard.Finding, c Choice) {
	add := func(what, part, says string) {
		b.d.Answers = append(b.d.Answers, Headline{what, present.Clean(says), part})
	}
	if !b.d.Whole {
		var parts []string
		for _, severity := range hazard.SeverityWords() {
			n := 0
			for _, one := range b.d.Hazards {
				if one.Severity == severity {
					n += one.Count
				}
			}
			if n > 0 {
				parts = append(parts, fmt.Sprint(n, " ", severity))
			}
		}
		if parts != nil {
			add("Hazards", "hazards", strings.Join(parts, ", "))
		}
		return
	}
	add("Groups", "groups", present.Count(b.e.Groups(), "group", "groups")+", "+present.Count(b.e.People(), "person",
		"people"))
	add("Hazards", "hazards", present.HazardLine(b.e, hazard.All(), findings, b.e.Groups()))
	if c.Expectations != nil {
		add("Expectations", "expectations", present.FirstLine(c.Expectations))
	}
	if c.Probe != nil {
		add("Last probe", "probe", present.FirstLine(c.Probe))
	}
}
