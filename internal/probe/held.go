package probe

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
)

// A Request asks an approver to release a held message. It is found in their
// mailbox.
type Request struct {
	Number   int // the UID of the request: it stays the same while others are decided
	Approver address.Address
	Group    estate.ID
	Subject  string // of the request
	Text     string // how it begins
	Answer   address.Address
	Held     read.Inner // the message that is held, as far as the request shows it

	item mailbox.Item
}

// Requests returns what waits in an approver's mailbox.
func Requests(
	ctx context.Context, r *resolve.Resolver, l *connections.Connections, approver address.Address,
) ([]Request, error) {
	e := r.Estate()
	account, ok := l.Account(approver, e.InsideDomain(approver.Domain()))
	if !ok {
		return nil, fmt.Errorf("the connections do not open the mailbox of %s", approver)
	}
	report := mailbox.Look(ctx, account, mailbox.Query{Wants: func(m *read.Message) bool {
		return m.Auto != "" && strings.HasPrefix(m.Type, "multipart/")
	}})
	if err := errors.Join(ctx.Err(), report.Err); err != nil {
		return nil, err
	}
	var list []Request
	for _, item := range report.Items {
		m := item.Message
		held := slices.IndexFunc(m.Inner, func(inner read.Inner) bool { return !inner.Digest })
		answer, err := address.Parse(answerTo(m))
		if m.Bounce != nil || held < 0 || err != nil {
			continue
		}
		group, ok := approvedBy(r, approver, m)
		if !ok {
			continue
		}
		list = append(
			list,
			Request{
				Number:   numberOf(item, list),
				Approver: approver,
				Group:    group,
				Subject:  m.Subject,
				Text:     firstLine(m.Text),
				Answer:   answer,
				Held:     m.Inner[held],
				item:     item,
			},
		)
	}
	return list, nil
}

// answerTo returns where an answer to a message goes, or "".
func answerTo(m *read.Message) string {
	for _, list := range [][]address.Address{m.ReplyTo, m.From} {
		if len(list) > 0 {
			return list[0].String()
		}
	}
	return ""
}

// numberOf returns the number of a request: its UID, or one more than any where another
// mailbox has that UID, too.
func numberOf(item mailbox.Item, list []Request) int {
	n := int(item.UID)
	for slices.ContainsFunc(list, func(q Request) bool { return q.Number == n }) {
		n += 1 << 32
	}
	return n
}

// approvedBy returns the group that a request is about: one that it names, and
// whose held mail the approver can release.
func approvedBy(r *resolve.Resolver, approver address.Address, m *read.Message) (estate.ID, bool) {
	e := r.Estate()
	id, ok := e.Find(approver)
	if !ok {
		return estate.None, false
	}
	text := strings.ToLower(m.Subject + "\n" + m.Text)
	for group := range estate.ID(e.Groups()) {
		if strings.Contains(text, strings.ToLower(e.Address(group).String())) {
			if people, _ := r.Approvers(group); slices.Contains(people, id) {
				return group, true
			}
		}
	}
	return estate.None, false
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(line)
}

// Decide answers a request: with admit, or else it is refused. The request is taken
// out of the mailbox when the answer has been accepted.
func (q *Request) Decide(ctx context.Context, r *resolve.Resolver, l *connections.Connections, admit bool) error {
	inside := r.Estate().InsideDomain(q.Approver.Domain())
	connection, ok := l.Sender(q.Approver, inside, false)
	if !ok {
		return fmt.Errorf("the connections have no way to send as %s", q.Approver)
	}
	reply, err := agent.Decide(ctx, connection.As(q.Approver), q.Approver, q.Answer, q.item.Message.ID, q.Subject, admit)
	if err != nil {
		return err
	}
	if !reply.Accepted() {
		return fmt.Errorf("the answer is not taken: %s", reply)
	}
	account, _ := l.Account(q.Approver, inside)
	_, err = mailbox.Remove(ctx, account, []mailbox.Item{q.item}, false)
	return err
}
