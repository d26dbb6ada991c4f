package probe

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/mail/watch"
)

// Options say how a run goes.
type Options struct {
	Dir      string                    // where runs are recorded; the run gets a folder in it
	Approve  bool                      // answer the requests to approvers
	Evidence bool                      // keep the raw messages that are seen
	Progress func(done, all int)       // is told how far it is; nil: nobody
	Poke     func(ctx context.Context) // is called once all is sent, before the wait for the rest; nil: nothing
}

// A Run is what has been sent and seen.
type Run struct {
	Plan      *Plan
	Dir       string
	Replies   map[int]send.Reply // by case
	Unsure    map[int]bool       // whether the case was taken over is not known
	Sightings []Sighting
	Problems  map[string]error // mailboxes that could not be looked into, and why
	Watched   []string         // mailboxes that were looked into
	Approved  map[int]bool     // by case: a request was answered
	Broken    bool             // it was ended before its time
}

// Start sends the messages of a plan and watches for what becomes of them.
func Start(ctx context.Context, p *Plan, o Options) (*Run, error) {
	dir := filepath.Join(o.Dir, p.Run)
	j, err := newJournal(dir, p)
	if err != nil {
		return nil, err
	}
	defer j.close()
	return newRunner(p, o, dir, j, nil).run(ctx)
}

// Resume goes on with a run that was ended before its time. What has been sent, or
// may have been, is not sent again.
func Resume(ctx context.Context, dir string, r *resolve.Resolver, l *connections.Connections, o Options) (*Run, error) {
	h, err := readJournal(ctx, dir)
	if err != nil {
		return nil, err
	}
	p, err := restore(h, r, l)
	if err != nil {
		return nil, err
	}
	j, err := reopen(dir)
	if err != nil {
		return nil, err
	}
	defer j.close()
	return newRunner(p, o, dir, j, h).run(ctx)
}

// runner is a run under way.
type runner struct {
	plan    *Plan
	options Options
	dir     string
	journal *Journal
	watch   *watch.Watch
	marks   []watch.Mark

	mutex   sync.Mutex // guards what follows
	result  *Run
	sent    map[int]time.Time
	known   map[sightingKey]bool
	looked  map[string]time.Time
	last    time.Time // when something new was sent or seen last
	sending bool
	limiter *rate.Limiter

	answering map[int]bool // by case: a request is being answered, or has been
	pending   int          // requests that are being answered
	answers   sync.WaitGroup
}

// sightingKey tells sightings apart.
type sightingKey struct {
	account, folder string
	validity, uid   uint32
	number          int
}

func (s *Sighting) key() sightingKey {
	return sightingKey{s.Account, s.Folder, s.Validity, s.UID, s.Case}
}

func newRunner(p *Plan, o Options, dir string, j *Journal, h *history) *runner {
	limits := p.connections.Limits
	x := &runner{
		plan:      p,
		options:   o,
		dir:       dir,
		journal:   j,
		sent:      map[int]time.Time{},
		known:     map[sightingKey]bool{},
		looked:    map[string]time.Time{},
		answering: map[int]bool{},
		limiter:   rate.NewLimiter(rate.Limit(limits.Pace), 1),
		result: &Run{
			Plan:     p,
			Dir:      dir,
			Replies:  map[int]send.Reply{},
			Unsure:   map[int]bool{},
			Problems: map[string]error{},
			Approved: map[int]bool{},
		},
	}
	x.watch = &watch.Watch{Connections: limits.Connections, Every: limits.LookEvery, Wants: p.wants}
	e := p.resolver.Estate()
	for _, a := range p.watched() {
		if account, ok := p.connections.Account(a, e.InsideDomain(a.Domain())); ok {
			x.watch.Accounts = append(x.watch.Accounts, account)
		}
	}
	if h != nil {
		x.marks = h.marks
		for i, sent := range h.sent {
			if !sent {
				continue
			}
			x.sent[i] = h.at[i]
			if reply, ok := h.replies[i]; ok {
				x.result.Replies[i] = reply
			} else {
				x.result.Unsure[i] = true
			}
		}
		for _, s := range h.seen {
			x.note(s)
		}
	}
	return x
}

// graceAfter is how much longer a run may take than its pace and patience allow.
const graceAfter = 3 * time.Second

// end returns when a run ends at the latest that begins now: when all its messages
// could be sent at its pace, and patience is over.
func (x *runner) end() time.Time {
	limits := x.plan.connections.Limits
	sending := time.Duration(float64(len(x.plan.Cases)) / limits.Pace * float64(time.Second))
	return time.Now().Add(sending + limits.Patience + graceAfter)
}

func (x *runner) run(ctx context.Context) (*Run, error) {
	end := x.end()
	if x.marks == nil {
		marking, stop := context.WithTimeout(ctx, x.plan.connections.Limits.Patience/2)
		marks, problems := x.watch.Mark(marking)
		stop()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		x.result.Problems = problems
		x.marks = marks
		if x.marks == nil {
			x.marks = []watch.Mark{}
		}
		if err := x.journal.write(line{Marks: x.marks}, true); err != nil {
			return nil, err
		}
	}
	x.dropUnmarked()
	watching, stop := context.WithCancel(ctx)
	defer stop()
	x.last, x.sending = time.Now(), true
	var done sync.WaitGroup
	done.Go(func() { x.watch.Run(watching, x.marks, x.visit(ctx)) })
	err := x.sendAll(ctx, end)
	if err == nil {
		if x.options.Poke != nil {
			x.options.Poke(ctx)
		}
		err = x.await(ctx, end)
	}
	stop()
	done.Wait()
	x.answers.Wait()
	if ctx.Err() != nil || x.result.Broken {
		x.result.Broken = true
	} else if err == nil {
		err = x.journal.write(line{Ended: true}, true)
	}
	return x.result, err
}

// dropUnmarked leaves out the mailboxes that could not be opened at first: what is
// found there later may have been there before.
func (x *runner) dropUnmarked() {
	marked := map[string]bool{}
	for _, m := range x.marks {
		marked[m.Account] = true
	}
	x.watch.Accounts = slices.DeleteFunc(x.watch.Accounts, func(a watch.Account) bool { return !marked[a.Name] })
	for _, a := range x.watch.Accounts {
		x.result.Watched = append(x.result.Watched, a.Name)
	}
}

// sendAll sends what has not been sent. What a server puts off is tried again, as
// long as there is patience. What is not sent by the end of the run stays so.
func (x *runner) sendAll(ctx context.Context, end time.Time) error {
	sending, stop := context.WithDeadline(ctx, end)
	defer stop()
	var left []int
	for i := range x.plan.Cases {
		if _, sent := x.sent[i]; !sent {
			left = append(left, i)
		}
	}
	deadline := time.Now().Add(x.plan.connections.Limits.Patience)
	sessions := map[string]*send.Session{}
	defer func() {
		for _, s := range sessions {
			s.Close()
		}
	}()
	for pause := time.Second; len(left) > 0; pause = min(2*pause, 30*time.Second) {
		var again []int
		for _, i := range left {
			if x.limiter.Wait(sending) != nil || sending.Err() != nil {
				x.result.Broken = true
				return ctx.Err()
			}
			reply, err := x.sendOne(sending, sessions, i)
			if err != nil {
				return err
			}
			if reply.Later() {
				again = append(again, i)
			}
		}
		if left = again; len(left) == 0 || time.Now().Add(pause).After(deadline) {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
	x.mutex.Lock()
	x.sending, x.last = false, time.Now()
	x.mutex.Unlock()
	return nil
}

func (x *runner) sendOne(ctx context.Context, sessions map[string]*send.Session, i int) (send.Reply, error) {
	c := &x.plan.Cases[i]
	raw, err := x.plan.message(c)
	if err != nil {
		return send.Reply{}, fmt.Errorf("case %s cannot be written: %w", c.Name, err)
	}
	key := c.Way + " " + c.sender().String()
	if sessions[key] == nil {
		if len(sessions) >= x.plan.connections.Limits.Connections {
			for k, s := range sessions {
				s.Close()
				delete(sessions, k)
				break
			}
		}
		sessions[key] = send.NewSession(c.way.As(c.sender()))
	}
	if err := x.journal.write(line{Sending: &attempt{Case: i}}, true); err != nil {
		return send.Reply{}, err
	}
	x.mutex.Lock()
	x.sent[i] = time.Now()
	x.mutex.Unlock()
	reply := sessions[key].Send(ctx, send.Envelope{From: c.sender().String(), To: c.To.String(), ID: c.Tag}, raw)
	if err := x.journal.write(line{Replied: &attempt{Case: i, Reply: &reply}}, true); err != nil {
		return reply, err
	}
	x.mutex.Lock()
	defer x.mutex.Unlock()
	x.result.Replies[i] = reply
	x.result.Unsure[i] = reply.Unknown()
	x.last = time.Now()
	return reply, nil
}

const (
	attachmentSize = 40_000     // bytes of the file in a case with one
	mostPadding    = 10_000_000 // bytes that a message is made large with, at most
)

// message writes the message of a case.
func (p *Plan) message(c *Case) ([]byte, error) {
	d := compose.Message{
		From: c.From, To: c.To, ID: c.ID, Date: time.Now(), Subject: "Test of mail groups " + c.Tag[:8],
		Text:  "This is a test message of the mail groups. Nothing needs to be done; it may be deleted.\n",
		Extra: []compose.Field{{Name: read.Tag, Value: c.Tag}},
	}
	if c.By.IsValid() {
		group, _ := p.resolver.Estate().Find(c.From)
		if sendAs, _ := p.resolver.SendAs(group, p.resolver.Sender(c.By)); sendAs == estate.ForGroup {
			d.Sender = c.By
		}
	}
	if c.Traits.Automatic {
		d.Auto = "auto-generated"
	}
	if c.Traits.Invitation {
		d.Parts = append(
			d.Parts,
			compose.Invitation(c.ID, c.From, c.To, d.Subject, time.Now().AddDate(0, 0, 7).Truncate(time.Hour)),
		)
	}
	if size := max(int(c.Traits.Size), map[Kind]int{Attachment: attachmentSize}[c.Kind]); size > 0 {
		const text = "A test of attachments.\r\n"
		d.Parts = append(
			d.Parts,
			compose.Part{Type: "text/plain", Name: "test.txt", Data: []byte(strings.Repeat(text, size/len(text)+1))},
		)
	}
	if c.Kind == ReplyPerson || c.Kind == ReplyGroup {
		d.Subject, d.InReplyTo = "Re: "+d.Subject, c.Tag+".asked@"+c.To.Domain()
	}
	return d.Bytes()
}

// visit takes in what a look into a mailbox brought.
func (x *runner) visit(ctx context.Context) func(watch.Report) {
	return func(report watch.Report) {
		x.mutex.Lock()
		defer x.mutex.Unlock()
		if report.Err != nil {
			x.result.Problems[report.Account] = report.Err
			return
		}
		delete(x.result.Problems, report.Account)
		x.looked[report.Account] = report.Looked
		for _, item := range report.Items {
			for _, s := range x.plan.sight(item) {
				if x.known[s.key()] {
					continue
				}
				s.Seconds = time.Since(x.sent[s.Case]).Round(100 * time.Millisecond).Seconds()
				if err := x.journal.write(line{Seen: &s}, false); err != nil {
					continue // it is found again when the run goes on
				}
				if x.options.Evidence {
					x.keep(item, &s)
				}
				x.note(s)
				x.last = time.Now()
				if s.What == sawApproval && x.options.Approve && !x.answering[s.Case] {
					x.answering[s.Case] = true
					x.pending++
					x.answers.Go(func() { x.answer(ctx, s) })
				}
			}
		}
		if x.options.Progress != nil {
			done, all := x.progress()
			x.options.Progress(done, all)
		}
	}
}

func (x *runner) note(s Sighting) {
	if !x.known[s.key()] {
		x.known[s.key()] = true
		x.result.Sightings = append(x.result.Sightings, s)
	}
}

// keep writes a message that was seen into the run's folder.
func (x *runner) keep(item watch.Item, s *Sighting) {
	dir := filepath.Join(x.dir, "seen")
	if os.MkdirAll(dir, 0o700) == nil {
		_ = os.WriteFile(filepath.Join(dir, evidenceName(s)), item.Raw, 0o600)
	}
}

// evidenceName is the file name of a message that was seen.
func evidenceName(s *Sighting) string {
	plain := strings.Map(func(r rune) rune {
		if r == '@' || r == '.' || r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' {
			return r
		}
		return '_'
	}, strings.ToLower(s.Account))
	return fmt.Sprintf("case-%d-%s-%s-%d.eml", s.Case+1, plain, s.Role, s.UID)
}

// answer answers a request, and notes whether the answer was taken. If it was not,
// another request for the case may be answered.
func (x *runner) answer(ctx context.Context, s Sighting) {
	taken := x.approve(ctx, &s)
	x.mutex.Lock()
	defer x.mutex.Unlock()
	x.result.Approved[s.Case], x.answering[s.Case] = taken, taken
	x.pending--
	x.last = time.Now()
}

// approve answers a request as the approver whose mailbox it is in.
func (x *runner) approve(ctx context.Context, s *Sighting) bool {
	from, err := address.Parse(s.Account)
	to, err2 := address.Parse(s.Answer)
	if err != nil || err2 != nil {
		return false
	}
	way, ok := x.plan.connections.Sender(from, x.plan.resolver.Estate().InsideDomain(from.Domain()), false)
	if !ok {
		return false
	}
	raw, err := compose.Message{
		From:      from,
		To:        to,
		ID:        randomID(12) + "@" + from.Domain(),
		InReplyTo: s.AnswerID,
		Date:      time.Now(),
		Subject:   "Re: admit",
		Text:      "ADMIT\n",
	}.Bytes()
	if err != nil {
		return false
	}
	session := send.NewSession(way.As(from))
	defer session.Close()
	return session.Send(ctx, send.Envelope{From: from.String(), To: to.String()}, raw).Accepted()
}

// await waits until all that is predicted has been seen and a little longer, or
// until patience is at its end.
func (x *runner) await(ctx context.Context, end time.Time) error {
	if !x.underWay() {
		return nil
	}
	limits := x.plan.connections.Limits
	deadline := time.Now().Add(limits.Patience)
	for {
		x.mutex.Lock()
		done, all := x.progress()
		quiet := x.last.Add(limits.Settle)
		if done < all {
			quiet = x.last.Add(limits.Quiet)
		}
		everywhere := x.pending == 0
		for _, a := range x.watch.Accounts {
			everywhere = everywhere && x.looked[a.Name].After(quiet)
		}
		x.mutex.Unlock()
		switch now := time.Now(); {
		case now.After(quiet) && (everywhere || len(x.watch.Accounts) == 0 && x.pending == 0) || now.After(deadline):
			return nil
		case now.After(end):
			x.result.Broken = true // what was sent last has not had its time
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// underWay reports whether any message may be on its way.
func (x *runner) underWay() bool {
	for i := range x.sent {
		if reply, ok := x.result.Replies[i]; !ok || reply.Accepted() || x.result.Unsure[i] {
			return true
		}
	}
	return false
}

// progress returns how much of what is predicted has been seen.
func (x *runner) progress() (done, all int) {
	copies := map[string]bool{}
	for i := range x.result.Sightings {
		s := &x.result.Sightings[i]
		copies[fmt.Sprint(s.Case, " ", s.What, " ", x.plan.key(s.Account))] = true
	}
	watched := map[string]bool{}
	for _, a := range x.watch.Accounts {
		watched[x.plan.key(a.Name)] = true
	}
	e := x.plan.resolver.Estate()
	expect := func(i int, what string, who estate.ID) {
		name := e.Key(e.Address(who))
		if !watched[name] || e.IsPerson(who) && e.Person(who).Mailbox != estate.MailboxOpen {
			return
		}
		all++
		if copies[fmt.Sprint(i, " ", what, " ", name)] ||
			what == sawDigest && copies[fmt.Sprint(i, " ", sawCopy, " ", name)] {
			done++
		}
	}
	for i := range x.plan.Cases {
		all++
		if reply, ok := x.result.Replies[i]; ok {
			done++
			if !reply.Accepted() {
				continue
			}
		}
		for id, outcome := range x.plan.Predict(i).Outcomes {
			switch outcome {
			case resolve.Inbox:
				expect(i, sawCopy, id)
			case resolve.Digest:
				expect(i, sawDigest, id)
			}
		}
		for _, id := range x.plan.asked(i) {
			expect(i, sawApproval, id)
		}
	}
	return done, all
}

// Tidy removes the messages of a run from the mailboxes that the connections open, those
// that were seen and no others. It returns how many it removed.
func Tidy(ctx context.Context, run *Run) (int, error) {
	byAccount := map[string][]watch.Item{}
	for _, s := range run.Sightings {
		byAccount[s.Account] = append(
			byAccount[s.Account],
			watch.Item{Place: s.Place, Validity: s.Validity, UID: s.UID},
		)
	}
	removed := 0
	var errs []error
	e := run.Plan.resolver.Estate()
	for _, name := range slices.Sorted(maps.Keys(byAccount)) {
		items := byAccount[name]
		a, err := address.Parse(name)
		if err != nil {
			continue
		}
		account, ok := run.Plan.connections.Account(a, e.InsideDomain(a.Domain()))
		if !ok {
			continue
		}
		if err := watch.Remove(ctx, account, items); err != nil {
			errs = append(errs, err)
			continue
		}
		removed += len(items)
	}
	return removed, errors.Join(errs...)
}

// Read returns a run as far as it is recorded, without sending or looking.
func Read(ctx context.Context, dir string, r *resolve.Resolver, l *connections.Connections) (*Run, error) {
	h, err := readJournal(ctx, dir)
	if err != nil {
		return nil, err
	}
	p, err := restore(h, r, l)
	if err != nil {
		return nil, err
	}
	x := newRunner(p, Options{}, dir, nil, h)
	x.dropUnmarked()
	x.result.Broken = !h.ended
	return x.result, nil
}
