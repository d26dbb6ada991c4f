package present

import (
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/probe"
)

// Runs are the runs that a store keeps.
type Runs struct {
	Store  string     `json:"store"`
	All    int        `json:"all"` // runs; the newest are listed
	Runs   []KeptRun  `json:"runs"`
	Agents []RunAgent `json:"agents"` // that are alive
}

// KeptRun is one run.
type KeptRun struct {
	Run            string `json:"run"`
	Kind           string `json:"kind"`
	State          string `json:"state"`
	Began          string `json:"began"` // RFC 3339
	Ended          string `json:"ended,omitempty"`
	Owner          string `json:"storeEstate,omitempty"` // the name of the estate in the store, where all are listed
	Estate         string `json:"estate"`                // where it was read from
	AsPredicted    int    `json:"asPredicted"`
	NotAsPredicted int    `json:"notAsPredicted"`
	NotLookedAt    int    `json:"notLookedAt"` // checks of which nothing can be said
	// Progress says how far a run is that is under way, and Missing what of it nobody does.
	Progress string   `json:"progress,omitempty"`
	Missing  []string `json:"missing,omitempty"`
}

// RunAgent is a process that works on runs.
type RunAgent struct {
	Agent     string   `json:"agent"`
	Host      string   `json:"host"`
	Sends     []string `json:"sends"` // by which connections
	SendsAs   []string `json:"sendsAs,omitempty"`
	Looks     []string `json:"looks"`
	LooksInto []string `json:"looksInto,omitempty"`
	Works     []string `json:"works"`             // the runs that it is at now
	Problem   string   `json:"problem,omitempty"` // what keeps it from a part of its work
}

// writeAgents lists agents or machines, with what each can do.
func writeAgents(p *Page, list []RunAgent) {
	for _, one := range list {
		p.Line(4, Span{Strong, "  " + one.Host}, Span{Plain, ": " + one.can()})
		if len(one.Works) > 0 {
			p.Line(4, Span{Plain, "    at work on " + strings.Join(one.Works, ", ")})
		}
		if one.Problem != "" {
			p.Line(4, Span{Bad, "    ! " + one.Problem})
		}
	}
}

// can says what an agent can do.
func (a *RunAgent) can() string {
	var parts []string
	if len(a.SendsAs) > 0 {
		parts = append(parts, "sends by "+strings.Join(a.SendsAs, ", "))
	}
	if len(a.LooksInto) > 0 {
		parts = append(parts, "looks into "+strings.Join(a.LooksInto, ", "))
	}
	if len(parts) == 0 {
		return "nothing at the moment"
	}
	return strings.Join(parts, "; ")
}

func (a *Runs) writeText(p *Page) {
	p.Line(2, Span{Strong, count(a.All, "run", "runs") + " in " + a.Store})
	var rows [][]Span
	for _, r := range a.Runs {
		style := Plain
		if r.NotAsPredicted+r.NotLookedAt == 0 && r.State == "ended" {
			style = Good
		}
		good, bad, unlooked := Span{Faint, ""}, Span{Faint, ""}, Span{Faint, ""}
		if r.AsPredicted+r.NotAsPredicted+r.NotLookedAt > 0 {
			good = Span{style, strconv.Itoa(r.AsPredicted) + " as predicted"}
		}
		if r.NotAsPredicted > 0 {
			bad = Span{Bad, strconv.Itoa(r.NotAsPredicted) + " not"}
		}
		if r.NotLookedAt > 0 {
			unlooked = Span{Doubtful, strconv.Itoa(r.NotLookedAt) + " not looked at"}
		}
		began := r.Began
		if t, err := time.Parse(time.RFC3339, r.Began); err == nil {
			began = t.Format("2006-01-02 15:04")
		}
		if r.State == "ended" && r.AsPredicted+r.NotAsPredicted+r.NotLookedAt == 0 {
			good = Span{Doubtful, "not judged yet: yorvet runs show " + r.Run}
		}
		if r.Progress != "" {
			good, bad, unlooked = Span{Doubtful, "under way"}, Span{}, Span{}
		}
		rows = append(rows, append(ownerCell(r.Owner), Span{Strong, r.Run}, Span{Faint, began}, Span{Plain, r.Kind},
			Span{Plain, r.State}, good, bad, unlooked))
	}
	if len(rows) > 0 {
		p.Gap()
		p.Table(rows)
	}
	p.more(a.All-len(a.Runs), "more")
	a.writeUnderWay(p)
	if len(a.Agents) > 0 {
		p.Gap()
		p.Title("Agents at work")
		writeAgents(p, a.Agents)
	}
}

func (a *Runs) writeUnderWay(p *Page) {
	for _, r := range a.Runs {
		if r.Progress == "" {
			continue
		}
		p.Gap()
		p.Line(4, Span{Strong, r.Run}, Span{Plain, " is under way: " + r.Progress})
		for _, text := range r.Missing {
			p.Line(4, Span{Bad, "  ! " + text})
		}
	}
}

// ProbeCounts says how many checks of a run were as predicted, and how many not.
func ProbeCounts(good, bad, unlooked int) string {
	if good+bad+unlooked == 0 {
		return "not judged yet"
	}
	text := strconv.Itoa(good) + " as predicted"
	if bad > 0 {
		text += ", " + strconv.Itoa(bad) + " not"
	}
	if unlooked > 0 {
		text += ", " + strconv.Itoa(unlooked) + " not looked at"
	}
	return text
}

func (a *Runs) table(t *table) {
	header := []string{"run", "kind", "state", "began", "ended", "estate", "as-predicted", "not-as-predicted",
		"not-looked-at", "store-estate"}
	t.head(header...)
	for _, r := range a.Runs {
		t.row(r.Run, r.Kind, r.State, r.Began, r.Ended, r.Estate, r.AsPredicted, r.NotAsPredicted, r.NotLookedAt,
			r.Owner)
	}
}

// Checked is what trying the logins of a plan came to.
type Checked struct {
	Senders   int      `json:"senders"`   // logins to send with that work
	Mailboxes int      `json:"mailboxes"` // that can be opened
	Away      int      `json:"away"`      // of both, those of other machines, which were not tried
	Failed    int      `json:"failed"`    // logins and mailboxes that do not work
	Problems  []string `json:"problems"`  // why not
}

// NewChecked tells what trying logins came to.
func NewChecked(c *probe.Checked) *Checked {
	return &Checked{c.Senders, c.Mailboxes, c.Away, c.Failed, append([]string{}, c.Problems...)}
}

func (a *Checked) writeText(p *Page) {
	text := count(a.Senders, "login to send", "logins to send") + " and " + count(a.Mailboxes, "mailbox works",
		"mailboxes work")
	if a.Away > 0 {
		text += ", of which " + strconv.Itoa(a.Away) + " are other machines' and were not tried"
	}
	head := []Span{{Strong, text}}
	if a.Failed > 0 {
		head = append(head, Span{Bad, "; " + strconv.Itoa(a.Failed) + " of both do not"})
	}
	p.Line(2, head...)
	if len(a.Problems) > 0 {
		p.Gap()
	}
	p.first(len(a.Problems), 20, "more", func(i int) { p.Line(4, Span{Bad, "! "}, Span{Plain, a.Problems[i]}) })
}

func (a *Checked) table(t *table) {
	t.head("problem")
	for _, problem := range a.Problems {
		t.row(problem)
	}
}
