package ask

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/choose"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory/paste"
	"yorvet.example/yorvet/internal/present"
)

// Like asks which groups reach the people of a list.
type Like struct {
	Addresses []string
	From      string // a file with a pasted list, or - for standard input; "": none
}

// mostAlike bounds the groups of an answer.
const mostAlike = 5

// Ask finds the nearest groups.
func (q *Like) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	w, err := q.wanted(ctx, d)
	if err != nil {
		return nil, err
	}
	if len(w.people)+len(w.unknown) == 0 {
		return nil, Errorf("group like needs people: addresses, or --from")
	}
	answer := present.NewAlike(d.Resolver, w.people, w.unknown, choose.Nearest(d.Resolver, w.people, mostAlike))
	answer.Notes = append(answer.Notes, w.notes...)
	answer.Command = q.command(d)
	return &Result{Answer: answer}, nil
}

// wanted are the people of a list.
type wanted struct {
	people  []estate.ID
	unknown []string // addresses that the estate does not know
	notes   []string
}

// wanted returns the people of the list.
func (q *Like) wanted(ctx context.Context, d *Desk) (*wanted, error) {
	text := strings.Join(q.Addresses, "\n")
	if q.From != "" {
		pasted, err := ReadPasted(ctx, q.From)
		if err != nil {
			return nil, err
		}
		text += "\n" + pasted
	}
	w := &wanted{}
	found, remarks := paste.Parse(text)
	for _, p := range found {
		d.want(w, p.Address)
	}
	for _, r := range remarks {
		if r.Twice {
			continue
		}
		id, ok, err := d.ByLocalPart(r.Text, Anybody)
		if !ok && err == nil && r.Nameless {
			id, ok, err = d.ByName(r.Text)
		}
		switch {
		case ok:
			d.want(w, d.Estate.Address(id))
		case err != nil:
			w.notes = append(w.notes, strings.TrimPrefix(err.Error(), "yorvet: "))
		default:
			w.notes = append(w.notes, fmt.Sprintf("%s: %s", r.Text, r.Why))
		}
	}
	slices.Sort(w.people)
	w.people = slices.Compact(w.people)
	return w, nil
}

// want adds who an address means.
func (d *Desk) want(w *wanted, a address.Address) {
	id, known := d.Estate.Find(a)
	switch {
	case !known:
		w.unknown = append(w.unknown, a.String())
	case d.Estate.IsGroup(id):
		n := 0
		for _, x := range d.Resolver.Flow(id, resolve.Message{}).Outcomes() {
			if x.Outcome == resolve.Inbox || x.Outcome == resolve.Digest || x.Outcome == resolve.Archive ||
				x.Outcome == resolve.Undeliverable {
				w.people = append(w.people, x.Person)
				n++
			}
		}
		w.notes = append(w.notes, fmt.Sprintf("%s stands for the %d who get its mail", a, n))
	default:
		w.people = append(w.people, id)
	}
}

// command returns the command that makes a group of just these people.
func (q *Like) command(d *Desk) string {
	parts := []string{"yorvet group new NAME@" + d.Estate.Settings().Domains[0].Name + " --preset discussion --owner ADDRESS"}
	if q.From != "" {
		parts = append(parts, "--from "+Quoted([]string{q.From})[0])
	}
	for _, arg := range Quoted(q.Addresses) {
		parts = append(parts, "--member "+arg)
	}
	return strings.Join(parts, " ")
}
