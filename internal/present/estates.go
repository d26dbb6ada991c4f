package present

// Estates are the estates that a store serves, or the one that asks.
type Estates struct {
	Store   string       `json:"store"`
	Shared  bool         `json:"shared"` // several machines can use it
	Estates []KeptEstate `json:"estates"`
}

// KeptEstate is one of them.
type KeptEstate struct {
	Estate   string      `json:"estate"` // its name in the store
	Here     bool        `json:"here"`   // it is the one that asks
	Began    string      `json:"began"`  // RFC 3339: when it first used the store
	LastUsed string      `json:"lastUsed,omitempty"`
	Login    string      `json:"login,omitempty"` // of the database, that sees this estate alone
	Places   []KeptPlace `json:"places"`
	Runs     int         `json:"runs"`
	Answers  int         `json:"answers"`
	Agents   int         `json:"agents"` // that are alive
}

// KeptPlace is a folder in which an estate is used.
type KeptPlace struct {
	Host string `json:"host"`
	Path string `json:"path"`
}

// ownerCell begins a row of a list of all estates.
func ownerCell(name string) []Span {
	if name == "" {
		return nil
	}
	return []Span{{Faint, name[:min(len(name), 8)]}}
}

func (e *KeptEstate) counts() string {
	return count(e.Runs, "run of probes", "runs of probes") + ", " + count(e.Answers, "kept answer", "kept answers") + ", " +
		count(e.Agents, "agent at work", "agents at work")
}

func (a *Estates) writeText(p *Page) {
	if len(a.Estates) == 1 && a.Estates[0].Here {
		p.Line(2, Span{Strong, a.Store + " keeps " + a.Estates[0].counts() + " of this estate"})
	} else {
		p.Line(2, Span{Strong, count(len(a.Estates), "estate uses ", "estates use ") + a.Store})
	}
	for _, e := range a.Estates {
		p.Gap()
		p.Title("Estate " + e.Estate)
		if len(a.Estates) > 1 || !e.Here {
			p.Line(4, Span{Plain, "  " + e.counts()})
		}
		for _, place := range e.Places {
			p.Line(4, Span{Plain, "  used in " + place.Path + " on " + place.Host})
		}
		used := "since " + shortTime(e.Began)
		if e.LastUsed != "" {
			used += ", last " + shortTime(e.LastUsed)
		}
		p.Line(4, Span{Faint, "  " + used})
		switch {
		case e.Login != "":
			p.Line(4, Span{Plain, "  the login " + e.Login + " of the database sees this estate alone"})
		case a.Shared:
			p.Line(4, Span{Doubtful, "  any login to the database sees it; to change that: yorvet store separate LOGIN"})
		}
	}
}

func (a *Estates) table(t *table) {
	t.head("estate", "host", "path", "began", "last-used", "login", "runs", "answers", "agents")
	for _, e := range a.Estates {
		for _, place := range e.Places {
			t.row(e.Estate, place.Host, place.Path, e.Began, e.LastUsed, e.Login, e.Runs, e.Answers, e.Agents)
		}
	}
}
