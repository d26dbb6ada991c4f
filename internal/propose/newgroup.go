package propose

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/preset"
)

// A NewGroup is a group that is to be created.
type NewGroup struct {
	Address    string
	Preset     string            // the ready set of settings; "": none
	Held       bool              // the choice that some presets have
	Said       map[string]string // title, about, managed-in: those that are said
	Also       []string          // aliases
	Owners     []string
	Moderators []string
	Who                 // its members
	Rules      []string // for members: filters
	Everyone   bool     // a rule for everybody inside
	Settings   []string // as SETTING=VALUE
}

func (n *NewGroup) propose(w *work) error {
	if n.Address == "" {
		return ask.Errorf("group new needs the address of the group")
	}
	a, err := w.freeAddress(n.Address)
	if err != nil {
		return err
	}
	said, ownersToo := map[string][]string{}, false
	var used *preset.Preset
	if n.Preset != "" {
		p, err := presetOf(n.Preset, n.Held)
		if err != nil {
			return err
		}
		for _, s := range p.Settings(w.Estate, n.Held) {
			said[s.Setting] = s.Texts
		}
		used, ownersToo = &p, p.TakesMail()
	}
	before := maps.Clone(said)
	if err := w.sayGroup(n, said); err != nil {
		return err
	}
	if err := w.settingsOfGroup(n.Settings, said); err != nil {
		return err
	}
	if used != nil {
		w.about = aboutPreset(used, before, said)
	}
	g := change.AddGroup{Address: a}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		g.Settings = append(g.Settings, change.Said{Setting: name, Texts: said[name]})
	}
	if g.Members, err = w.firstMembers(n, said["joiners"]); err != nil {
		return err
	}
	rules, err := w.ruleMembers(n)
	if err != nil {
		return err
	}
	g.Members = append(g.Members, rules...)
	if ownersToo {
		g.Members = w.withOwners(g.Members, said["owners"])
	}
	w.draft.Apply(g)
	return nil
}

// settingsOfGroup notes the settings of a list that a new group has.
func (w *work) settingsOfGroup(list []string, said map[string][]string) error {
	settings, err := ask.ParseSettings(list)
	if err != nil {
		return err
	}
	for _, s := range settings {
		if s.Operator != '=' {
			return ask.Errorf("%s: a new group has nothing to add to or take from, expected %s=VALUE", s.Setting, s.Setting)
		}
		texts, err := w.listedIn(s)
		if err != nil {
			return err
		}
		if s.Attribute != "" {
			texts = append(said[s.Setting], texts...)
		}
		said[s.Setting] = texts
	}
	return nil
}

// aboutPreset says what a preset means, but for what is said otherwise, which is shown as it
// will be.
func aboutPreset(p *preset.Preset, before, said map[string][]string) string {
	var own []string
	differs := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		was, there := before[name]
		if there && slices.Equal(was, said[name]) {
			continue
		}
		if known, ok := estate.GroupSetting(name); ok && known.Form != estate.FormParties &&
			known.Form != estate.FormAddresses &&
			known.Affects&(estate.Posting|estate.Receiving|estate.Reading|estate.SendingAs) != 0 {
			differs[name] = true
			text := strings.Join(said[name], "; ")
			if text == "" {
				text = "as by default"
			}
			own = append(own, name+": "+text)
		}
	}
	about := p.Name + ": " + p.For + "."
	posts := differs["gate"] || differs["kind"]
	if !posts {
		about += " Who posts: " + p.Posts
	}
	if len(own) == 0 || posts && len(own) == 1 && differs["gate"] {
		about += " Who receives: " + p.Receives
	}
	if len(own) > 0 {
		about += " Other than the preset: " + strings.Join(own, ". ") + "."
	}
	return about
}

// ruleMembers returns the rules for members of a new group.
func (w *work) ruleMembers(n *NewGroup) (list []change.Member, err error) {
	for _, text := range n.Rules {
		rule, err := w.rule(text)
		if err != nil {
			return nil, err
		}
		list = append(list, rule)
	}
	if n.Everyone {
		list = append(list, change.Member{})
	}
	return list, nil
}

// sayGroup notes what is said of a new group apart from its settings.
func (w *work) sayGroup(n *NewGroup, said map[string][]string) error {
	for name, text := range n.Said {
		said[name] = []string{text}
	}
	for _, text := range n.Also {
		alias, err := w.freeAddress(text)
		if err != nil {
			return err
		}
		said["also"] = append(said["also"], alias.String())
	}
	for _, role := range []struct {
		flag, setting string
		texts         []string
	}{{"--owner", "owners", n.Owners}, {"--moderator", "moderators", n.Moderators}} {
		list, err := w.listed(role.flag, role.texts)
		if err != nil {
			return err
		}
		if len(list) > 0 {
			said[role.setting] = list
		}
	}
	return nil
}

// firstMembers returns the members of a new group whose setting joiners says so.
func (w *work) firstMembers(n *NewGroup, joiners []string) ([]change.Member, error) {
	copy := estate.CopyUnset
	if len(joiners) > 0 {
		copy, _ = estate.WordIndex[estate.Copy](estate.CopyWords(), joiners[0])
	}
	chosen, err := w.chosen(estate.None, &n.Who, "member", "")
	if err != nil {
		return nil, err
	}
	var members []change.Member
	for _, one := range chosen {
		m := change.Member{
			Address:    one.address,
			Membership: estate.Membership{Copy: copy, Since: w.Resolver.Today()},
			JustNow:    true,
		}
		if w.Estate.IsGroup(one.id) {
			m.Membership = estate.Membership{}
		}
		members = append(members, m)
		w.addPerson(one)
	}
	return members, nil
}

// withOwners adds the owners of a new group to its members, if they are people: they
// answer for its mail, and are to see it.
func (w *work) withOwners(members []change.Member, owners []string) []change.Member {
	for _, text := range owners {
		a, err := address.Parse(text)
		id, known := w.Estate.Find(a)
		if err != nil || known && w.Estate.IsGroup(id) {
			continue
		}
		listed := slices.ContainsFunc(members, func(m change.Member) bool {
			other, ok := w.Estate.Find(m.Address)
			return w.Estate.Key(m.Address) == w.Estate.Key(a) || ok && known && other == id
		})
		if !listed {
			joined := estate.Membership{Since: w.Resolver.Today()}
			members = append(members, change.Member{Address: a, Membership: joined, JustNow: true})
		}
	}
	return members
}

// presetOf returns the preset with a name, with the choice that some have.
func presetOf(name string, held bool) (preset.Preset, error) {
	p, ok := preset.Find(name)
	if !ok {
		near := nearest.Word(name, preset.Names())
		return p, ask.Errorf("there is no preset %q, expected %s%s", name, ask.OrList(preset.Names()), ask.Meant(near))
	}
	if held && p.Held == "" {
		return p, ask.Errorf("--held: the preset %s has no such choice; see yorvet group presets", name)
	}
	return p, nil
}

// FreeAddress returns an address for a group of an estate, if it is inside and nobody's.
func FreeAddress(e *estate.Estate, text string) (string, error) {
	w := &work{Desk: ask.Desk{Estate: e}}
	a, err := w.freeAddress(text)
	return a.String(), err
}

// freeAddress returns an address for a group, if it is inside and nobody's.
func (w *work) freeAddress(text string) (address.Address, error) {
	a, err := address.Parse(text)
	if err != nil {
		return a, ask.Errorf("%w", err)
	}
	if !w.Estate.InsideDomain(a.Domain()) {
		var domains []string
		for _, d := range w.Estate.Settings().Domains {
			domains = append(domains, d.Name)
		}
		return a, ask.Errorf(
			"%s is outside, expected an address at %s%s",
			text,
			ask.OrList(domains),
			ask.Meant(nearest.Word(a.Domain(), domains)),
		)
	}
	if id, taken := w.Estate.Find(a); taken {
		what := "the person"
		if w.Estate.IsGroup(id) {
			what = "the group"
		}
		holder := w.Estate.Address(id).String()
		if !address.Same(holder, text) {
			holder += ", which it leads to"
		}
		message := fmt.Sprintf("%s is taken by %s %s", text, what, holder)
		if free := w.alternatives(a); len(free) > 0 {
			message += "; free are " + strings.Join(free, ", ")
		}
		return a, ask.Errorf("%s", message)
	}
	const most, near = 3, 2
	var close []string
	for _, other := range nearest.Words(a.String(), w.Estate.Addresses, most) {
		if nearest.Distance(strings.ToLower(a.String()), strings.ToLower(other)) <= near {
			close = append(close, other)
		}
	}
	if len(close) > 0 {
		w.note("%s is free, but easily mistaken for %s.", a, ask.OrList(close))
	}
	return a, nil
}

// alternatives returns free addresses that are like a taken one.
func (w *work) alternatives(a address.Address) []string {
	const most = 3
	local, domain, _ := strings.Cut(a.String(), "@")
	var free []string
	try := func(text string) {
		if one, err := address.Parse(text); err == nil && len(free) < most {
			if _, taken := w.Estate.Find(one); !taken {
				free = append(free, text)
			}
		}
	}
	for _, d := range w.Estate.Settings().Domains {
		if d.SameAs == "" && !strings.EqualFold(d.Name, domain) {
			try(local + "@" + d.Name)
		}
	}
	for _, end := range []string{"-group", "-list", "-team", "-2", "-3"} {
		try(local + end + "@" + domain)
	}
	return free
}

// listedIn returns the values of a setting; those of people and groups as addresses.
func (w *work) listedIn(s ask.Setting) ([]string, error) {
	if known, ok := estate.GroupSetting(s.Setting); !ok || known.Form != estate.FormParties {
		return s.Texts, nil
	}
	return w.listed(s.Setting, s.Texts)
}

// listed returns the addresses of those that a flag or setting names as owners or
// moderators: by address, or by a local part that is unique.
func (w *work) listed(what string, texts []string) ([]string, error) {
	var list []string
	for _, text := range texts {
		id, ok, err := w.ByLocalPart(text, ask.Anybody)
		if err != nil {
			return nil, err
		}
		if ok {
			list = append(list, w.Estate.Address(id).String())
			continue
		}
		a, err := address.Parse(text)
		switch {
		case err != nil && !strings.Contains(text, "@"):
			return nil, ask.Errorf("%s: no address %q in the estate", what, text)
		case err != nil:
			return nil, ask.Errorf("%s: %w", what, err)
		}
		if _, known := w.Estate.Find(a); !known && w.Estate.InsideDomain(a.Domain()) {
			return nil, ask.Errorf("%s: %s does not exist%s", what, text, ask.Meant(w.nearAddress(text)))
		}
		list = append(list, a.String())
	}
	return list, nil
}

// mostSuggested is for how many texts of one command it is looked who may have been meant.
const mostSuggested = 100

// nearAddress returns the address of somebody that a text may have meant.
func (w *work) nearAddress(text string) string {
	if w.suggested++; w.suggested > mostSuggested {
		return ""
	}
	near := nearest.Words(text, w.Estate.Addresses, 1)
	return strings.Join(near, "")
}
