package standin

import (
	"crypto/tls"
	"errors"
	"slices"
	"strings"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"
	"github.com/emersion/go-sasl"
)

var errWrongLogin = errors.New("wrong login")

func (p *post) imapOptions(config *tls.Config) *imapserver.Options {
	caps := imap.CapSet{}
	for _, c := range []imap.Cap{imap.CapIMAP4rev1, imap.CapIMAP4rev2, imap.CapNamespace, imap.CapUIDPlus, imap.CapMove,
		imap.CapSpecialUse, imap.CapListExtended, imap.CapListStatus, imap.CapESearch, imap.CapStatusSize} {
		caps[c] = struct{}{}
	}
	return &imapserver.Options{
		Caps: caps, TLSConfig: config, Logger: silence{},
		NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
			if p.faults.now("imap-gone", "") != nil {
				return nil, nil, &imap.Error{Type: imap.StatusResponseTypeBye, Text: "gone for a while"}
			}
			return &reader{post: p}, nil, nil
		},
	}
}

// reader is a connection of somebody who reads their mailbox.
type reader struct {
	*imapmemserver.UserSession // nil before the login
	post                       *post
	box                        *box
	folder                     string // selected
}

var (
	_ imapserver.SessionSASL        = (*reader)(nil)
	_ imapserver.SessionAppendLimit = (*reader)(nil)
)

func (r *reader) Close() error {
	if r.UserSession == nil {
		return nil
	}
	return r.UserSession.Close()
}

func (r *reader) Login(user, password string) error { return r.enter("", user, password) }

func (r *reader) AuthenticateMechanisms() []string { return []string{sasl.Plain, sasl.OAuthBearer} }

func (r *reader) Authenticate(mechanism string) (sasl.Server, error) {
	switch mechanism {
	case sasl.Plain:
		return sasl.NewPlainServer(r.enter), nil
	case sasl.OAuthBearer:
		return sasl.NewOAuthBearerServer(func(o sasl.OAuthBearerOptions) *sasl.OAuthBearerError {
			if r.enter("", o.Username, o.Token) != nil {
				return &sasl.OAuthBearerError{Status: "invalid_token"}
			}
			return nil
		}), nil
	}
	return nil, imapserver.ErrAuthFailed
}

// enter opens the mailbox of anyone who logs in.
func (r *reader) enter(identity, user, password string) error {
	who, err := r.post.authenticate(identity, user, password)
	if err != nil {
		return imapserver.ErrAuthFailed
	}
	r.post.mutex.Lock()
	e := r.post.r.Estate()
	key := e.Key(who)
	known := false
	if id, ok := e.Find(who); ok {
		key, known = e.Key(e.Address(id)), true
	}
	outside := !e.InsideDomain(who.Domain())
	r.post.mutex.Unlock()
	x := r.post.boxes.find(key)
	if x == nil && (outside || known) {
		x = r.post.boxes.open(key)
	}
	if x == nil {
		return imapserver.ErrAuthFailed
	}
	r.box, r.UserSession = x, imapmemserver.NewUserSession(x.user)
	return nil
}

func (r *reader) Select(name string, options *imap.SelectOptions) (*imap.SelectData, error) {
	name = theInbox(name)
	data, err := r.UserSession.Select(name, options)
	if err == nil {
		r.folder = name
	}
	return data, err
}

func (r *reader) Create(name string, options *imap.CreateOptions) error {
	name = theInbox(strings.TrimSuffix(name, "/"))
	if err := checkFolder(name); err != nil {
		return err
	}
	if len(r.box.folders()) >= maxFolders {
		return &imap.Error{
			Type: imap.StatusResponseTypeNo,
			Code: imap.ResponseCodeLimit,
			Text: "There are too many folders",
		}
	}
	err := r.UserSession.Create(name, options)
	if err == nil {
		r.box.mutex.Lock()
		r.box.names = append(r.box.names, name)
		r.box.mutex.Unlock()
	}
	return err
}

func (x *box) folders() []string {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	return append([]string(nil), x.names...)
}

// AppendLimit returns how large a message may be that is put into a mailbox.
func (r *reader) AppendLimit() uint32 { return maxMessage }

// Delete and Rename are not needed for a rehearsal.

// Delete refuses.
func (r *reader) Delete(string) error { return errNotHere }

// Rename refuses.
func (r *reader) Rename(string, string, *imap.RenameOptions) error { return errNotHere }

var errNotHere = &imap.Error{
	Type: imap.StatusResponseTypeNo,
	Code: imap.ResponseCodeCannot,
	Text: "The stand-in does not do this",
}

// List lists the folders with what they are for (RFC 6154).
func (r *reader) List(w *imapserver.ListWriter, ref string, patterns []string, options *imap.ListOptions) error {
	if len(patterns) == 0 {
		return r.UserSession.List(w, ref, patterns, options)
	}
	uses := map[string]imap.MailboxAttr{junkFolder: imap.MailboxAttrJunk, archiveFolder: imap.MailboxAttrArchive}
	if slices.ContainsFunc(patterns, func(pattern string) bool { return len(pattern) > maxPattern }) {
		return &imap.Error{
			Type: imap.StatusResponseTypeNo,
			Code: imap.ResponseCodeLimit,
			Text: "The pattern is too long",
		}
	}
	for _, name := range r.box.folders() {
		picked := slices.ContainsFunc(patterns, func(pattern string) bool { return matches(name, ref, pattern) })
		if !picked || options.SelectSubscribed {
			continue
		}
		data := &imap.ListData{Mailbox: name, Delim: '/'}
		if use, ok := uses[name]; ok {
			data.Attrs = append(data.Attrs, use)
		} else if options.SelectSpecialUse {
			continue
		}
		if options.ReturnStatus != nil {
			status, err := r.UserSession.Status(name, options.ReturnStatus)
			if err != nil {
				return err
			}
			data.Status = status
		}
		if err := w.WriteList(data); err != nil {
			return err
		}
	}
	return nil
}

// Expunge removes messages, and their files.
func (r *reader) Expunge(w *imapserver.ExpungeWriter, uids *imap.UIDSet) error {
	err := r.UserSession.Expunge(w, uids)
	r.sweep()
	return err
}

// Move moves messages, and their files.
func (r *reader) Move(w *imapserver.MoveWriter, set imap.NumSet, to string) error {
	to = theInbox(to)
	if nothing, err := r.picksNothing(set); nothing || err != nil {
		return err
	}
	if r.box.dir == "" {
		return r.UserSession.Move(w, set, to)
	}
	before, err := r.UserSession.Status(to, &imap.StatusOptions{UIDNext: true})
	if err != nil {
		return &imap.Error{Type: imap.StatusResponseTypeNo, Code: imap.ResponseCodeTryCreate, Text: "No such mailbox"}
	}
	if err := r.UserSession.Move(w, set, to); err != nil {
		return err
	}
	return onDiskError(r.box.moved(r.folder, r.left(), to, before.UIDNext))
}

// Copy copies messages, and their files.
func (r *reader) Copy(set imap.NumSet, to string) (*imap.CopyData, error) {
	to = theInbox(to)
	if nothing, err := r.picksNothing(set); nothing || err != nil {
		return nil, err
	}
	data, err := r.UserSession.Copy(set, to)
	if err == nil && r.box.dir != "" {
		from, _ := data.SourceUIDs.Nums()
		into, _ := data.DestUIDs.Nums()
		err = onDiskError(r.box.copied(r.folder, from, to, into))
	}
	return data, err
}

// Status reports a folder without opening it.
func (r *reader) Status(name string, options *imap.StatusOptions) (*imap.StatusData, error) {
	return r.UserSession.Status(theInbox(name), options)
}

// Append puts a message into a folder. It is there as long as the process.
func (r *reader) Append(
	name string,
	message imap.LiteralReader,
	options *imap.AppendOptions,
) (*imap.AppendData, error) {
	return r.UserSession.Append(theInbox(name), message, options)
}

// onDiskError is the answer where the disk does not take what it should.
func onDiskError(err error) error {
	if err == nil {
		return nil
	}
	return &imap.Error{
		Type: imap.StatusResponseTypeNo,
		Code: imap.ResponseCodeUnavailable,
		Text: "The folder cannot be written",
	}
}

// picksNothing reports whether no message has one of some UIDs, for which there is
// nothing to do (RFC 9051, section 6.4.9). Of sequence numbers that is an error.
func (r *reader) picksNothing(set imap.NumSet) (bool, error) {
	criteria := &imap.SearchCriteria{}
	switch set := set.(type) {
	case imap.SeqSet:
		criteria.SeqNum = []imap.SeqSet{set}
	case imap.UIDSet:
		criteria.UID = []imap.UIDSet{set}
	}
	found, err := r.UserSession.Search(imapserver.NumKindUID, criteria, &imap.SearchOptions{})
	if err != nil {
		return false, err
	}
	uids, _ := found.All.(imap.UIDSet)
	if _, bySequence := set.(imap.SeqSet); len(uids) == 0 && bySequence {
		return true, &imap.Error{Type: imap.StatusResponseTypeBad, Text: "There is no such message"}
	}
	return len(uids) == 0, nil
}

// sweep removes the files of what is not in the selected folder any more.
func (r *reader) sweep() {
	if r.box.dir != "" {
		r.box.gone(r.folder, r.left())
	}
}

// left returns the UIDs in the selected folder.
func (r *reader) left() []imap.UID {
	data, err := r.UserSession.Search(imapserver.NumKindUID, &imap.SearchCriteria{}, &imap.SearchOptions{})
	if err != nil {
		return nil
	}
	left, _ := data.All.(imap.UIDSet)
	uids, _ := left.Nums()
	return uids
}
