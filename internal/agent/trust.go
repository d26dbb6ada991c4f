package agent

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
)

// Anyone who may write to a store plants what they like in it. These are the bounds of what an agent does
// for a run, whatever its rows say: see docs/agents.md.
const (
	mostAge   = 8 * 24 * time.Hour // how far back mailboxes are searched
	mostCode  = 24 * time.Hour     // and how old a code may be
	mostDraft = 1 << 20            // bytes of a draft

	markDigits = 24 // of the part of a tag that nobody can guess

	// MostAttachment is how many bytes a message is made large with at most.
	MostAttachment = 10_000_000
)

// isMark reports whether the tag and the Message-ID of a case have the form that a plan gives them: so
// none can be that of other people's mail.
func isMark(run, tag, id string) bool {
	secret, found := strings.CutPrefix(tag, run+".")
	domain, ours := strings.CutPrefix(id, tag+"@")
	if !found || !ours || run == "" || len(secret) != markDigits || strings.Trim(secret, "0123456789abcdef") != "" {
		return false
	}
	_, err := address.ParseDomain(domain)
	return err == nil
}

// check says what is wrong with a draft that stands in the store, or nil.
func (d *Draft) check() error {
	if d.Attachment < 0 || d.Attachment > MostAttachment {
		return fmt.Errorf("%d bytes are to be attached, and %d are the most", d.Attachment, MostAttachment)
	}
	for i, text := range []string{d.From, d.To, d.By, d.ReplyTo, d.Plain} {
		if text == "" && i > 1 {
			continue
		}
		if _, err := address.Parse(text); err != nil {
			return err
		}
	}
	return nil
}

// maySend says why a connection is not for somebody, or nil: its own list decides. Only which domains
// are inside is the run's to say.
func maySend(w *connections.Connection, from address.Address, domains []string) error {
	if !w.For(from, slices.Contains(domains, from.Domain())) {
		return fmt.Errorf("the connection %s of this machine is not for %s", w.Name, from)
	}
	return nil
}

// since returns how far back a run is searched for.
func since(began, now time.Time) time.Time {
	return later(began.Add(-before), now.Add(-mostAge))
}
