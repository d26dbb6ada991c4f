package preset

import (
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
)

// A Need is something that an address is to do.
type Need struct {
	Name     string // as a flag
	Question string
	Says     string // what is needed, in a few words
}

// The needs that Advise knows, in the order in which they are asked.
var needs = []Need{
	{"access-only", "Is it only a set of people that other groups and systems name, without mail?",
		"a set of people without mail"},
	{"outsiders-write", "Do people outside write to it?", "people outside write to it"},
	{"look-first", "Is mail looked at before anybody gets it?", "mail is looked at first"},
	{"few-write", "Do only a few write, and many read?", "a few write, many read"},
	{"answer-as-group", "Are answers sent in its name, rather than a person's?", "answers go out in its name"},
	{"keep-posts", "Is past mail to be read by those who join later?", "past mail is kept"},
	{"one-inbox", "Do several people work in one inbox, instead of a copy for each?", "several work in one inbox"},
	{"invitations", "Do calendar invitations to it reach everybody?", "invitations reach everybody"},
	{"signs-in", "Does a device or a program sign in as the address?", "something signs in as it"},
	{"own-calendar", "Has it a calendar of its own, such as a room's?", "it has a calendar of its own"},
}

// Needs returns all needs.
func Needs() []Need { return slices.Clone(needs) }

// Advice is what serves some needs.
type Advice struct {
	Preset   string
	Kind     estate.Kind
	Settings []change.Said // apart from the preset's
	// Account is set where no group serves: why an account of its own is needed.
	Account []string
	// Unmet are needs that no kind of group serves together with the others.
	Unmet []string
	// Others says of each other kind what it could not do.
	Others []OtherKind
}

// OtherKind is a kind that was not advised.
type OtherKind struct {
	Kind   estate.Kind
	Cannot []string // needs that it does not serve; empty: it would serve as well
}

// lacks says of each kind which needs it does not serve, and why.
var lacks = map[estate.Kind]map[string]string{
	estate.List: {
		"keep-posts":  "keeps nothing: who joins later reads no past mail",
		"one-inbox":   "passes a copy to each, and has no inbox of its own",
		"access-only": "accepts mail",
	},
	estate.Forum: {
		"one-inbox":   "passes a copy to each, and has no inbox of its own",
		"access-only": "accepts mail",
	},
	estate.Mailbox: {
		"invitations": "passes nothing on, so no invitation reaches anybody's calendar",
		"access-only": "accepts mail",
	},
	estate.Roster: {
		"outsiders-write": "accepts no mail",
		"look-first":      "accepts no mail",
		"few-write":       "accepts no mail",
		"answer-as-group": "accepts no mail",
		"keep-posts":      "accepts no mail",
		"one-inbox":       "accepts no mail",
		"invitations":     "accepts no mail",
	},
}

// Advise returns what serves some needs, by their names.
func Advise(wanted []string) *Advice {
	has := func(name string) bool { return slices.Contains(wanted, name) }
	a := &Advice{Preset: "discussion", Kind: estate.List}
	switch {
	case has("access-only"):
		a.Kind = estate.Roster
	case has("one-inbox"):
		a.Kind = estate.Mailbox
	case has("keep-posts"):
		a.Kind = estate.Forum
	}
	switch {
	case has("access-only"):
		a.Preset = "access-only"
	case has("look-first"):
		a.Preset = "moderated"
	case has("outsiders-write"):
		a.Preset = "desk"
	case has("few-write"):
		a.Preset = "bulletin"
	case has("one-inbox"):
		a.Preset = "shared-inbox"
	}
	a.fit(has)
	for _, name := range []string{"signs-in", "own-calendar"} {
		if has(name) {
			a.Account = append(a.Account, sayingOf(name))
		}
	}
	for _, name := range wanted {
		if why := lacks[a.Kind][name]; why != "" {
			a.Unmet = append(a.Unmet, sayingOf(name)+": a "+a.Kind.String()+" "+why)
		}
	}
	if has("few-write") && has("outsiders-write") && !has("look-first") && a.Kind != estate.Roster {
		a.Unmet = append(a.Unmet, sayingOf("few-write")+": people outside may write, and so may everybody; look-first holds "+
			"what others write")
	}
	for _, kind := range []estate.Kind{estate.List, estate.Forum, estate.Mailbox, estate.Roster} {
		if kind == a.Kind {
			continue
		}
		other := OtherKind{Kind: kind}
		for _, need := range needs {
			if why := lacks[kind][need.Name]; has(need.Name) && why != "" && !slices.Contains(other.Cannot, why) {
				other.Cannot = append(other.Cannot, why)
			}
		}
		if kind == estate.Roster && len(other.Cannot) == 0 {
			other.Cannot = []string{"accepts no mail"}
		}
		a.Others = append(a.Others, other)
	}
	return a
}

// fit adds the settings that the preset lacks.
func (a *Advice) fit(has func(string) bool) {
	p, _ := Find(a.Preset)
	set := func(name string, texts ...string) {
		i := slices.IndexFunc(p.settings, func(s change.Said) bool { return s.Setting == name })
		if i < 0 || !slices.Equal(p.settings[i].Texts, texts) {
			a.Settings = append(a.Settings, change.Said{Setting: name, Texts: texts})
		}
	}
	if a.Kind == estate.Roster {
		return
	}
	if a.Preset == "desk" && a.Kind == estate.List {
		a.Kind = estate.Forum // which keeps past mail, too
	}
	set("kind", a.Kind.String())
	if has("answer-as-group") {
		set("send-as", "as inside and (members or owners)")
		set("replies-as", "group")
	}
	if has("invitations") && a.Kind != estate.Mailbox {
		set("invitations", "every")
	}
}

func sayingOf(name string) string {
	i := slices.IndexFunc(needs, func(n Need) bool { return n.Name == name })
	return needs[i].Says
}

// Command returns the arguments of group new that follow the advice.
func (a *Advice) Command(address string) []string {
	args := []string{"group", "new", address, "--preset", a.Preset}
	for _, s := range a.Settings {
		args = append(args, s.Setting+"="+strings.Join(s.Texts, "; "))
	}
	return append(args, "--owner", "ADDRESS")
}
