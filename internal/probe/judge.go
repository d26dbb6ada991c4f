package probe

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/mail/watch"
)

// A Judgement sets what was seen beside what was predicted.
type Judgement struct {
	Run     *Run
	Cases   []CaseResult
	Members []MemberResult // of all cases, in their order
	Causes  []infer.Cause
	// Lost are what no change of the estate explains.
	Lost []infer.Miss
	// Trials are the cases as package infer sees them, by the index of the case;
	// Explained is the case of each trial.
	Trials    []infer.Trial
	Explained []int
}

// A CaseResult is what became of one message as a whole.
type CaseResult struct {
	Case        *Case
	Predicted   estate.Verdict
	Seen        string // a verdict; "silence", "unknown" or "deferred" where there is none
	AsPredicted bool
	Reply       string // of the server
	Notices     []string
	View        *View // of one of the copies
}

// A MemberResult is what one person, or a group's archive, got of a message.
type MemberResult struct {
	Case        int
	Address     string
	Predicted   string // an outcome, or "" where none
	Seen        string // an outcome; "junk", "twice" or "" where nothing came
	AsPredicted bool
	Seconds     float64
	Where       string // the folder
}

// Words for what was seen that are no verdicts or outcomes.
const (
	Silence   = "silence"  // taken over, and nothing came anywhere
	Unknown   = "unknown"  // the connection broke: nobody knows whether it was taken over
	Deferred  = "deferred" // the server put it off again and again
	SeenJunk  = "junk"
	SeenTwice = "twice"
	SeenNot   = "not seen"
)

// evidence is what was seen of one case.
type evidence struct {
	copies    map[string][]*Sighting // by mailbox: see Plan.key
	digests   map[string]*Sighting
	bounced   map[string]string // by address that failed, likewise: the status
	bounces   int
	approvals []*Sighting
	notices   []*Sighting
}

func (run *Run) gather() []evidence {
	all := make([]evidence, len(run.Plan.Cases))
	for i := range all {
		all[i] = evidence{
			copies:  map[string][]*Sighting{},
			digests: map[string]*Sighting{},
			bounced: map[string]string{},
		}
	}
	for i := range run.Sightings {
		s := &run.Sightings[i]
		e := &all[s.Case]
		box := run.Plan.key(s.Account)
		switch s.What {
		case sawCopy:
			e.copies[box] = append(e.copies[box], s)
		case sawDigest:
			e.digests[box] = s
		case sawBounce:
			e.bounces++
			for _, f := range s.Failed {
				if f.Action == "failed" || f.Action == "" {
					e.bounced[run.Plan.key(f.Final)] = f.Status
				}
			}
		case sawApproval:
			e.approvals = append(e.approvals, s)
		case sawNotice:
			e.notices = append(e.notices, s)
		}
	}
	return all
}

// Judge compares what a run saw with what was predicted, and looks for what
// explains the difference.
func Judge(run *Run) *Judgement {
	j := &Judgement{Run: run}
	watched := map[string]bool{}
	for _, name := range run.Watched {
		watched[run.Plan.key(name)] = run.Problems[name] == nil
	}
	for i, e := range run.gather() {
		w := &judge{run: run, number: i, c: &run.Plan.Cases[i], e: e, watched: watched, p: run.Plan.Predict(i)}
		result := w.verdict()
		j.Cases = append(j.Cases, result)
		j.Members = append(j.Members, w.members(&result)...)
		if result.Seen == Unknown && len(e.copies) == 0 || result.Seen == Deferred {
			continue // there is nothing to learn from it
		}
		t := w.c.Trial()
		t.Seen = w.seen()
		j.Trials = append(j.Trials, t)
		j.Explained = append(j.Explained, i)
	}
	if !run.Broken { // else what has not been seen may yet come
		j.Causes, j.Lost = infer.Explain(run.Plan.resolver, j.Trials)
	}
	return j
}

// judge judges one case.
type judge struct {
	run     *Run
	number  int
	c       *Case
	e       evidence
	watched map[string]bool
	p       infer.Prediction

	verdicts infer.Verdicts // that agree with what was seen
}

func (w *judge) estate() *estate.Estate { return w.run.Plan.resolver.Estate() }

// key returns what the mailbox of a person or group is known by.
func (w *judge) key(id estate.ID) string { return w.estate().Key(w.estate().Address(id)) }

func (w *judge) senderKey() string { return w.estate().Key(w.c.sender()) }

// groupName is the name of the group as messages are searched for it.
func (w *judge) groupName() string { return strings.ToLower(w.estate().Address(w.c.Group).String()) }

// verdict works out what the gate said.
func (w *judge) verdict() CaseResult {
	r := CaseResult{Case: w.c, Predicted: w.p.Verdict}
	reply, sent := w.run.Replies[w.number]
	if sent {
		r.Reply = reply.String()
	}
	for _, s := range w.e.notices {
		r.Notices = append(r.Notices, s.Account)
	}
	for _, account := range slices.Sorted(maps.Keys(w.e.copies)) {
		for _, s := range w.e.copies[account] {
			if r.View == nil && s.View != nil && w.run.Plan.key(s.Account) != w.senderKey() {
				r.View = s.View
			}
		}
	}
	r.Seen, w.verdicts = w.outcome()
	r.AsPredicted = w.verdicts.Has(w.p.Verdict) && r.Seen != Unknown && r.Seen != Deferred
	return r
}

func (w *judge) outcome() (string, infer.Verdicts) {
	reply, sent := w.run.Replies[w.number]
	arrived := len(w.e.copies)+len(w.e.digests) > 0
	held := w.heldHere()
	switch {
	case held && w.run.Approved[w.number], held && !arrived:
		return estate.Hold.String(), infer.OneOf(estate.Hold)
	case arrived:
		return estate.Admit.String(), infer.OneOf(estate.Admit)
	case sent && !reply.Accepted() && reply.Later():
		return Deferred, ^infer.Verdicts(0)
	case sent && !reply.Accepted() && reply.Code != 0:
		return estate.Refuse.String(), infer.OneOf(estate.Refuse)
	}
	if status, ok := w.e.bounced[w.key(w.c.Group)]; ok {
		if strings.HasPrefix(status, "5.7.") || strings.HasPrefix(status, "5.1.") {
			return estate.Refuse.String(), infer.OneOf(estate.Refuse)
		}
		return estate.Admit.String(), infer.OneOf(estate.Admit, estate.Refuse)
	}
	if len(w.e.bounced) > 0 {
		return estate.Admit.String(), infer.OneOf(estate.Admit)
	}
	if len(w.e.approvals) > 0 {
		return estate.Admit.String(), infer.OneOf(estate.Admit) // it waits at a nested group
	}
	if w.run.Unsure[w.number] || !sent {
		return Unknown, ^infer.Verdicts(0)
	}
	// Taken over, and nothing came. If several should have got it, it was the gate;
	// otherwise it may be them. A hold that nobody is told of looks like this, too.
	expected := w.expected()
	switch {
	case expected == 0:
		return Silence, infer.OneOf(estate.Admit, estate.Hold, estate.Drop)
	case expected == 1:
		return Silence, infer.OneOf(estate.Admit, estate.Drop) | w.silentHold()
	}
	return Silence, infer.OneOf(estate.Drop) | w.silentHold()
}

// heldHere reports whether somebody was asked, or told, that the message waits at
// the group that it was sent to.
func (w *judge) heldHere() bool {
	names := func(s *Sighting) bool { return len(s.Groups) == 0 || slices.Contains(s.Groups, w.groupName()) }
	if slices.ContainsFunc(w.e.approvals, names) && !w.nestedOnly() {
		return true
	}
	return slices.ContainsFunc(w.e.notices, func(s *Sighting) bool {
		return w.run.Plan.key(s.Account) == w.senderKey() && names(s)
	})
}

// nestedOnly reports whether all requests name a nested group, besides this one
// perhaps.
func (w *judge) nestedOnly() bool {
	return !slices.ContainsFunc(w.e.approvals, func(s *Sighting) bool {
		return !slices.ContainsFunc(s.Groups, func(name string) bool { return name != w.groupName() })
	})
}

// silentHold is Hold where a held message could wait without a sign: no approver's
// mailbox was looked into.
func (w *judge) silentHold() infer.Verdicts {
	people, _ := w.run.Plan.resolver.Approvers(w.c.Group)
	for _, id := range people {
		if w.sees(id) {
			return 0
		}
	}
	return infer.OneOf(estate.Hold)
}

// sees reports whether somebody's mailbox was looked into, and takes mail.
func (w *judge) sees(id estate.ID) bool {
	return w.watched[w.key(id)] && w.estate().IsPerson(id) &&
		w.estate().Person(id).Mailbox == estate.MailboxOpen
}

// expected returns how many of those who are predicted to get a copy were looked
// at.
func (w *judge) expected() int {
	n := 0
	for id, outcome := range w.p.Outcomes {
		if outcome <= resolve.Digest && w.watched[w.key(id)] {
			n++
		}
	}
	return n
}

// seen returns what agrees with what was seen.
func (w *judge) seen() infer.Seen {
	s := infer.Seen{Verdicts: w.verdicts, People: map[estate.ID]infer.Outcomes{}}
	e := w.estate()
	to, ok := e.Find(w.c.To)
	if !ok || !e.IsGroup(to) {
		return s
	}
	for _, id := range e.PeopleByAddress() {
		name := w.key(id)
		if !w.watched[name] {
			continue
		}
		_, bounced := w.e.bounced[name]
		switch {
		case len(w.e.copies[name]) > 0:
			s.People[id] = infer.Either(resolve.Inbox)
		case w.e.digests[name] != nil:
			s.People[id] = infer.Either(resolve.Digest)
		case bounced:
			s.People[id] = infer.Either(resolve.Undeliverable)
		default:
			s.People[id] = w.nothing(id)
		}
	}
	return s
}

// nothing returns the outcomes of which nothing is seen in a mailbox.
func (w *judge) nothing(id estate.ID) infer.Outcomes {
	set := infer.Either(infer.None, resolve.Nothing, resolve.Stopped)
	if w.mayWait(id) {
		set |= infer.Either(resolve.Waiting)
	}
	if !w.bouncesSeen() {
		set |= infer.Either(resolve.Undeliverable)
	}
	if w.archiveMay() {
		set |= infer.Either(resolve.Archive)
	}
	return set
}

// mayWait reports whether a message may wait for somebody at a nested group: a
// request to release it was seen that names a group of theirs, or none could have
// been seen.
func (w *judge) mayWait(id estate.ID) bool {
	if !w.approversSeen() {
		return true
	}
	e := w.estate()
	for _, s := range w.e.approvals {
		if len(s.Groups) == 0 {
			return true
		}
		for _, name := range s.Groups {
			a, err := address.Parse(name)
			if err != nil || name == w.groupName() {
				continue
			}
			if group, ok := e.Find(a); ok && e.IsGroup(group) &&
				w.run.Plan.resolver.Members(group).Contains(uint32(id)) {
				return true
			}
		}
	}
	return false
}

// bouncesSeen reports whether a bounce that names a member would have been seen:
// the sender is inside, their own mailbox was looked into, and they are who they
// say.
func (w *judge) bouncesSeen() bool {
	sender := w.c.sender()
	id, known := w.estate().Find(sender)
	return known && w.estate().Inside(id) && !w.c.Traits.Unproven && w.sees(id) && len(w.e.bounced) > 0
}

// approversSeen reports whether a request to the approvers of any nested group
// would have been seen.
func (w *judge) approversSeen() bool {
	r := w.run.Plan.resolver
	for it := r.Members(w.c.Group).Iterator(); it.HasNext(); {
		id := estate.ID(it.Next())
		if !w.estate().IsGroup(id) {
			break
		}
		people, _ := r.Approvers(id)
		if slices.ContainsFunc(people, w.sees) {
			return true
		}
	}
	return false
}

// archiveMay reports whether the message may be kept in an archive: a copy was seen
// in one, or one could not be looked into.
func (w *judge) archiveMay() bool {
	r := w.run.Plan.resolver
	groups := []estate.ID{w.c.Group}
	for it := r.Members(w.c.Group).Iterator(); it.HasNext(); {
		id := estate.ID(it.Next())
		if !w.estate().IsGroup(id) {
			break
		}
		groups = append(groups, id)
	}
	for _, id := range groups {
		name := w.key(id)
		if len(w.e.copies[name]) > 0 || w.estate().Group(id).Kind.Keeps() && !w.watched[name] {
			return true
		}
	}
	return false
}

// members sets what each mailbox got beside what was predicted.
func (w *judge) members(result *CaseResult) []MemberResult {
	e := w.estate()
	var list []MemberResult
	predicted := w.p.Outcomes
	released := w.run.Approved[w.number] && w.p.Verdict == estate.Hold
	if released {
		from := w.run.Plan.resolver.Sender(w.c.From)
		predicted = map[estate.ID]resolve.Outcome{}
		for _, recipient := range w.run.Plan.resolver.Deliver(w.p.Group, &from, w.c.Traits).Recipients {
			if e.IsPerson(recipient.ID) {
				predicted[recipient.ID] = recipient.Outcome
			}
		}
	}
	seen := w.seen()
	for _, id := range e.PeopleByAddress() {
		name := w.key(id)
		if !w.watched[name] {
			continue
		}
		outcome, expected := predicted[id]
		if !expected {
			outcome = infer.None
		}
		m := MemberResult{Case: w.number, Address: e.Address(id).String()}
		if expected {
			m.Predicted = outcome.String()
		}
		w.describe(&m, name)
		if m.Predicted == "" && m.Seen == "" {
			continue
		}
		m.AsPredicted = m.Seen != SeenJunk && m.Seen != SeenTwice
		if set, ok := seen.People[id]; ok {
			m.AsPredicted = m.AsPredicted && set.Has(outcome)
		}
		if !result.AsPredicted && w.p.Verdict == estate.Admit && outcome <= resolve.Digest && m.Seen == "" {
			m.AsPredicted = false
		}
		if m.Seen == "" {
			m.Seen = SeenNot
		}
		list = append(list, m)
	}
	return append(list, w.others()...)
}

// describe notes what was seen in a mailbox.
func (w *judge) describe(m *MemberResult, name string) {
	_, bounced := w.e.bounced[name]
	switch copies := w.e.copies[name]; {
	case len(copies) > 0:
		m.Seen, m.Where, m.Seconds = resolve.Inbox.String(), copies[0].Folder, copies[0].Seconds
		if copies[0].Role == watch.Junk {
			m.Seen = SeenJunk
		}
		if len(copies) > 1 {
			m.Seen = SeenTwice
		}
	case w.e.digests[name] != nil:
		m.Seen, m.Where, m.Seconds = resolve.Digest.String(), w.e.digests[name].Folder, w.e.digests[name].Seconds
	case bounced:
		m.Seen = resolve.Undeliverable.String()
	}
}

// others returns the archives, and the people outside the estate, that a copy was
// seen with or should have been.
func (w *judge) others() []MemberResult {
	e := w.estate()
	to, known := e.Find(w.c.To)
	if !known && !e.InsideDomain(w.c.To.Domain()) {
		return w.reader()
	}
	list := w.strangers()
	if known && e.IsGroup(to) {
		list = append(list, w.archives(to)...)
	}
	return list
}

// reader returns what whoever a message outside the estate is for got, if their
// mailbox was looked into.
func (w *judge) reader() []MemberResult {
	name := w.estate().Key(w.c.To)
	if !w.watched[name] {
		return nil
	}
	m := MemberResult{Case: w.number, Address: w.c.To.String()}
	if w.p.Verdict == estate.Admit {
		m.Predicted = resolve.Inbox.String()
	}
	w.describe(&m, name)
	m.AsPredicted = m.Seen == m.Predicted
	if m.Seen == "" {
		m.Seen = SeenNot
	}
	return []MemberResult{m}
}

// strangers returns those outside the estate with whom a copy was seen.
func (w *judge) strangers() []MemberResult {
	var list []MemberResult
	for _, copies := range w.e.copies {
		a, err := address.Parse(copies[0].Account)
		if err != nil {
			continue
		}
		if _, ours := w.estate().Find(a); !ours {
			list = append(list, MemberResult{
				Case:    w.number,
				Address: a.String(),
				Seen:    resolve.Inbox.String(),
				Seconds: copies[0].Seconds,
				Where:   copies[0].Folder,
			})
		}
	}
	slices.SortFunc(list, func(a, b MemberResult) int { return strings.Compare(a.Address, b.Address) })
	return list
}

// archives returns the archives that a message to a group was seen in or should have
// been.
func (w *judge) archives(to estate.ID) []MemberResult {
	e := w.estate()
	from := w.run.Plan.resolver.Sender(w.c.From)
	predicted := map[estate.ID]bool{}
	if w.p.Verdict == estate.Admit {
		for _, way := range w.run.Plan.resolver.Deliver(to, &from, w.c.Traits).Ways {
			predicted[way.Group] = way.State == resolve.WayOpen && e.Group(way.Group).Kind.Keeps()
		}
	}
	var list []MemberResult
	for id := range estate.ID(e.Groups()) {
		name := w.key(id)
		copies := w.e.copies[name]
		if !w.watched[name] || !predicted[id] && len(copies) == 0 {
			continue
		}
		m := MemberResult{Case: w.number, Address: e.Address(id).String()}
		if predicted[id] {
			m.Predicted = resolve.Archive.String()
		}
		if len(copies) > 0 {
			m.Seen, m.Where, m.Seconds = resolve.Archive.String(), copies[0].Folder, copies[0].Seconds
		}
		m.AsPredicted = m.Seen == m.Predicted || w.run.Approved[w.number]
		if m.Seen == "" {
			m.Seen = SeenNot
		}
		list = append(list, m)
	}
	return list
}

// Counts returns how many verdicts and mailboxes were as predicted, and how many
// were not.
func (j *Judgement) Counts() (as, not int) {
	count := func(ok bool) {
		if ok {
			as++
		} else {
			not++
		}
	}
	for i := range j.Cases {
		count(j.Cases[i].AsPredicted)
	}
	for i := range j.Members {
		count(j.Members[i].AsPredicted)
	}
	return as, not
}

// mostEvidence is the size in bytes of a raw message that is copied.
const mostEvidence = 64 << 20

// KeepEvidence copies the raw messages of the cases that were not as predicted
// into a folder, which it makes.
func KeepEvidence(ctx context.Context, j *Judgement, dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if _, err := localfile.Ignore(dir, "/case-*.eml"); err != nil {
		return err
	}
	wrong := map[int]bool{}
	for i := range j.Cases {
		wrong[i] = !j.Cases[i].AsPredicted
	}
	for i := range j.Members {
		wrong[j.Members[i].Case] = wrong[j.Members[i].Case] || !j.Members[i].AsPredicted
	}
	for i := range j.Run.Sightings {
		s := &j.Run.Sightings[i]
		if !wrong[s.Case] {
			continue
		}
		data, err := localfile.Read(ctx, filepath.Join(j.Run.Dir, "seen", evidenceName(s)), mostEvidence)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was seen when nobody asked for evidence
		}
		if err != nil {
			return err
		}
		if err := localfile.WritePrivate(filepath.Join(dir, evidenceName(s)), data); err != nil {
			return err
		}
	}
	return nil
}
