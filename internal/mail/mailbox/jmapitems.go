package mailbox

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/mail/read"
)

// email is what is asked for of a message.
type email struct {
	ID        string          `json:"id"`
	BlobID    string          `json:"blobId"`
	Mailboxes map[string]bool `json:"mailboxIds"`
	Size      int64           `json:"size"`
	Headers   []struct {
		Name, Value string // the value as it stands, RFC 8621, section 4.1.3
	} `json:"headers"`
}

// header returns the message as far as its header goes.
func (e *email) header() (*read.Message, error) {
	var b strings.Builder
	for _, h := range e.Headers {
		if b.Len() > maxHeader {
			break
		}
		b.WriteString(h.Name + ":" + h.Value + "\r\n")
	}
	return read.Parse([]byte(b.String() + "\r\n"))
}

var emailProperties = []string{"id", "blobId", "mailboxIds", "size", "headers"}

// Look returns what has come since a day, and was not looked at since the mailbox was opened.
func (b *jmapBox) Look(q Query) Report {
	r := Report{Account: b.account.Name, Marks: q.Marks}
	places, err := b.folders()
	if err != nil {
		r.Err = b.problem(err)
		return r
	}
	b.places = places
	ids, state, err := b.news(q)
	if err != nil {
		r.Err = b.problem(err)
		return r
	}
	for batch := range slices.Chunk(ids, emailsAtOnce) {
		items, err := b.get(batch, q)
		r.Items = append(r.Items, items...)
		if err != nil {
			r.Err = b.problem(err)
			return r
		}
	}
	b.state = state
	r.Marks = nil
	for _, p := range places {
		if p.Role != Other {
			r.Marks = append(r.Marks, Mark{Place: p.Place})
		}
	}
	return r
}

// news returns the ids of messages to look at, and the state that they are of: those that
// were created since the last look (RFC 8620, section 5.2), or else all that came since a day.
func (b *jmapBox) news(q Query) (ids []string, state string, err error) {
	if b.state != "" && !q.Through {
		for since := b.state; ; {
			var changes struct {
				Created []string `json:"created"`
				Updated []string `json:"updated"`
				State   string   `json:"newState"`
				More    bool     `json:"hasMoreChanges"`
			}
			err = b.call("Email/changes", map[string]any{"sinceState": since}, &changes)
			if err != nil {
				break // it cannot tell: all that came is looked at
			}
			ids, since = append(ids, changes.Created...), changes.State
			if !changes.More {
				return ids, since, nil
			}
			if len(ids) > mostNew {
				return nil, "", &boundError{text: fmt.Sprintf("there are more than %d new messages", mostNew)}
			}
		}
		if method := (*methodError)(nil); !errors.As(err, &method) {
			return nil, "", err
		}
	}
	// The state is asked for first, so that nothing comes in between unseen.
	var now struct {
		State string `json:"state"`
	}
	if err := b.call("Email/get", map[string]any{"ids": []string{}}, &now); err != nil {
		return nil, "", err
	}
	filter := map[string]any{}
	if !q.Since.IsZero() {
		filter["after"] = q.Since.UTC().Format(time.RFC3339)
	}
	ids, err = b.query(filter)
	return ids, now.State, err
}

// query returns the ids of all messages that a filter picks.
func (b *jmapBox) query(filter map[string]any) ([]string, error) {
	var ids []string
	for {
		var found struct {
			IDs []string `json:"ids"`
		}
		args := map[string]any{"position": len(ids), "limit": 1000}
		if len(filter) > 0 {
			args["filter"] = filter
		}
		if err := b.call("Email/query", args, &found); err != nil {
			return nil, err
		}
		if ids = append(ids, found.IDs...); len(found.IDs) == 0 {
			return ids, nil
		}
		if len(ids) > mostNew {
			return nil, &boundError{text: fmt.Sprintf("there are more than %d new messages", mostNew)}
		}
	}
}

// get fetches those of some messages that are wanted.
func (b *jmapBox) get(ids []string, q Query) ([]Item, error) {
	ids = slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return b.met[id] && !q.Through })
	if len(ids) == 0 {
		return nil, nil
	}
	var found struct {
		List []email `json:"list"`
	}
	args := map[string]any{"ids": ids, "properties": emailProperties}
	if err := b.call("Email/get", args, &found); err != nil {
		return nil, err
	}
	var items []Item
	for _, one := range found.List {
		i := slices.IndexFunc(b.places, func(p jmapPlace) bool { return one.Mailboxes[p.id] })
		if i < 0 || b.places[i].Role == Other && !q.Through {
			continue
		}
		b.met[one.ID] = true
		if m, err := one.header(); err != nil || !q.Wants(m) {
			continue
		}
		item, err := b.fetch(one, b.places[i].Place)
		var gone *httpError
		if errors.As(err, &gone) && gone.status == http.StatusNotFound {
			continue
		}
		if err != nil {
			return items, err
		}
		if item.Message != nil {
			items = append(items, item)
		}
	}
	return items, nil
}

// numbers are what stands for the UIDs of a message: a hash of its id.
func numbers(id string) (validity, uid uint32) {
	sum := fnv.New64a()
	sum.Write([]byte(id))
	return uint32(sum.Sum64() >> 32), uint32(sum.Sum64())
}

// fetch downloads one message, as much as is read.
func (b *jmapBox) fetch(one email, place Place) (Item, error) {
	at := strings.NewReplacer("{accountId}", url.PathEscape(b.id), "{blobId}", url.PathEscape(one.BlobID),
		"{name}", "message.eml", "{type}", url.QueryEscape("message/rfc822")).Replace(b.blobs)
	request, err := http.NewRequestWithContext(b.ctx, http.MethodGet, at, nil)
	if err != nil {
		return Item{}, err
	}
	request.Header.Set("Authorization", b.login)
	response, err := b.client.Do(request)
	if err != nil {
		return Item{}, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		_, text, _ := strings.Cut(response.Status, " ")
		return Item{}, &httpError{response.StatusCode, text}
	}
	raw, err := io.ReadAll(io.LimitReader(response.Body, maxMessage))
	if err != nil {
		return Item{}, err
	}
	item := Item{Place: place, Size: one.Size, Raw: raw}
	item.Validity, item.UID = numbers(one.ID)
	item.Message, _ = read.Parse(raw)
	return item, nil
}
