package connections

import (
	"slices"

	"yorvet.example/yorvet/internal/core/address"
)

// An Offer is what a machine can do with its connections. There is nothing secret in it.
type Offer struct {
	Send      []OfferedConnection `json:"send"`
	Look      []OfferedMailboxes  `json:"look"`
	Strangers []string            `json:"strangers"`
}

// An OfferedConnection is a connection to send that a machine has.
type OfferedConnection struct {
	Name   string   `json:"name"`
	From   []string `json:"from"`
	Claims bool     `json:"claims,omitempty"`
}

// OfferedMailboxes are mailboxes that a machine can open.
type OfferedMailboxes struct {
	Name string   `json:"name"`
	For  []string `json:"for"`
}

// Offer returns what this machine can do.
func (l *Connections) Offer() Offer {
	o := Offer{Send: []OfferedConnection{}, Look: []OfferedMailboxes{}, Strangers: []string{}}
	for _, w := range l.Outgoing {
		if !w.away {
			o.Send = append(o.Send, OfferedConnection{w.Name, w.From, w.Claims})
		}
	}
	for _, m := range l.Mailboxes {
		if !m.away {
			o.Look = append(o.Look, OfferedMailboxes{m.Name, m.For})
		}
	}
	for _, a := range l.Strangers {
		o.Strangers = append(o.Strangers, a.String())
	}
	return o
}

// Join adds what other machines can do. What this one has comes first.
func (l *Connections) Join(offers ...Offer) {
	for _, o := range offers {
		for _, w := range o.Send {
			if _, have := l.Connection(w.Name); !have {
				l.Outgoing = append(l.Outgoing, Connection{Name: w.Name, From: w.From, Claims: w.Claims, away: true})
			}
		}
		for _, m := range o.Look {
			if _, have := l.Boxes(m.Name); !have {
				l.Mailboxes = append(l.Mailboxes, Mailboxes{Name: m.Name, For: m.For, away: true})
			}
		}
		for _, text := range o.Strangers {
			if a, err := address.Parse(text); err == nil &&
				!slices.ContainsFunc(l.Strangers, func(one address.Address) bool { return one.Key() == a.Key() }) {
				l.Strangers = append(l.Strangers, a)
			}
		}
	}
}

// Connection returns the connection to send that has a name.
func (l *Connections) Connection(name string) (*Connection, bool) {
	for i := range l.Outgoing {
		if l.Outgoing[i].Name == name {
			return &l.Outgoing[i], true
		}
	}
	return nil, false
}

// Boxes returns the mailboxes of a connection that has a name.
func (l *Connections) Boxes(name string) (*Mailboxes, bool) {
	for i := range l.Mailboxes {
		if l.Mailboxes[i].Name == name {
			return &l.Mailboxes[i], true
		}
	}
	return nil, false
}

// Away reports whether another machine has this connection.
func (w *Connection) Away() bool { return w.away }

// Away reports whether another machine opens these mailboxes.
func (m *Mailboxes) Away() bool { return m.away }

// Believes reports whether a request to an approver may come from an address outside.
func (l *Connections) Believes(a address.Address) bool { return covers(l.Requests, a, false) }
