package ask

import (
	"cmp"
	"context"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
)

// OfGroup asks something about one group.
type OfGroup struct {
	Group string
	Look  func(r *resolve.Resolver, group estate.ID) present.Answer
}

// Ask looks at the group.
func (q *OfGroup) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, group, err := openGroup(ctx, at, q.Group)
	if err != nil {
		return nil, err
	}
	return &Result{Answer: q.Look(d.Resolver, group)}, nil
}

// openGroup opens the estate of a place, and finds a group of it.
func openGroup(ctx context.Context, at *Place, text string) (*Desk, estate.ID, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, estate.None, err
	}
	group, err := d.Group(text)
	return d, group, err
}

// Receives asks who gets a message to a group.
type Receives struct {
	Group   string
	From    string // the address in From; "": nobody in particular
	Message resolve.Message
}

// Ask finds out who gets it.
func (q *Receives) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, group, err := openGroup(ctx, at, q.Group)
	if err != nil {
		return nil, err
	}
	var sender *resolve.Sender
	if q.From != "" {
		a, err := d.Address("from", q.From)
		if err != nil {
			return nil, err
		}
		found := d.Resolver.Sender(a)
		sender = &found
	}
	return &Result{Answer: present.NewReceives(d.Resolver, group, sender, q.Message)}, nil
}

// Explain follows messages step by step: one from each sender to each address.
type Explain struct {
	From, To []string
	As       string // the group in whose name they are written; "": none
	For      string // the person that they are followed to; "": everybody
	Message  resolve.Message
}

// Ask follows the messages.
func (q *Explain) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	c := present.Case{As: estate.None, For: estate.None, Message: q.Message}
	if q.For != "" {
		if c.For, err = d.Person(q.For); err != nil {
			return nil, err
		}
	}
	if q.As != "" {
		if c.As, err = d.Group(q.As); err != nil {
			return nil, err
		}
	}
	senders, err := d.addresses("from", q.From)
	if err != nil {
		return nil, err
	}
	targets, err := d.addresses("to", q.To)
	if err != nil {
		return nil, err
	}
	var answer present.Explanations
	for _, c.From = range senders {
		for _, c.To = range targets {
			one := present.NewExplanation(d.Resolver, c)
			if one == nil {
				return nil, Errorf("%s is neither in the estate nor in one of its domains%s", c.To,
					Meant(d.NearGroups(c.To.String())...))
			}
			answer.Explanations = append(answer.Explanations, one)
		}
	}
	return &Result{Answer: &answer}, nil
}

// addresses returns the addresses that texts of an option name.
func (d *Desk) addresses(option string, texts []string) (list []address.Address, err error) {
	for _, text := range texts {
		a, err := d.Address(option, text)
		if err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, nil
}

// OfPerson asks everything about one person.
type OfPerson struct{ Person string }

// Ask looks at the person.
func (q *OfPerson) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	id, err := d.Person(q.Person)
	if err != nil {
		return nil, err
	}
	return &Result{Answer: present.NewPerson(d.Resolver, id)}, nil
}

// Matrix asks about groups at a glance.
type Matrix struct {
	Groups Groups
	Where  string // a condition on columns; "": none
	Sort   string // a column, with - before it the other way round; "": in order
	Top    *int   // how many of them; nil: all
}

// Ask looks at the groups.
func (q *Matrix) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	groups, err := d.Groups(q.Groups)
	if err != nil {
		return nil, err
	}
	a := present.NewMatrix(d.Resolver)
	a.Only(groups)
	if q.Where != "" {
		if err := a.Where(q.Where); err != nil {
			return nil, Errorf("--where: %w", err)
		}
	}
	a.Total()
	if q.Sort != "" || q.Top != nil {
		if err := a.Sort(cmp.Or(q.Sort, "get")); err != nil {
			return nil, Errorf("--sort: %w", err)
		}
	}
	if q.Top != nil {
		if err := a.Top(*q.Top); err != nil {
			return nil, Errorf("--top: %w", err)
		}
	}
	return &Result{Answer: a}, nil
}
