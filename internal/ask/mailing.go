package ask

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/report"
)

// MailReports asks what page each owner of groups would be mailed, and mails them.
type MailReports struct {
	Report *Report // what the pages are like
	As     string  // the sender
	Send   bool    // mail them
	File   string  // of connections
	Named  bool    // somebody named it: only then commands for secrets are run
}

// letter is what one owner is sent.
type letter struct {
	to     estate.ID
	groups []string
	page   []byte
}

// Ask plans what each owner is sent, and sends it if that is asked for.
func (q *MailReports) Ask(ctx context.Context, at *Place) (*Result, error) {
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	me, err := d.Address("as", q.As)
	if err != nil {
		return nil, err
	}
	letters, unowned, err := q.letters(ctx, at, d)
	if err != nil {
		return nil, err
	}
	a := &present.Mailing{From: me.String(), Unowned: unowned, Letters: []present.Letter{}}
	for _, one := range letters {
		out := present.Letter{To: d.Estate.Address(one.to).String(), Groups: one.groups, Bytes: len(one.page)}
		if d.Estate.IsShut(one.to) {
			out.Why = "the mailbox is " + d.Estate.Person(one.to).Mailbox.String()
		}
		a.Letters = append(a.Letters, out)
	}
	if !q.Send {
		return &Result{Answer: a}, nil
	}
	l, err := connections.Load(ctx, q.File)
	if err != nil {
		return nil, ConnectionsError(q.Named, err)
	}
	if err := l.Unlock(ctx, q.Named, at.Warn); err != nil {
		return nil, err
	}
	if err := q.send(ctx, d, l, me, letters, a); err != nil {
		return nil, err
	}
	r := &Result{Answer: a, Wrong: a.Failed > 0}
	if a.Failed > 0 && a.Failed == len(a.Letters) {
		r.Wrong = false
		return r, Network(errors.New("no report could be sent"))
	}
	return r, nil
}

// letters makes the page of each owner, and counts the groups without one.
func (q *MailReports) letters(ctx context.Context, at *Place, d *Desk) (list []letter, unowned int, err error) {
	choice, err := q.Report.Choice(ctx, at, d)
	if err != nil {
		return nil, 0, err
	}
	only := estate.None
	if text := q.Report.For; text != "" {
		a, err := d.Address("for", text)
		if err != nil {
			return nil, 0, err
		}
		if only, _ = d.Estate.Find(a); only == estate.None {
			return nil, 0, Errorf("--for: %s is neither a group nor a person of the estate", a)
		}
	}
	owners := map[estate.ID]bool{}
	var order []estate.ID
	for group := range estate.ID(d.Estate.Groups()) {
		if only != estate.None && d.Estate.IsGroup(only) && group != only {
			continue
		}
		of := d.Resolver.Owners(group)
		if len(of) == 0 {
			unowned++
		}
		for _, owner := range of {
			if only != estate.None && d.Estate.IsPerson(only) && owner != only {
				continue
			}
			if !owners[owner] {
				owners[owner] = true
				order = append(order, owner)
			}
		}
	}
	maker := report.NewMaker(d.Resolver)
	for _, owner := range order {
		one := choice
		d.AboutOne(&one, owner)
		data := maker.Collect(one)
		var page bytes.Buffer
		if err := data.Write(&page); err != nil {
			return nil, 0, err
		}
		if err := ctx.Err(); err != nil {
			return nil, 0, err
		}
		mine := letter{to: owner, page: page.Bytes()}
		for _, g := range data.Groups {
			mine.groups = append(mine.groups, g.Address)
		}
		list = append(list, mine)
	}
	return list, unowned, nil
}

// send sends the letters one after the other, at the pace of the connections.
func (q *MailReports) send(ctx context.Context, d *Desk, l *connections.Connections, me address.Address, letters []letter,
	a *present.Mailing) error {
	way, ok := l.Sender(me, d.Resolver.Sender(me).Inside, false)
	if !ok {
		return Errorf("no connection of %s sends as %s", q.File, me)
	}
	session := send.NewSession(way.As(me))
	defer session.Close()
	if reply := session.Open(ctx); reply != (send.Reply{}) {
		return Network(errors.New("sending by " + way.Name + ": " + reply.String()))
	}
	a.Sent = true
	for i := range letters {
		if i > 0 && l.Limits.Pace > 0 {
			select {
			case <-time.After(time.Duration(float64(time.Second) / l.Limits.Pace)):
			case <-ctx.Done():
			}
		}
		out := &a.Letters[i]
		if ctx.Err() != nil {
			out.Reply = "interrupted"
			a.Failed++
			continue
		}
		raw, err := written(d, me, &letters[i])
		if err != nil {
			return err
		}
		reply := session.Send(ctx, send.Envelope{From: me.String(), To: out.To}, raw)
		out.Reply, out.Taken = reply.String(), reply.Accepted()
		if !out.Taken {
			a.Failed++
		}
	}
	return nil
}

// written returns a letter as a message, with the page attached.
func written(d *Desk, me address.Address, one *letter) ([]byte, error) {
	var id [12]byte
	if _, err := rand.Read(id[:]); err != nil {
		return nil, err
	}
	to := d.Estate.Address(one.to)
	const most = 20 // groups that the text names
	names := strings.Join(one.groups[:min(len(one.groups), most)], "\n  ")
	if len(one.groups) > most {
		names += "\n  and " + present.Count(len(one.groups)-most, "other", "others")
	}
	greeting := to.String()
	if name := d.Estate.Person(one.to).Name; name != "" {
		greeting = name
	}
	return compose.Message{
		From: me, To: to, ID: hex.EncodeToString(id[:]) + "@" + me.Domain(), Date: clock.Now(), Auto: "auto-generated",
		Subject: "Your mail groups at " + present.Clean(d.Estate.Settings().Name),
		Text: "Dear " + present.Clean(greeting) +
			",\n\nattached is a page about the mail groups that you own or approve messages for:\n\n  " + names +
			"\n\nIt shows who may write to them, who gets it and who does not, and what should be put right. " +
			"Open report.html in a browser; it works without a network.\n",
		Parts: []compose.Part{{Type: "text/html", Params: map[string]string{"charset": "utf-8"}, Name: "report.html",
			Data: one.page}},
	}.Bytes()
}
