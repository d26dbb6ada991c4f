package maillog

import (
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/trail"
)

// object is a line of JSON (RFC 8259): one of the stand-in's, or of journalctl -o json
// (systemd.journal-fields(7)).
type object struct {
	// The stand-in's, as docs/standin.md describes them.
	Time    string `json:"time"`
	Step    string `json:"step"`
	ID      string `json:"id"`
	Message string `json:"message"`
	From    string `json:"from"`
	To      string `json:"to"`
	Group   string `json:"group"`
	Login   string `json:"login"`
	Verdict string `json:"verdict"`
	Folder  string `json:"folder"`
	Status  string `json:"status"`
	Detail  string `json:"detail"`
	Size    int64  `json:"size"`

	// The journal's.
	Text     json.RawMessage `json:"MESSAGE"` // a text, or a list of bytes where it is none
	Program  string          `json:"SYSLOG_IDENTIFIER"`
	Host     string          `json:"_HOSTNAME"`
	Realtime string          `json:"__REALTIME_TIMESTAMP"` // microseconds since 1970
}

// object reads a line of JSON.
func (p *lineParser) object(line string, e *trail.Event) meaning {
	var o object
	if err := json.Unmarshal([]byte(line), &o); err != nil {
		return unknown
	}
	if o.Text != nil {
		return p.journal(&o, e)
	}
	if o.Step == "" {
		return unknown
	}
	at, err := time.Parse(time.RFC3339Nano, o.Time)
	if err != nil {
		return unknown
	}
	e.Time = at.UnixMilli()
	return standin(&o, e)
}

// journal reads an entry of the journal.
func (p *lineParser) journal(o *object, e *trail.Event) meaning {
	var text string
	if json.Unmarshal(o.Text, &text) != nil {
		return beside // bytes that are no text
	}
	if microseconds, err := strconv.ParseInt(o.Realtime, 10, 64); err == nil {
		e.Time = microseconds / 1000
	}
	e.Host = o.Host
	return p.said(o.Program, text, e)
}

// standinID returns the name of a message that a copy is of: copies add a number to it.
func standinID(id string) string {
	id, _, _ = strings.Cut(id, "-")
	return id
}

// standin reads a step of a message in the stand-in.
func standin(o *object, e *trail.Event) meaning {
	e.Queue, e.Message, e.From, e.To, e.Folder = standinID(o.ID), messageID(o.Message), o.From, o.To, o.Folder
	e.Login, e.Size, e.Status, e.Detail = o.Login, o.Size, o.Status, o.Detail
	if e.Status == "" {
		e.Status = statusIn(o.Detail)
	}
	if o.Group != "" && o.To != "" {
		e.Group = o.Group
	}
	whole := o.To // what the step is about: a group, where no recipient is named
	if whole == "" {
		whole = o.Group
	}
	switch o.Step {
	case "judged":
		e.Kind, e.To = trail.Arrived, whole
		if o.Verdict == "refuse" {
			e.Kind = trail.Refused
		}
	case "refused", "loop":
		e.Kind, e.To = trail.Refused, whole
	case "dropped":
		e.Kind, e.To = trail.Dropped, whole
	case "held":
		e.Kind, e.To = trail.Held, whole
	case "released":
		e.Kind, e.To = trail.Released, whole
	case "taken":
		e.Kind = trail.Arrived
	case "notice": // which it sends by itself
		e.Kind, e.From = trail.Arrived, "<>"
	case "expanded":
		e.Kind, e.To = trail.Expanded, whole
	case "copied":
		e.Kind = trail.Copied
	case "collected":
		e.Kind = trail.Collected
	case "archived":
		e.Kind = trail.Archived
	case "delivered":
		e.Kind = trail.Delivered
		if isJunk(o.Folder) {
			e.Kind = trail.Junk
		}
	case "bounced":
		e.Kind = trail.Bounced
	case "forwarded":
		e.Kind = trail.HandedOn
	case "lost":
		e.Kind, e.To = trail.Dropped, whole
	case "fault", "paused", "proven", "proof", "welcomed":
		return beside
	default:
		return unknown
	}
	return something
}
