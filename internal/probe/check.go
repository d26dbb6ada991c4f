package probe

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/send"
)

// Checked is what trying all logins of a plan came to.
type Checked struct {
	Senders   int      // logins to send with that work, or that another machine has
	Mailboxes int      // mailboxes that can be opened, or that another machine opens
	Away      int      // of both, those of other machines, which were not tried
	Failed    int      // logins and mailboxes that do not work
	Problems  []string // why not, in plain words

	marks map[string][]mailbox.Mark // by account
	boxes map[string]error          // problems by account
	why   map[string][]string       // what does not work, by why
}

// Check tries every login that the messages of a plan need, and opens every mailbox of it.
// Nothing is sent.
func Check(ctx context.Context, p *RunPlan) *Checked { return p.check(ctx, p.watched()) }

// mostFirst is how many mailboxes are opened before a run: where there are more, so many of them
// tell whether any opens. All are gone through later.
const mostFirst = 50

// first returns the mailboxes that are opened before a run.
func (p *RunPlan) first() []address.Address {
	all := p.watched()
	if len(all) <= mostFirst {
		return all
	}
	list := make([]address.Address, mostFirst)
	for i := range list {
		list[i] = all[i*len(all)/mostFirst]
	}
	return list
}

// check tries every login that the messages of a plan need, and opens some mailboxes.
func (p *RunPlan) check(ctx context.Context, accounts []address.Address) *Checked {
	checking, stop := context.WithTimeout(ctx, p.connections.Limits.Patience)
	defer stop()
	c := &Checked{marks: map[string][]mailbox.Mark{}, boxes: map[string]error{}, why: map[string][]string{}}
	var mutex sync.Mutex
	e := p.resolver.Estate()
	var tries []func()
	tried := map[string]bool{}
	for i := range p.Cases {
		from := p.Cases[i].sender()
		key := p.Cases[i].Connection + " " + from.Key()
		connection, ok := p.connections.Connection(p.Cases[i].Connection)
		switch {
		case !ok || tried[key]:
		case connection.Away():
			c.Senders, c.Away = c.Senders+1, c.Away+1
		default:
			tries = append(tries, func() { c.tryWay(checking, &mutex, connection, from) })
		}
		tried[key] = true
	}
	for _, a := range accounts {
		boxes, ok := p.connections.Mailbox(a, e.InsideDomain(a.Domain()))
		switch {
		case !ok:
		case boxes.Away():
			c.Mailboxes, c.Away = c.Mailboxes+1, c.Away+1
		default:
			tries = append(tries, func() { c.tryBox(checking, &mutex, boxes.Account(a)) })
		}
	}
	together(max(1, p.connections.Limits.Connections), tries)
	for _, why := range slices.Sorted(maps.Keys(c.why)) {
		const most = 3
		names := c.why[why]
		slices.Sort(names)
		text := strings.Join(names[:min(len(names), most)], ", ")
		if len(names) > most {
			text += fmt.Sprintf(" and %d more", len(names)-most)
		}
		c.Problems = append(c.Problems, text+": "+why)
	}
	return c
}

// again is how long to wait before a login is tried for the second time.
const again = 500 * time.Millisecond

// together does some things, so many at once.
func together(most int, list []func()) {
	slots := make(chan struct{}, most)
	var done sync.WaitGroup
	for _, one := range list {
		slots <- struct{}{}
		done.Go(func() {
			defer func() { <-slots }()
			one()
		})
	}
	done.Wait()
}

func (c *Checked) tryWay(ctx context.Context, mutex *sync.Mutex, connection *connections.Connection, from address.Address) {
	session := send.NewSession(connection.As(from))
	defer session.Close()
	reply := session.Open(ctx)
	end, _ := ctx.Deadline()
	if reply.Temporary() && end.Sub(clock.Machine()) > 2*again { // a connection may break once
		select {
		case <-ctx.Done():
		case <-time.After(again):
			reply = session.Open(ctx)
		}
	}
	mutex.Lock()
	defer mutex.Unlock()
	if reply == (send.Reply{}) {
		c.Senders++
		return
	}
	c.Failed++
	why := stageOf(reply) + reply.String()
	c.why[why] = append(c.why[why], "sending by "+connection.Name+" as "+from.String())
}

// stageOf returns the stage of an answer that has a code, which does not say it.
func stageOf(r send.Reply) string {
	if r.Code == 0 {
		return ""
	}
	return r.Stage + ": "
}

func (c *Checked) tryBox(ctx context.Context, mutex *sync.Mutex, account mailbox.Account) {
	var marks []mailbox.Mark
	box, err := mailbox.Open(ctx, account)
	if err == nil {
		defer box.Close()
		marks, err = box.Marks()
	}
	mutex.Lock()
	defer mutex.Unlock()
	if err != nil {
		c.Failed++
		c.boxes[account.Name] = err
		why := strings.TrimPrefix(err.Error(), account.Name+": ")
		c.why[why] = append(c.why[why], "the mailbox of "+account.Name)
		return
	}
	c.Mailboxes++
	c.marks[account.Name] = marks
}
