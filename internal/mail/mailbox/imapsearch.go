package mailbox

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"yorvet.example/yorvet/internal/mail/read"
)

// searchIn finds the messages of a run in a folder that no mail should come to.
func (s *session) searchIn(place Place, q Query) ([]Item, error) {
	data, err := s.selected(place.Folder)
	if err != nil || data.NumMessages == 0 {
		return nil, err
	}
	found, err := s.search(&imap.SearchCriteria{
		Since: q.Since, Header: []imap.SearchCriteriaHeaderField{{Key: read.Tag, Value: q.Tag}},
	}, 1)
	var said *imap.Error
	if errors.As(err, &said) { // it cannot search for that: all of the time are looked at
		found, err = s.search(&imap.SearchCriteria{Since: q.Since}, 1)
	}
	if err != nil {
		return nil, err
	}
	return s.fetch(found, &Mark{Place: place, Validity: data.UIDValidity}, q.Wants)
}

// fetch fetches those of some messages in the selected folder that are wanted, and moves the
// mark behind them.
func (s *session) fetch(uids []imap.UID, mark *Mark, wants func(*read.Message) bool) ([]Item, error) {
	wanted := map[imap.UID]int64{} // and their sizes
	for batch := range slices.Chunk(uids, headsAtOnce) {
		if err := s.heads(batch, wants, wanted); err != nil {
			return nil, err
		}
		mark.Next = max(mark.Next, uint32(batch[len(batch)-1])+1)
	}
	var items []Item
	for batch := range slices.Chunk(slices.Sorted(maps.Keys(wanted)), bodiesAtOnce) {
		found, err := s.bodies(batch, *mark, wanted)
		if err != nil {
			return items, err
		}
		items = append(items, found...)
	}
	return items, nil
}

// search returns the UIDs in the selected folder that match, from one on, in order.
func (s *session) search(criteria *imap.SearchCriteria, first uint32) ([]imap.UID, error) {
	s.step(mostFound)
	found, err := s.client.UIDSearch(criteria, nil).Wait()
	if err != nil {
		return nil, err
	}
	set, _ := found.All.(imap.UIDSet)
	var uids []imap.UID
	for _, r := range set {
		last := max(r.Start, r.Stop)
		// "n:*" always means the last one, too.
		for uid := uint64(max(uint32(min(r.Start, r.Stop)), first)); uid <= uint64(last); uid++ {
			if uids = append(uids, imap.UID(uid)); len(uids) > mostNew {
				return nil, &boundError{text: fmt.Sprintf("there are more than %d new messages in a folder", mostNew)}
			}
		}
	}
	slices.Sort(uids)
	return slices.Compact(uids), nil
}

// heads fetches the headers of messages, and adds those that are wanted, with their
// sizes.
func (s *session) heads(batch []imap.UID, wants func(*read.Message) bool, wanted map[imap.UID]int64) error {
	s.step(int64(len(batch)) * (maxHeader + overhead))
	header := &imap.FetchItemBodySection{
		Specifier: imap.PartSpecifierHeader,
		Peek:      true,
		Partial:   &imap.SectionPartial{Size: maxHeader},
	}
	options := &imap.FetchOptions{UID: true, RFC822Size: true, BodySection: []*imap.FetchItemBodySection{header}}
	found, err := s.client.Fetch(imap.UIDSetNum(batch...), options).Collect()
	if err != nil {
		return err
	}
	for _, head := range found {
		if m, err := read.Parse(section(head)); err == nil && slices.Contains(batch, head.UID) && wants(m) {
			wanted[head.UID] = head.RFC822Size
		}
	}
	return nil
}

// bodies fetches messages, as much of each as is read.
func (s *session) bodies(batch []imap.UID, mark Mark, sizes map[imap.UID]int64) ([]Item, error) {
	s.step(int64(len(batch)) * (maxMessage + overhead))
	whole := &imap.FetchItemBodySection{Peek: true, Partial: &imap.SectionPartial{Size: maxMessage}}
	options := &imap.FetchOptions{UID: true, BodySection: []*imap.FetchItemBodySection{whole}}
	found, err := s.client.Fetch(imap.UIDSetNum(batch...), options).Collect()
	if err != nil {
		return nil, err
	}
	var items []Item
	for _, one := range found {
		raw := section(one)
		if m, err := read.Parse(raw); err == nil && slices.Contains(batch, one.UID) {
			items = append(items, Item{mark.Place, mark.Validity, uint32(one.UID), sizes[one.UID], raw, m})
		}
	}
	return items, nil
}

// section returns the only body section of a fetched message.
func section(m *imapclient.FetchMessageBuffer) []byte {
	if len(m.BodySection) == 0 {
		return nil
	}
	return m.BodySection[0].Bytes
}
