package probe

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/mail/mailbox"
)

// KeepEvidence fetches the raw messages of the cases that were not as predicted from the
// mailboxes that this machine opens, and writes them into a folder, which it makes. It
// returns how many there are, and how many cannot be had.
func KeepEvidence(ctx context.Context, j *Judgement, dir string) (kept, missing int, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return 0, 0, err
	}
	if _, err := localfile.Ignore(dir, "/case-*.eml"); err != nil {
		return 0, 0, err
	}
	wrong := map[int]bool{}
	for i := range j.Cases {
		wrong[i] = !j.Cases[i].AsPredicted || slices.ContainsFunc(j.Cases[i].Facets,
			func(f Facet) bool { return !f.AsPredicted })
	}
	for i := range j.Members {
		wrong[j.Members[i].Case] = wrong[j.Members[i].Case] || !j.Members[i].AsPredicted
	}
	byAccount := j.Run.items(func(s *Sighting) bool { return wrong[s.Case] })
	raw := map[string][]byte{}
	at := func(p mailbox.Place, validity, uid uint32) string {
		return fmt.Sprint(p.Account, "\n", p.Folder, "\n", validity, uid)
	}
	for _, name := range slices.Sorted(maps.Keys(byAccount)) {
		account, ok := j.Run.account(name)
		if !ok {
			continue
		}
		box, openErr := mailbox.Open(ctx, account)
		if openErr != nil {
			err = errors.Join(err, openErr)
			continue
		}
		found, fetchErr := box.Fetch(byAccount[name])
		box.Close()
		err = errors.Join(err, fetchErr)
		for _, item := range found {
			raw[at(item.Place, item.Validity, item.UID)] = item.Raw
		}
	}
	for i := range j.Run.Sightings {
		s := &j.Run.Sightings[i]
		if !wrong[s.Case] {
			continue
		}
		data, ok := raw[at(s.Place, s.Validity, s.UID)]
		if !ok {
			missing++
			continue
		}
		if err := localfile.WritePrivate(filepath.Join(dir, evidenceName(s)), data); err != nil {
			return kept, missing, err
		}
		kept++
	}
	return kept, missing, err
}
