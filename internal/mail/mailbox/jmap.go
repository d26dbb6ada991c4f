package mailbox

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// The bounds of what a JMAP server may say.
const (
	mostJMAP      = 16 << 20 // bytes of an answer
	emailsAtOnce  = 200
	mostRedirects = 3
)

// The capabilities of RFC 8620 and RFC 8621.
const (
	jmapCore = "urn:ietf:params:jmap:core"
	jmapMail = "urn:ietf:params:jmap:mail"
)

// jmapBox is a mailbox that is opened over JMAP.
type jmapBox struct {
	ctx     context.Context // of anyone who opened it: it ends all that is asked
	account Account
	client  *http.Client
	login   string // the Authorization field
	api     string
	blobs   string // the URL template of a message
	id      string // of the account

	places []jmapPlace
	state  string          // of all messages, as of the last look
	met    map[string]bool // messages that were looked at, by id
}

// jmapPlace is a folder.
type jmapPlace struct {
	Place
	id string
}

// openJMAP gets the session resource (RFC 8620, section 2) and logs in by that.
func openJMAP(ctx context.Context, a Account) (Box, error) {
	wait := a.Endpoint.Wait
	if wait <= 0 {
		wait = answerWait
	}
	b := &jmapBox{ctx: ctx, account: a, met: map[string]bool{}}
	dialer := &net.Dialer{Timeout: wait}
	b.client = &http.Client{
		Timeout: wait,
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSClientConfig: a.Endpoint.Config(),
			TLSHandshakeTimeout: wait, ResponseHeaderTimeout: wait, MaxIdleConnsPerHost: 1},
		CheckRedirect: func(next *http.Request, before []*http.Request) error {
			// A login is for one server.
			if len(before) > mostRedirects || next.URL.Host != before[0].URL.Host || next.URL.Scheme != before[0].URL.Scheme {
				return http.ErrUseLastResponse
			}
			return nil
		},
	}
	var err error
	if b.login, err = a.Login.HTTP(ctx); err != nil {
		return nil, b.problem(err)
	}
	if err := b.enter(); err != nil {
		b.Close()
		return nil, b.problem(err)
	}
	return b, nil
}

// httpError is an answer of a server that is no success.
type httpError struct {
	status int
	text   string
}

func (e *httpError) Error() string {
	return fmt.Sprintf("the server answers %d %s", e.status, secret.Hide(e.text))
}

// problem says why a mailbox cannot be looked into.
func (b *jmapBox) problem(err error) error {
	reason, certain := "the server does not speak JMAP as it should", false
	var refused *httpError
	var own *boundError
	var network *url.Error
	switch {
	case errors.As(err, &refused):
		reason = refused.Error()
		if refused.status == http.StatusUnauthorized || refused.status == http.StatusForbidden {
			reason, certain = "the login fails: "+reason, true
		}
	case errors.As(err, &own):
		reason, certain = own.text, own.certain
	case errors.As(err, &network) && network.Timeout():
		reason = "no answer in time"
	case errors.As(err, &network):
		reason, certain = endpoint.Reason(network.Err), endpoint.IsDistrust(network.Err)
	}
	return &Error{b.account.Name + ": " + reason, certain, err}
}

// ask sends a request and reads the answer, most bytes of it at most.
func (b *jmapBox) ask(method, at string, body []byte, most int64) ([]byte, error) {
	request, err := http.NewRequestWithContext(b.ctx, method, at, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Authorization", b.login)
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := b.client.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		_, text, _ := strings.Cut(response.Status, " ")
		return nil, &httpError{response.StatusCode, text}
	}
	data, err := io.ReadAll(io.LimitReader(response.Body, most+1))
	if err == nil && int64(len(data)) > most {
		err = &boundError{text: "the server says more than is read of one answer"}
	}
	return data, err
}

// enter reads the session resource.
func (b *jmapBox) enter() error {
	data, err := b.ask(http.MethodGet, b.account.JMAP, nil, mostJMAP)
	if err != nil {
		return err
	}
	var session struct {
		APIURL      string            `json:"apiUrl"`
		DownloadURL string            `json:"downloadUrl"`
		Primary     map[string]string `json:"primaryAccounts"`
		Accounts    map[string]struct {
			Name string `json:"name"`
		} `json:"accounts"`
	}
	if err := json.Unmarshal(data, &session); err != nil {
		return err
	}
	b.id = session.Primary[jmapMail]
	for id, account := range session.Accounts {
		// One who may open the mailboxes of others has an account for each.
		if strings.EqualFold(account.Name, b.account.Name) || b.id == "" && len(session.Accounts) == 1 {
			b.id = id
		}
	}
	if b.id == "" {
		return &boundError{"the login has no account for mail", true}
	}
	if b.api, err = b.resolve(session.APIURL); err == nil {
		b.blobs, err = b.resolve(session.DownloadURL)
	}
	return err
}

// resolve returns a URL of the session; it may be relative, and has to be at the host of the session
// itself: the login is for that host.
func (b *jmapBox) resolve(text string) (string, error) {
	base, err := url.Parse(b.account.JMAP)
	if err != nil {
		return "", err
	}
	if strings.HasPrefix(text, "/") {
		return base.Scheme + "://" + base.Host + text, nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != base.Scheme || u.Host != base.Host || u.User != nil {
		return "", &boundError{"the server names a URL at another host than that of its session resource, where the login does not go; " +
			"jmap: names the session resource at that host", true}
	}
	return text, nil
}

// call calls one method (RFC 8620, section 3.3) and reads what it returns.
func (b *jmapBox) call(method string, args map[string]any, into any) error {
	args["accountId"] = b.id
	body, err := json.Marshal(map[string]any{
		"using": []string{jmapCore, jmapMail}, "methodCalls": []any{[]any{method, args, "0"}},
	})
	if err != nil {
		return err
	}
	data, err := b.ask(http.MethodPost, b.api, body, mostJMAP)
	if err != nil {
		return err
	}
	var answer struct {
		Responses [][]json.RawMessage `json:"methodResponses"`
	}
	if err := json.Unmarshal(data, &answer); err != nil {
		return err
	}
	if len(answer.Responses) == 0 || len(answer.Responses[0]) < 2 {
		return errors.New("no answer to " + method)
	}
	var name string
	if err := json.Unmarshal(answer.Responses[0][0], &name); err != nil {
		return err
	}
	if name == "error" {
		var said struct {
			Type string `json:"type"`
		}
		_ = json.Unmarshal(answer.Responses[0][1], &said)
		return &methodError{said.Type}
	}
	return json.Unmarshal(answer.Responses[0][1], into)
}

// methodError is what a method says that fails.
type methodError struct{ kind string }

func (e *methodError) Error() string { return "the server says " + secret.Hide(e.kind) }

// folders returns the folders of the account.
func (b *jmapBox) folders() ([]jmapPlace, error) {
	var found struct {
		List []struct{ ID, Name, Role string } `json:"list"`
	}
	if err := b.call("Mailbox/get", map[string]any{"ids": nil, "properties": []string{"id", "name", "role"}},
		&found); err != nil {
		return nil, err
	}
	if len(found.List) > mostFolders {
		return nil, &boundError{text: fmt.Sprintf("there are more than %d folders", mostFolders)}
	}
	var places []jmapPlace
	for _, one := range found.List {
		role := map[string]Role{"inbox": Inbox, "junk": Junk, "archive": Archive}[one.Role]
		if role == "" {
			role = Other
		}
		places = append(places, jmapPlace{Place{b.account.Name, one.Name, role}, one.ID})
	}
	return places, nil
}

// Marks returns the state of the mailbox as a mark without a number: what is there is known
// from then on, as long as it is open.
func (b *jmapBox) Marks() ([]Mark, error) {
	places, err := b.folders()
	if err != nil {
		return nil, b.problem(err)
	}
	b.places = places
	var marks []Mark
	for _, p := range places {
		if p.Role != Other {
			marks = append(marks, Mark{Place: p.Place})
		}
	}
	return marks, nil
}

// Wait waits for a while: whatever is new is asked for after it.
func (b *jmapBox) Wait(ctx context.Context, d time.Duration) bool {
	return clock.Sleep(ctx, d) && b.ctx.Err() == nil
}

// named returns the messages that items stand for, by their ids.
func (b *jmapBox) named(items []Item) (map[string]Item, error) {
	wanted := map[[2]uint32]Item{}
	for _, item := range items {
		wanted[[2]uint32{item.Validity, item.UID}] = item
	}
	ids, err := b.query(nil)
	if err != nil {
		return nil, err
	}
	found := map[string]Item{}
	for _, id := range ids {
		validity, uid := numbers(id)
		if item, ok := wanted[[2]uint32{validity, uid}]; ok {
			found[id] = item
		}
	}
	return found, nil
}

// Fetch fetches messages again that were found before.
func (b *jmapBox) Fetch(items []Item) ([]Item, error) {
	found, err := b.named(items)
	if err != nil {
		return nil, b.problem(err)
	}
	var list []Item
	for id, item := range found {
		var one struct {
			List []email `json:"list"`
		}
		args := map[string]any{"ids": []string{id}, "properties": emailProperties}
		if err := b.call("Email/get", args, &one); err != nil {
			return list, b.problem(err)
		}
		for _, e := range one.List {
			again, err := b.fetch(e, item.Place)
			if err != nil {
				return list, b.problem(err)
			}
			list = append(list, again)
		}
	}
	return list, nil
}

// Remove removes messages, those named and no others.
func (b *jmapBox) Remove(items []Item, _ bool) (int, error) {
	found, err := b.named(items)
	if err != nil {
		return 0, b.problem(err)
	}
	var ids []string
	for id := range found {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	removed := 0
	for batch := range slices.Chunk(ids, emailsAtOnce) {
		var done struct {
			Not map[string]json.RawMessage `json:"notDestroyed"`
		}
		if err := b.call("Email/set", map[string]any{"destroy": batch}, &done); err != nil {
			return removed, b.problem(err)
		}
		removed += len(batch) - len(done.Not)
		if len(done.Not) > 0 {
			return removed, b.problem(&boundError{text: fmt.Sprintf("%d messages cannot be removed", len(done.Not))})
		}
	}
	return removed, nil
}

// Close ends the connections.
func (b *jmapBox) Close() { b.client.CloseIdleConnections() }
