package mailbox

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/emersion/go-imap/v2"
)

// Fetch fetches messages again that were found before.
func (s *session) Fetch(items []Item) ([]Item, error) {
	var found []Item
	for folder, list := range byFolder(items) {
		data, err := s.selected(folder)
		if isGone(err) {
			continue
		}
		if err != nil {
			return found, s.problem(err)
		}
		if data.UIDValidity != list[0].Validity {
			continue
		}
		var uids []imap.UID
		for _, item := range list {
			uids = append(uids, imap.UID(item.UID))
		}
		mark := Mark{Place: list[0].Place, Validity: data.UIDValidity}
		for batch := range slices.Chunk(uids, bodiesAtOnce) {
			some, err := s.bodies(batch, mark, nil)
			if err != nil {
				return found, s.problem(err)
			}
			found = append(found, some...)
		}
	}
	return found, nil
}

// byFolder divides items by folder and by how its UIDs are to be understood, in order.
func byFolder(items []Item) func(yield func(folder string, list []Item) bool) {
	type place struct {
		folder   string
		validity uint32
	}
	lists := map[place][]Item{}
	for _, item := range items {
		at := place{item.Folder, item.Validity}
		lists[at] = append(lists[at], item)
	}
	places := slices.SortedFunc(maps.Keys(lists), func(a, b place) int {
		return cmp.Or(strings.Compare(a.folder, b.folder), cmp.Compare(a.validity, b.validity))
	})
	return func(yield func(string, []Item) bool) {
		for _, at := range places {
			if !yield(at.folder, lists[at]) {
				return
			}
		}
	}
}

// Remove removes messages, those named and no others. It needs UIDPLUS (RFC 4315), as without it
// more might go.
func (s *session) Remove(items []Item, expunge bool) (removed int, err error) {
	if s.client.Caps().Has(imap.CapUIDPlus) || s.client.Caps().Has(imap.CapIMAP4rev2) {
		expunge = false
	} else if !expunge {
		return 0, s.problem(ErrSingly)
	}
	for folder, list := range byFolder(items) {
		n, err := s.removeFrom(folder, list, expunge)
		if removed += n; err != nil {
			return removed, s.problem(err)
		}
	}
	return removed, nil
}

// removeFrom removes messages from a folder, and returns how many were there.
func (s *session) removeFrom(folder string, list []Item, expunge bool) (int, error) {
	var uids imap.UIDSet
	for _, item := range list {
		uids.AddNum(imap.UID(item.UID))
	}
	s.step(mostAnswer)
	data, err := s.client.Select(folder, nil).Wait()
	if err != nil {
		return 0, err
	}
	if data.UIDValidity != list[0].Validity {
		return 0, &boundError{text: fmt.Sprintf("the UIDs of %s have changed", folder)}
	}
	there, err := s.search(&imap.SearchCriteria{UID: []imap.UIDSet{uids}}, 1)
	if err != nil || len(there) == 0 {
		return 0, err
	}
	if expunge {
		marked, err := s.search(&imap.SearchCriteria{Flag: []imap.Flag{imap.FlagDeleted}}, 1)
		if err != nil {
			return 0, err
		}
		if slices.ContainsFunc(marked, func(uid imap.UID) bool { return !slices.Contains(there, uid) }) {
			return 0, &boundError{text: fmt.Sprintf("other messages of %s are marked as deleted, and would go, too", folder)}
		}
	}
	s.step(mostAnswer)
	deleted := &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{imap.FlagDeleted}}
	if err := s.client.Store(imap.UIDSetNum(there...), deleted, nil).Close(); err != nil {
		return 0, err
	}
	s.step(mostAnswer)
	if expunge {
		return len(there), s.client.Expunge().Close()
	}
	return len(there), s.client.UIDExpunge(imap.UIDSetNum(there...)).Close()
}
