package cli

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/report"
)

// letter is what one owner is sent.
type letter struct {
	to     estate.ID
	groups []string
	page   []byte
}

// mailReports plans what each owner is sent, and sends it with --send.
func (s *session) mailReports(q *ask.Report, at *ask.Place) error {
	if s.cmd.String("as") == "" {
		return ask.Errorf("report --mail needs --as with your own address")
	}
	me, err := s.Address("as", s.cmd.String("as"))
	if err != nil {
		return err
	}
	letters, unowned, err := s.letters(q, at)
	if err != nil {
		return err
	}
	a := &present.Mailing{From: me.String(), Unowned: unowned, Letters: []present.Letter{}}
	for _, one := range letters {
		out := present.Letter{To: s.Estate.Address(one.to).String(), Groups: one.groups, Bytes: len(one.page)}
		if s.Resolver.Estate().IsShut(one.to) {
			out.Why = "the mailbox is " + s.Estate.Person(one.to).Mailbox.String()
		}
		a.Letters = append(a.Letters, out)
	}
	if !s.cmd.Bool("send") {
		return s.print(a)
	}
	l, err := connections.Load(s.ctx, s.cmd.String("connections"))
	if err != nil {
		return ask.ConnectionsError(s.cmd.IsSet("connections"), err)
	}
	if err := unlock(s.ctx, s.cmd, s.streams, l); err != nil {
		return err
	}
	if err := s.sendLetters(l, me, letters, a); err != nil {
		return err
	}
	if err := s.print(a); err != nil {
		return err
	}
	switch {
	case a.Failed > 0 && a.Failed == len(a.Letters):
		return ask.Network(errors.New("no report could be sent"))
	case a.Failed > 0:
		return errWrong
	}
	return nil
}

// letters makes the page of each owner, and counts the groups without one.
func (s *session) letters(q *ask.Report, at *ask.Place) (list []letter, unowned int, err error) {
	choice, err := q.Choice(s.ctx, at, &s.Desk)
	if err != nil {
		return nil, 0, err
	}
	only := estate.None
	if text := q.For; text != "" {
		a, err := s.Address("for", text)
		if err != nil {
			return nil, 0, err
		}
		if only, _ = s.Estate.Find(a); only == estate.None {
			return nil, 0, ask.Errorf("--for: %s is neither a group nor a person of the estate", a)
		}
	}
	owners := map[estate.ID]bool{}
	var order []estate.ID
	for group := range estate.ID(s.Estate.Groups()) {
		if only != estate.None && s.Estate.IsGroup(only) && group != only {
			continue
		}
		of := s.Resolver.Owners(group)
		if len(of) == 0 {
			unowned++
		}
		for _, owner := range of {
			if only != estate.None && s.Estate.IsPerson(only) && owner != only {
				continue
			}
			if !owners[owner] {
				owners[owner] = true
				order = append(order, owner)
			}
		}
	}
	maker := report.NewMaker(s.Resolver)
	for _, owner := range order {
		one := choice
		s.AboutOne(&one, owner)
		d := maker.Collect(one)
		var page bytes.Buffer
		if err := d.Write(&page); err != nil {
			return nil, 0, err
		}
		if err := s.ctx.Err(); err != nil {
			return nil, 0, err
		}
		mine := letter{to: owner, page: page.Bytes()}
		for _, g := range d.Groups {
			mine.groups = append(mine.groups, g.Address)
		}
		list = append(list, mine)
	}
	return list, unowned, nil
}

// sendLetters sends the letters one after the other, at the pace of the connections.
func (s *session) sendLetters(l *connections.Connections, me address.Address, letters []letter,
	a *present.Mailing) error {
	way, ok := l.Sender(me, s.Resolver.Sender(me).Inside, false)
	if !ok {
		return ask.Errorf("no connection of %s sends as %s", s.cmd.String("connections"), me)
	}
	session := send.NewSession(way.As(me))
	defer session.Close()
	if reply := session.Open(s.ctx); reply != (send.Reply{}) {
		return ask.Network(errors.New("sending by " + way.Name + ": " + reply.String()))
	}
	a.Sent = true
	for i := range letters {
		if i > 0 && l.Limits.Pace > 0 {
			select {
			case <-time.After(time.Duration(float64(time.Second) / l.Limits.Pace)):
			case <-s.ctx.Done():
			}
		}
		out := &a.Letters[i]
		if s.ctx.Err() != nil {
			out.Reply = "interrupted"
			a.Failed++
			continue
		}
		raw, err := s.written(me, &letters[i])
		if err != nil {
			return err
		}
		reply := session.Send(s.ctx, send.Envelope{From: me.String(), To: out.To}, raw)
		out.Reply, out.Taken = reply.String(), reply.Accepted()
		if !out.Taken {
			a.Failed++
		}
	}
	return nil
}

// written returns a letter as a message, with the page attached.
func (s *session) written(me address.Address, one *letter) ([]byte, error) {
	var id [12]byte
	if _, err := rand.Read(id[:]); err != nil {
		return nil, err
	}
	to := s.Estate.Address(one.to)
	const most = 20 // groups that the text names
	names := strings.Join(one.groups[:min(len(one.groups), most)], "\n  ")
	if len(one.groups) > most {
		names += "\n  and " + present.Count(len(one.groups)-most, "other", "others")
	}
	greeting := to.String()
	if name := s.Estate.Person(one.to).Name; name != "" {
		greeting = name
	}
	return compose.Message{
		From: me, To: to, ID: hex.EncodeToString(id[:]) + "@" + me.Domain(), Date: clock.Now(), Auto: "auto-generated",
		Subject: "Your mail groups at " + present.Clean(s.Estate.Settings().Name),
		Text: "Dear " + present.Clean(greeting) +
			",\n\nattached is a page about the mail groups that you own or approve messages for:\n\n  " + names +
			"\n\nIt shows who may write to them, who gets it and who does not, and what should be put right. " +
			"Open report.html in a browser; it works without a network.\n",
		Parts: []compose.Part{{Type: "text/html", Params: map[string]string{"charset": "utf-8"}, Name: "report.html",
			Data: one.page}},
	}.Bytes()
}
