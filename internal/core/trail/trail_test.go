package trail

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
	"unsafe"
)

// script reads events from lines of "SECOND KIND key=value ...".
func script(t testing.TB, text string) (events []Event) {
	t.Helper()
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		var e Event
		var second int64
		if _, err := fmt.Sscan(words[0], &second); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		e.Time = 1000 * second
		var ok bool
		if e.Kind, ok = KindOf(words[1]); !ok {
			t.Fatalf("%s: no kind", line)
		}
		for _, word := range words[2:] {
			key, value, _ := strings.Cut(word, "=")
			into := map[string]*string{"q": &e.Queue, "id": &e.Message, "from": &e.From, "to": &e.To, "group": &e.Group,
				"login": &e.Login, "client": &e.Client, "host": &e.Host, "child": &e.Child, "about": &e.About, "folder": &e.Folder,
				"detail": &e.Detail}[key]
			if into == nil {
				t.Fatalf("%s: no field %s", line, key)
			}
			*into = value
		}
		events = append(events, e)
	}
	return events
}

// short writes a story in short.
func short(s *Story) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s from %s to %s:", s.Message, s.From, strings.Join(s.Addressed(), ","))
	for _, r := range s.Recipients {
		fmt.Fprintf(&b, " %s %s;", r.Address, r.Fate)
	}
	if s.About != "" {
		b.WriteString(" about " + s.About)
	}
	if !s.Whole {
		b.WriteString(" (not whole)")
	}
	return b.String()
}

// told follows a script and returns the stories in the order in which they are handed over.
func told(t testing.TB, text string) (list []string) {
	t.Helper()
	tracker := NewTracker(func(s *Story) { list = append(list, short(s)) })
	for _, e := range script(t, text) {
		tracker.Add(&e)
	}
	tracker.End()
	return list
}

func TestStories(t *testing.T) {
	for _, one := range []struct {
		name, script string
		want         []string
	}{
		{"one message to a group", `
			1 arrived q=A client=out
			1 arrived q=A id=m
			1 arrived q=A from=o@out
			2 delivered q=A to=a@in group=g@in
			2 bounced q=A to=b@in group=g@in
			2 told q=A child=B
			2 arrived q=B id=n
			2 arrived q=B from=<>
			2 done q=A
			3 delivered q=B to=o@out
			3 done q=B`, []string{"m from o@out to g@in: a@in delivered; b@in bounced;", "n from <> to o@out: o@out delivered; about m"}},
		{"a name that is used again", `
			1 arrived q=A client=x id=m from=o@out
			2 delivered q=A to=a@in
			2 done q=A
			9 arrived q=A client=y
			9 arrived q=A id=n from=p@out
			9 delivered q=A to=b@in
			9 done q=A`, []string{"m from o@out to a@in: a@in delivered;", "n from p@out to b@in: b@in delivered;"}},
		{"a group, and a machine that gets it for each member", `
			1 arrived host=mx q=A client=out id=m from=o@out
			2 handed-on host=mx q=A to=a@in group=g@in
			2 handed-on host=mx q=A to=b@in group=g@in
			3 arrived host=box q=C id=m from=o@out to=a@in
			3 arrived host=box q=D id=m from=o@out to=b@in
			4 delivered host=box q=C to=a@in
			4 delivered host=box q=D to=b@in
			5 done host=mx q=A`, []string{"m from o@out to g@in: a@in delivered; b@in delivered;"}},
		{"two machines", `
			1 arrived host=mx q=A client=out id=m from=o@out
			2 handed-on host=mx q=A to=a@in
			2 arrived host=box q=A client=mx id=m from=o@out
			2 done host=mx q=A
			3 deferred host=box q=A to=a@in
			9 delivered host=box q=A to=a@in
			9 done host=box q=A`, []string{"m from o@out to a@in: a@in delivered;"}},
		{"handed on is said late", `
			1 arrived host=mx q=A client=out id=m from=o@out
			2 junk host=box id=m to=a@in folder=Junk
			2 delivered host=box id=m to=a@in
			3 handed-on host=mx q=A to=a@in
			3 done host=mx q=A`, []string{"m from o@out to a@in: a@in junk;"}},
		{"deferred and given up", `
			1 arrived q=A client=x id=m from=o@out
			2 deferred q=A to=a@in detail=later
			2 delivered q=A to=b@in
			9 expired q=A from=o@out
			9 done q=A`, []string{"m from o@out to a@in,b@in: a@in bounced; b@in delivered;"}},
		{"refused at once, and one of two", `
			1 refused from=o@out to=g@in detail=no
			2 arrived q=A client=x
			2 refused q=A from=o@out to=b@in
			2 arrived q=A id=m from=o@out
			3 delivered q=A to=a@in
			3 done q=A`, []string{" from o@out to g@in: g@in refused;", "m from o@out to b@in: b@in refused; a@in delivered;"}},
		{"no beginning, no end", `
			1 delivered q=A to=a@in
			2 done q=A
			3 arrived q=B client=x id=m from=o@out
			4 deferred q=B to=b@in`, []string{" from  to a@in: a@in delivered; (not whole)", "m from o@out to b@in: b@in deferred; (not whole)"}},
		{"a system that never says done", `
			1 arrived q=A id=m from=o@out to=g@in
			1 expanded q=A to=g@in
			1 copied q=A to=a@in group=g@in
			1 copied q=A to=b@in group=h@in
			2 delivered q=A to=a@in group=g@in
			2 delivered q=A to=b@in group=h@in`, []string{"m from o@out to g@in: a@in delivered; b@in delivered;"}},
		{"a system that says neither done nor how it lays a group out", `
			1 arrived q=A id=m from=o@out to=g@in
			2 delivered q=A to=a@in group=g@in
			2 delivered q=A to=b@in group=g@in`, []string{"m from o@out to g@in: a@in delivered; b@in delivered; (not whole)"}},
		{"held and released", `
			1 arrived q=A id=m from=o@out to=g@in
			1 held q=A to=g@in
			5 released q=A to=g@in
			6 archived q=A to=g@in
			6 delivered q=A to=g@in`, []string{"m from o@out to g@in: g@in archived;"}},
		{"no names at all", `
			1 delivered id=m from=o@out to=a@in
			1 bounced to=b@in from=o@out`, []string{" from o@out to b@in: b@in bounced;", "m from o@out to a@in: a@in delivered; (not whole)"}},
		{"removed as a whole", `
			1 arrived q=A client=x id=m from=o@out
			1 held q=A to=g@in
			9 dropped q=A`, []string{"m from o@out to g@in: g@in dropped;"}},
		{"refused when it was there", `
			1 arrived q=A client=x id=m from=o@out to=g@in
			2 refused q=A from=o@out`, []string{"m from o@out to g@in: g@in refused;"}},
		{"about a queue", `
			1 arrived q=A client=x id=m from=o@out
			2 bounced q=A to=a@in
			2 arrived q=B from=<> about=A id=n
			2 done q=A
			3 delivered q=B to=o@out
			3 done q=B`, []string{"m from o@out to a@in: a@in bounced;", "n from <> to o@out: o@out delivered; about m"}},
	} {
		got := told(t, one.script)
		slices.Sort(got)
		slices.Sort(one.want)
		if !slices.Equal(got, one.want) {
			t.Errorf("%s:\n got %q\nwant %q", one.name, got, one.want)
		}
	}
}

// A story is handed over when it has been over for long enough, and while others go on.
func TestHandedOver(t *testing.T) {
	var list []string
	tracker := NewTracker(func(s *Story) { list = append(list, s.Message) })
	tracker.Linger = 5000
	for _, e := range script(t, `
		1 arrived q=A client=x id=m from=o@out
		2 arrived q=B client=x id=n from=o@out
		3 delivered q=A to=a@in
		3 done q=A
		7 deferred q=B to=b@in`) {
		tracker.Add(&e)
	}
	if len(list) != 0 {
		t.Fatalf("handed over too early: %q", list)
	}
	tracker.Advance(9000)
	if !slices.Equal(list, []string{"m"}) {
		t.Errorf("%q", list)
	}
	tracker.End()
	if !slices.Equal(list, []string{"m", "n"}) {
		t.Errorf("%q", list)
	}
}

// News is told once of each message that has to wait.
func TestNews(t *testing.T) {
	var news []string
	tracker := NewTracker(func(*Story) {})
	tracker.News = func(s *Story) { news = append(news, s.Message) }
	for _, e := range script(t, "1 arrived q=A id=m from=o@out\n2 deferred q=A to=a@in\n3 deferred q=A to=a@in\n4 arrived q=B id=n\n5 held q=B to=g@in\n6 delivered q=A to=a@in") {
		tracker.Add(&e)
	}
	if !slices.Equal(news, []string{"m", "n"}) {
		t.Errorf("%q", news)
	}
}

// What is known at a time is bounded, whatever is said: messages that never end are handed
// over and counted.
func TestBounds(t *testing.T) {
	n := 0
	tracker := NewTracker(func(s *Story) {
		if n++; s.Whole {
			t.Error("a message without end is whole")
		}
	})
	const many = mostWaiting + 1000
	for i := range many {
		queue := fmt.Sprint("Q", i)
		tracker.Add(&Event{Time: int64(i + 1), Kind: Arrived, Queue: queue, Client: "x", Message: fmt.Sprint(i)})
	}
	if n != 1000 || tracker.CutShort != 1000 || len(tracker.messages) != mostWaiting || len(tracker.hosts[""].entries) != mostWaiting {
		t.Errorf("%d handed over, %d cut short, %d messages", n, tracker.CutShort, len(tracker.messages))
	}
	tracker.End()
	if n != many || len(tracker.messages) != 0 || len(tracker.hosts[""].entries) != 0 {
		t.Errorf("%d handed over, %d messages left", n, len(tracker.messages))
	}
}

// A message to many is found by each of them, and the index agrees with the list.
func TestManyRecipients(t *testing.T) {
	var story *Story
	tracker := NewTracker(func(s *Story) { story = s })
	tracker.Add(&Event{Kind: Arrived, Queue: "A", Message: "m", Client: "x", From: "o@out"})
	for round := range 2 {
		for i := range 40 {
			e := Event{Kind: Deferred, Queue: "A", To: fmt.Sprintf("P%d@in", i)}
			if round == 1 {
				e = Event{Kind: Delivered, Queue: "A", To: fmt.Sprintf("p%d@IN", i)}
			}
			tracker.Add(&e)
		}
	}
	tracker.End()
	if len(story.Recipients) != 40 || story.Count()[InMailbox] != 40 || story.Recipients[7].Tries != 1 {
		t.Errorf("%d recipients, %v", len(story.Recipients), story.Count())
	}
}

// Stories do not hang on how the lines of different messages are mixed.
func TestMixed(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 200 {
		var scripts [][]Event
		var want []string
		for i := range 2 + r.IntN(6) {
			text := fmt.Sprintf("1 arrived q=Q%[1]d client=x\n1 arrived q=Q%[1]d id=m%[1]d\n1 arrived q=Q%[1]d from=f%[1]d@out\n", i)
			story := fmt.Sprintf("m%d from f%d@out to ", i, i)
			var to, fates []string
			for k := range 1 + r.IntN(3) {
				kind := []Kind{Delivered, Bounced, HandedOn}[r.IntN(3)]
				text += fmt.Sprintf("2 %s q=Q%d to=r%d@in\n", kind, i, k)
				to = append(to, fmt.Sprintf("r%d@in", k))
				fates = append(fates, fmt.Sprintf(" r%d@in %s;", k, fates2[kind]))
			}
			scripts = append(scripts, script(t, text+fmt.Sprintf("3 done q=Q%d", i)))
			want = append(want, story+strings.Join(to, ",")+":"+strings.Join(fates, ""))
		}
		var got []string
		tracker := NewTracker(func(s *Story) { got = append(got, short(s)) })
		for len(scripts) > 0 {
			i := r.IntN(len(scripts))
			tracker.Add(&scripts[i][0])
			if scripts[i] = scripts[i][1:]; len(scripts[i]) == 0 {
				scripts = slices.Delete(scripts, i, i+1)
			}
		}
		tracker.End()
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Fatalf("got %q, want %q", got, want)
		}
	}
}

var fates2 = map[Kind]string{Delivered: "delivered", Bounced: "bounced", HandedOn: "handed on"}

func TestQuery(t *testing.T) {
	var s *Story
	tracker := NewTracker(func(one *Story) { s = one })
	for _, e := range script(t, "10 arrived q=QUEUE client=x id=m from=o@out\n12 delivered q=QUEUE to=a@in group=g@in\n13 bounced q=QUEUE to=b@in group=g@in\n14 done q=QUEUE") {
		tracker.Add(&e)
	}
	tracker.End()
	is := func(want string) func(string) bool { return func(a string) bool { return a == want } }
	for i, one := range []struct {
		q    Query
		want bool
	}{
		{Query{}, true}, {Query{From: is("o@out")}, true}, {Query{From: is("p@out")}, false},
		{Query{To: is("g@in")}, true}, {Query{To: is("a@in")}, true}, {Query{To: is("c@in")}, false},
		{Query{Since: 14_000}, true}, {Query{Since: 14_001}, false}, {Query{Until: 10_001}, true}, {Query{Until: 10_000}, false},
		{Query{Message: "m"}, true}, {Query{Message: "<m>"}, true}, {Query{Message: "QUEUE"}, true}, {Query{Message: "n"}, false},
		{Query{Fates: []Fate{Failed}}, true}, {Query{Fates: []Fate{Late}}, false},
		{Query{To: is("a@in"), Fates: []Fate{Failed}}, false}, {Query{To: is("g@in"), Fates: []Fate{Failed}}, true},
		{Query{To: is("c@in"), Missed: is("g@in")}, true}, {Query{To: is("c@in"), Missed: is("h@in")}, false},
		{Query{To: is("c@in"), Missed: is("g@in"), From: is("p@out")}, false}, {Query{To: is("c@in"), Missed: is("g@in"), Fates: []Fate{Failed}}, false},
		{Query{In: is("o@out")}, true}, {Query{In: is("g@in")}, true}, {Query{In: is("x@in")}, false},
	} {
		if got := one.q.Matches(s); got != one.want {
			t.Errorf("query %d: %t", i, got)
		}
	}
	for _, zone := range []*time.Location{time.UTC} {
		if got := At(s.Began, zone); got.Unix() != 10 || !At(0, zone).IsZero() {
			t.Error(got)
		}
	}
}

func TestFound(t *testing.T) {
	f := NewFound(2)
	tracker := NewTracker(f.Add)
	text := ""
	for i := range 6 {
		kind := "delivered"
		if i >= 4 {
			kind = "bounced"
		}
		text += fmt.Sprintf("%d arrived q=Q%d client=x id=m%d from=o@out\n%d %s q=Q%d to=a@in\n%d done q=Q%d\n", 10-i, i, i, 20-i, kind, i, 20-i, i)
	}
	text += "30 delivered q=Z to=z@in\n"
	for _, e := range script(t, text) {
		tracker.Add(&e)
	}
	tracker.End()
	f.Sort()
	var ids []string
	for _, s := range f.Stories {
		ids = append(ids, s.Message)
	}
	if f.Messages != 7 || f.Recipients != 7 || f.Fates[InMailbox] != 5 || f.LeftOut != 3 || f.Unbegun != 1 || f.Unended != 0 ||
		!slices.Equal(ids, []string{"m5", "m4", "m1", "m0"}) || f.Began != 5000 || f.Ended != 30_000 {
		t.Errorf("%+v, %q", f, ids)
	}
}

func TestInName(t *testing.T) {
	var stories []*Story
	tracker := NewTracker(func(s *Story) { stories = append(stories, s) })
	for _, e := range script(t, `
		1 delivered id=early from=c@out to=g@in
		2 delivered id=sent from=g@in to=C@out login=p@in
		3 delivered id=answer from=c@out to=g@in
		4 delivered id=other from=x@out to=g@in`) {
		tracker.Add(&e)
	}
	tracker.End()
	n := NewInName(stories, func(a string) bool { return a == "g@in" })
	if len(n.Sent) != 1 || n.Sent[0].Login != "p@in" || len(n.Answers) != 1 || n.Answers[0].Message != "answer" || n.Others != 2 {
		t.Errorf("%d sent, %d answers, %d others", len(n.Sent), len(n.Answers), n.Others)
	}
}

func TestWords(t *testing.T) {
	for i, word := range KindWords() {
		if k, ok := KindOf(word); !ok || int(k) != i || k.String() != word || word == "" {
			t.Errorf("kind %d: %q", i, word)
		}
	}
	for i, word := range FateWords() {
		if f, ok := FateOf(word); !ok || int(f) != i || f.String() != word || word == "" {
			t.Errorf("fate %d: %q", i, word)
		}
	}
	if _, ok := KindOf("x"); ok {
		t.Error("x is a kind")
	}
	if _, ok := FateOf("x"); ok {
		t.Error("x is a fate")
	}
}

// A story keeps what was said of each recipient, and its events only where that is wanted.
func TestKept(t *testing.T) {
	for _, steps := range []bool{false, true} {
		var s *Story
		tracker := NewTracker(func(one *Story) { s = one })
		tracker.Steps = steps
		for _, e := range script(t, "1 arrived q=A id=m from=o@out\n2 deferred q=A to=a@in detail=later\n3 deferred q=A to=a@in detail=later\n"+
			"4 junk q=A to=a@in folder=Junk detail=filed\n5 delivered q=A to=a@in folder=INBOX\n6 refused id=m to=b@in detail=no\n7 done q=A") {
			tracker.Add(&e)
		}
		tracker.End()
		a, b := s.Recipients[0], s.Recipients[1]
		if a.Tries != 2 || a.Folder != "Junk" || a.Detail != "filed" || a.Time != 4000 || b.Tries != 0 || b.Fate != Rejected || b.Time != 6000 {
			t.Errorf("%+v, %+v", a, b)
		}
		if n := len(s.Steps); steps != (n == 7) || !steps && n != 0 {
			t.Errorf("%d steps are kept where they are wanted: %t", n, steps)
		}
	}
}

// What is kept of an event does not hang on the text that it was a part of.
func TestCopied(t *testing.T) {
	log := []byte("QUEUE|id@x|words of a server")
	text := string(log)
	var s *Story
	tracker := NewTracker(func(one *Story) { s = one })
	tracker.Add(&Event{Kind: Bounced, Queue: text[:5], Message: text[6:10], To: "a@in", Detail: text[11:]})
	tracker.End()
	for _, kept := range []string{s.Queues()[0], s.Message, s.Recipients[0].Detail} {
		at := unsafe.StringData(kept)
		if from := unsafe.StringData(text); uintptr(unsafe.Pointer(at)) >= uintptr(unsafe.Pointer(from)) &&
			uintptr(unsafe.Pointer(at)) < uintptr(unsafe.Pointer(from))+uintptr(len(text)) {
			t.Errorf("%q is still a part of the log", kept)
		}
	}
}
