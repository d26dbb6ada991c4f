package present

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Gathered are recipients of a message who get the same, by the same path and for the same
// reason, wherever each of them is written down.
type Gathered struct {
	Outcome resolve.Outcome
	Why     string
	Via     []estate.ID // the groups behind the first
	People  []estate.ID // by address
	Nobody  []string    // addresses that do not exist
}

// Gather puts the recipients of a delivery together.
func Gather(r *resolve.Resolver, d *resolve.Delivery) []Gathered {
	type key struct {
		outcome resolve.Outcome
		reason  resolve.Reason
	}
	n := newNamer(r)
	index := map[key]int{}
	var list []Gathered
	for _, recipient := range d.Recipients() {
		k := key{recipient.Outcome, d.Reason(recipient)}
		if !k.reason.Rule {
			k.reason.Listed = estate.Place{}
		}
		i, ok := index[k]
		if !ok {
			i = len(list)
			index[k] = i
			why, _ := n.why(d, recipient)
			list = append(list, Gathered{Outcome: recipient.Outcome, Why: why.text, Via: d.Via(recipient)[1:]})
		}
		if r.Estate().IsPerson(recipient.ID) {
			list[i].People = append(list[i].People, recipient.ID)
		} else {
			list[i].Nobody = append(list[i].Nobody, n.address(recipient.ID))
		}
	}
	return list
}

// NotFromOf returns what people of a delivery without a sender do not get, of some senders.
func NotFromOf(r *resolve.Resolver, d *resolve.Delivery) map[estate.ID]*NotFrom {
	if len(d.Paths) < 2 || r.Estate().Group(d.Group).Kind == estate.Roster {
		return nil
	}
	return newNamer(r).notFrom(d.Group, d.Recipients(), resolve.Message{})
}
