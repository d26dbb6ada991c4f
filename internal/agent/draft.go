package agent

import (
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/read"
)

// A Draft is what anyone who sends a message of a run has to know.
type Draft struct {
	From      string `json:"from"`
	By        string `json:"by,omitempty"`     // who submits it in the name of From
	Sender    bool   `json:"sender,omitempty"` // By stands in Sender (RFC 5322, section 3.6.2)
	To        string `json:"to"`
	ReplyTo   string `json:"replyTo,omitempty"`
	Subject   string `json:"subject"`
	Text      string `json:"text"`
	InReplyTo string `json:"inReplyTo,omitempty"`
	Automatic bool   `json:"automatic,omitempty"`
	// Invitation has it carry a calendar request for a week from now.
	Invitation bool `json:"invitation,omitempty"`
	Attachment int  `json:"attachment,omitempty"` // bytes of a file with it
	Notify     bool `json:"notify,omitempty"`     // word of its delivery is wanted (RFC 3461)
	// Code is who mails a code to the group that the message is from, for By to prove that
	// they may; "": nobody does.
	Code string `json:"code,omitempty"`
	// Retry has the message sent again where the server does not know the address: it may come to.
	Retry bool `json:"again,omitempty"`
	// Plain is a mailbox to which the same sender may write: if the message is refused, the server
	// is asked whether it would be there, too, and nothing is sent to it. "": it is not asked.
	Plain string `json:"plain,omitempty"`
}

// Submitter returns who submits the message.
func (d *Draft) Submitter() (address.Address, error) {
	if d.By != "" {
		return address.Parse(d.By)
	}
	return address.Parse(d.From)
}

// Message writes the message, with a Message-ID and a tag that mark it.
func (d *Draft) Message(id, tag string, now time.Time) ([]byte, error) {
	m := compose.Message{ID: id, Date: now, Subject: d.Subject, Text: d.Text, InReplyTo: d.InReplyTo,
		Extra: []compose.Field{{Name: read.Tag, Value: tag}}}
	for _, field := range []struct {
		text string
		into *address.Address
	}{{d.From, &m.From}, {d.To, &m.To}, {d.ReplyTo, &m.ReplyTo}} {
		if field.text == "" {
			continue
		}
		var err error
		if *field.into, err = address.Parse(field.text); err != nil {
			return nil, err
		}
	}
	if d.Sender {
		var err error
		if m.Sender, err = address.Parse(d.By); err != nil {
			return nil, err
		}
	}
	if d.Automatic {
		m.Auto = "auto-generated"
	}
	if d.Invitation {
		when := now.AddDate(0, 0, 7).Truncate(time.Hour)
		m.Parts = append(m.Parts, compose.Invitation(id, m.From, m.To, d.Subject, when))
	}
	if d.Attachment > 0 {
		const text = "A test of attachments.\r\n"
		data := []byte(strings.Repeat(text, d.Attachment/len(text)+1))
		m.Parts = append(m.Parts, compose.Part{Type: "text/plain", Name: "test.txt", Data: data})
	}
	return m.Bytes()
}
