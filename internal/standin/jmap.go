package standin

import (
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
)

// The paths of the mailboxes over HTTP.
const (
	jmapSession  = "/.well-known/jmap"
	jmapAPI      = "/jmap/api"
	jmapDownload = "/jmap/download/"
)

// The capabilities of RFC 8620 and RFC 8621.
const (
	jmapCore = "urn:ietf:params:jmap:core"
	jmapMail = "urn:ietf:params:jmap:mail"
)

const (
	mostJMAP  = 4 << 20 // bytes of a request
	mostCalls = 16      // methods of one request
	mostIDs   = 500     // messages of one method
)

// mailAccess serves the mailboxes over JMAP: as much of it as it takes to look into them. It
// asks the service's own IMAP server, in the name of the one who asks it.
type mailAccess struct {
	imap string // the address of the IMAP server with TLS
}

// register adds the mailboxes to an HTTP server.
func (m *mailAccess) register(mux *http.ServeMux) {
	mux.HandleFunc("GET "+jmapSession, m.as(m.session))
	mux.HandleFunc("POST "+jmapAPI, m.as(m.api))
	mux.HandleFunc("GET "+jmapDownload+"{account}/{blob}/{name}", m.as(m.download))
}

// visit is what one request does with a mailbox.
type visit struct {
	user   string
	client *imapclient.Client
}

// as logs in as the one who asks.
func (m *mailAccess) as(use func(v *visit, w http.ResponseWriter, r *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		user, password, ok := r.BasicAuth()
		if ok {
			client, err := imapclient.DialTLS(m.imap, &imapclient.Options{
				TLSConfig: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}, // it is this very process
			})
			if err != nil {
				http.Error(w, "the mailboxes cannot be opened", http.StatusServiceUnavailable)
				return
			}
			defer client.Close()
			if ok = client.Login(user, password).Wait() == nil; ok {
				r.Body = http.MaxBytesReader(w, r.Body, mostJMAP)
				if err := use(&visit{user, client}, w, r); err != nil {
					http.Error(w, err.Error(), http.StatusBadRequest)
				}
				return
			}
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="stand-in"`)
		http.Error(w, "a login is needed", http.StatusUnauthorized)
	}
}

func writeJSON(w http.ResponseWriter, v any) error {
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(v)
}

// session answers with the session resource (RFC 8620, section 2).
func (m *mailAccess) session(v *visit, w http.ResponseWriter, _ *http.Request) error {
	return writeJSON(w, map[string]any{
		"username": v.user, "state": "0", "apiUrl": jmapAPI,
		"downloadUrl":     jmapDownload + "{accountId}/{blobId}/{name}?accept={type}",
		"primaryAccounts": map[string]string{jmapMail: v.user},
		"accounts":        map[string]any{v.user: map[string]any{"name": v.user, "isPersonal": true, "isReadOnly": false}},
		"capabilities": map[string]any{jmapCore: map[string]any{"maxObjectsInGet": mostIDs,
			"maxCallsInRequest": mostCalls}, jmapMail: map[string]any{}},
	})
}

// api calls methods, one after the other (RFC 8620, section 3).
func (m *mailAccess) api(v *visit, w http.ResponseWriter, r *http.Request) error {
	var request struct {
		Calls [][3]json.RawMessage `json:"methodCalls"`
	}
	if err := json.NewDecoder(r.Body).Decode(&request); err != nil {
		return fmt.Errorf("this is no request: %w", err)
	}
	if len(request.Calls) > mostCalls {
		return errors.New("there are too many calls in one request")
	}
	responses := []any{}
	for _, call := range request.Calls {
		var name string
		if err := json.Unmarshal(call[0], &name); err != nil {
			return err
		}
		answer, err := v.call(name, call[1])
		if err != nil {
			name, answer = "error", map[string]any{"type": "serverFail", "description": err.Error()}
			if kind := unknownMethod(""); errors.As(err, &kind) {
				answer = map[string]any{"type": "unknownMethod"}
			}
		}
		responses = append(responses, []any{name, answer, call[2]})
	}
	return writeJSON(w, map[string]any{"methodResponses": responses, "sessionState": "0"})
}

// unknownMethod is a method that there is none of.
type unknownMethod string

func (e unknownMethod) Error() string { return "there is no method " + string(e) }

// arguments are those of all methods.
type arguments struct {
	IDs     []string `json:"ids"`
	Since   string   `json:"sinceState"`
	Destroy []string `json:"destroy"`
	Filter  struct {
		After     time.Time `json:"after"`
		InMailbox string    `json:"inMailbox"`
	} `json:"filter"`
	Position, Limit int
}

func (v *visit) call(name string, data json.RawMessage) (map[string]any, error) {
	var a arguments
	if err := json.Unmarshal(data, &a); err != nil {
		return nil, err
	}
	var answer map[string]any
	var err error
	switch name {
	case "Mailbox/get":
		answer, err = v.mailboxes()
	case "Email/query":
		answer, err = v.query(a)
	case "Email/get":
		answer, err = v.get(a.IDs)
	case "Email/changes":
		answer, err = v.changes(a.Since)
	case "Email/set":
		answer, err = v.destroy(a.Destroy)
	default:
		return nil, unknownMethod(name)
	}
	if err == nil {
		answer["accountId"] = v.user
	}
	return answer, err
}

// messageID is a message: the folder, how its UIDs are to be understood, and the UID.
type messageID struct {
	Folder        string
	Validity, UID uint32
}

func (m messageID) String() string {
	return fmt.Sprintf("m%s.%d.%d", base64.RawURLEncoding.EncodeToString([]byte(m.Folder)), m.Validity, m.UID)
}

func parseMessageID(text string) (m messageID, ok bool) {
	parts := strings.Split(strings.TrimPrefix(text, "m"), ".")
	if len(parts) != 3 {
		return m, false
	}
	folder, err := base64.RawURLEncoding.DecodeString(parts[0])
	n, scanErr := fmt.Sscan(parts[1]+" "+parts[2], &m.Validity, &m.UID)
	m.Folder = string(folder)
	return m, err == nil && scanErr == nil && n == 2
}

// folderID is what a folder is called in JMAP.
func folderID(name string) string { return "f" + base64.RawURLEncoding.EncodeToString([]byte(name)) }

// folders returns the names of the folders.
func (v *visit) folders() ([]string, error) {
	list, err := v.client.List("", "*", nil).Collect()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, one := range list {
		names = append(names, one.Mailbox)
	}
	slices.Sort(names)
	return names, nil
}

func (v *visit) mailboxes() (map[string]any, error) {
	names, err := v.folders()
	list := []any{}
	for _, name := range names {
		var role any
		if word, ok := map[string]string{inbox: "inbox", junkFolder: "junk", archiveFolder: "archive"}[name]; ok {
			role = word
		}
		list = append(list, map[string]any{"id": folderID(name), "name": name, "role": role})
	}
	return map[string]any{"list": list, "notFound": []string{}, "state": "0"}, err
}

// each calls visit with every folder, opened.
func (v *visit) each(visit func(folder string, data *imap.SelectData) error) error {
	names, err := v.folders()
	if err != nil {
		return err
	}
	for _, name := range names {
		data, err := v.client.Select(name, &imap.SelectOptions{ReadOnly: true}).Wait()
		if err != nil {
			return err
		}
		if err := visit(name, data); err != nil {
			return err
		}
	}
	return nil
}

// state returns a text for all that there is: the next UID of each folder.
func (v *visit) state() (string, error) {
	next := map[string][2]uint32{}
	err := v.each(func(folder string, data *imap.SelectData) error {
		next[folder] = [2]uint32{data.UIDValidity, uint32(data.UIDNext)}
		return nil
	})
	text, marshalErr := json.Marshal(next)
	return base64.RawURLEncoding.EncodeToString(text), errors.Join(err, marshalErr)
}

// find returns the messages of a folder that match.
func (v *visit) find(folder string, data *imap.SelectData, criteria *imap.SearchCriteria, first uint32) ([]string,
	error) {
	found, err := v.client.UIDSearch(criteria, nil).Wait()
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, uid := range found.AllUIDs() {
		if uint32(uid) >= first {
			ids = append(ids, messageID{folder, data.UIDValidity, uint32(uid)}.String())
		}
	}
	return ids, nil
}

func (v *visit) query(a arguments) (map[string]any, error) {
	ids := []string{}
	err := v.each(func(folder string, data *imap.SelectData) error {
		if a.Filter.InMailbox != "" && a.Filter.InMailbox != folderID(folder) {
			return nil
		}
		found, err := v.find(folder, data, &imap.SearchCriteria{Since: a.Filter.After}, 0)
		ids = append(ids, found...)
		return err
	})
	if err != nil {
		return nil, err
	}
	ids = ids[min(max(a.Position, 0), len(ids)):]
	if a.Limit <= 0 || a.Limit > mostIDs {
		a.Limit = mostIDs
	}
	state, err := v.state()
	return map[string]any{"ids": ids[:min(a.Limit, len(ids))], "position": a.Position, "queryState": state,
		"canCalculateChanges": false}, err
}

func (v *visit) changes(since string) (map[string]any, error) {
	text, err := base64.RawURLEncoding.DecodeString(since)
	before := map[string][2]uint32{}
	if err != nil || json.Unmarshal(text, &before) != nil {
		return nil, errors.New("this is no state")
	}
	created := []string{}
	err = v.each(func(folder string, data *imap.SelectData) error {
		first := before[folder][1]
		if before[folder][0] != data.UIDValidity {
			first = 0
		}
		found, err := v.find(folder, data, &imap.SearchCriteria{}, first)
		created = append(created, found...)
		return err
	})
	if err != nil {
		return nil, err
	}
	state, err := v.state()
	return map[string]any{"oldState": since, "newState": state, "hasMoreChanges": false, "created": created,
		"updated": []string{}, "destroyed": []string{}}, err
}

// fetch returns a part of one message, and its size; nil where it is not there.
func (v *visit) fetch(m messageID, part imap.PartSpecifier) (raw []byte, size int64, err error) {
	data, err := v.client.Select(m.Folder, &imap.SelectOptions{ReadOnly: true}).Wait()
	if err != nil || data.UIDValidity != m.Validity {
		return nil, 0, err
	}
	section := &imap.FetchItemBodySection{Specifier: part, Peek: true}
	options := &imap.FetchOptions{UID: true, RFC822Size: true, BodySection: []*imap.FetchItemBodySection{section}}
	found, err := v.client.Fetch(imap.UIDSetNum(imap.UID(m.UID)), options).Collect()
	if err != nil || len(found) == 0 {
		return nil, 0, err
	}
	return found[0].FindBodySection(section), found[0].RFC822Size, nil
}

func (v *visit) get(ids []string) (map[string]any, error) {
	if len(ids) > mostIDs {
		return nil, errors.New("there are too many ids")
	}
	list, missing := []any{}, []string{}
	for _, id := range ids {
		m, ok := parseMessageID(id)
		if !ok {
			missing = append(missing, id)
			continue
		}
		head, size, err := v.fetch(m, imap.PartSpecifierHeader)
		if err != nil {
			return nil, err
		}
		if head == nil {
			missing = append(missing, id)
			continue
		}
		list = append(list, map[string]any{"id": id, "blobId": id, "size": size, "headers": headersOf(head),
			"mailboxIds": map[string]bool{folderID(m.Folder): true}})
	}
	state, err := v.state()
	return map[string]any{"list": list, "notFound": missing, "state": state}, err
}

// headersOf returns header fields as they stand, folded as they are (RFC 8621, section 4.1.3).
func headersOf(head []byte) []any {
	list := []any{}
	name, value := "", ""
	flush := func() {
		if name != "" {
			list = append(list, map[string]string{"name": name, "value": value})
		}
	}
	for line := range strings.SplitSeq(strings.TrimRight(string(head), "\r\n"), "\r\n") {
		if line != "" && (line[0] == ' ' || line[0] == '\t') {
			value += "\r\n" + line
			continue
		}
		flush()
		name, value, _ = strings.Cut(line, ":")
	}
	flush()
	return list
}

// destroy removes messages.
func (v *visit) destroy(ids []string) (map[string]any, error) {
	destroyed, not := []string{}, map[string]any{}
	for _, id := range ids {
		m, ok := parseMessageID(id)
		if ok {
			data, err := v.client.Select(m.Folder, nil).Wait()
			ok = err == nil && data.UIDValidity == m.Validity
		}
		if !ok {
			not[id] = map[string]any{"type": "notFound"}
			continue
		}
		uids := imap.UIDSetNum(imap.UID(m.UID))
		deleted := &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{imap.FlagDeleted}}
		if err := errors.Join(v.client.Store(uids, deleted, nil).Close(), v.client.UIDExpunge(uids).Close()); err != nil {
			return nil, err
		}
		destroyed = append(destroyed, id)
	}
	return map[string]any{"destroyed": destroyed, "notDestroyed": not}, nil
}

// download answers with a message as it is.
func (m *mailAccess) download(v *visit, w http.ResponseWriter, r *http.Request) error {
	id, ok := parseMessageID(r.PathValue("blob"))
	if !ok || r.PathValue("account") != v.user {
		http.NotFound(w, r)
		return nil
	}
	raw, _, err := v.fetch(id, imap.PartSpecifierNone)
	if err != nil {
		return err
	}
	if raw == nil {
		http.NotFound(w, r)
		return nil
	}
	w.Header().Set("Content-Type", "message/rfc822")
	_, err = io.WriteString(w, string(raw))
	return err
}
