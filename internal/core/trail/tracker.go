package trail

import "strings"

// A Tracker puts events together to stories. It knows of as many messages at a time as
// there are on their way, and hands each over when nothing more is said of it.
type Tracker struct {
	Done  func(*Story) // is handed each story, once
	Steps bool         // stories keep their events
	// News gets the messages that are deferred or held, when the log first says so; or nil.
	News func(*Story)
	// CutShort counts stories that were handed over before their end was seen, since too
	// many were open at a time.
	CutShort int
	// Linger is how long after its end something more may be said of a message, in
	// milliseconds: another system passes it on.
	Linger int64

	hosts     map[string]*host
	last      *host // that something was heard of last
	messages  map[string]*Story
	waiting   storyList // those with an open entry
	lingering storyList // those without
	now       int64     // the latest time that was said
}

// The bounds of a tracker.
const (
	usualLinger   = 10 * 60 * 1000
	mostLingering = 10_000
	mostWaiting   = 150_000
	mostTold      = 100_000
)

// host is a machine: the messages that it has, and the Message-IDs of what others are
// about, by their queue names.
type host struct {
	name    string
	entries map[string]*Story
	told    map[string]string
	ends    bool // it says when it is done with messages
}

// entry is a queue name on a machine.
type entry struct {
	host  *host
	queue string
	done  bool // that machine is done with it
}

// NewTracker returns a tracker.
func NewTracker(done func(*Story)) *Tracker {
	return &Tracker{Done: done, Linger: usualLinger, hosts: map[string]*host{}, messages: map[string]*Story{}}
}

// Add adds an event.
func (t *Tracker) Add(e *Event) {
	t.now = max(t.now, e.Time)
	if t.Steps {
		keepTexts(e)
	}
	if e.Queue == "" && e.Message == "" {
		s := newStory()
		s.Whole = true
		t.tell(s, e)
		t.Done(s)
		return
	}
	h := t.host(e.Host)
	s := t.find(h, e)
	if e.Kind == Done {
		h.ends = true
		s.end(h, e.Queue)
		t.close(s, e)
		return
	}
	t.tell(s, e)
	if e.To == "" && e.Queue != "" && (e.Kind == Dropped || e.Kind == Refused) {
		s.open = max(0, s.open-1) // it is gone, and that system says no more of it
		s.end(h, e.Queue)
	}
	if t.News != nil && !s.told && (e.Kind == Deferred || e.Kind == Held) {
		s.told = true
		t.News(s)
	}
	switch {
	case e.Kind == Told && e.Child != "" && len(h.told) < mostTold:
		h.told[strings.Clone(e.Child)] = s.Message
	case e.About != "":
		s.About = strings.Clone(e.About)
		if about := h.entries[e.About]; about != nil && about.Message != "" {
			s.About = about.Message
		}
	}
	t.touch(s)
}

// tell adds what an event says to a story.
func (t *Tracker) tell(s *Story, e *Event) {
	s.tell(e)
	if t.Steps {
		s.Steps = append(s.Steps, *e)
	}
}

// host returns a machine.
func (t *Tracker) host(name string) *host {
	if t.last != nil && t.last.name == name {
		return t.last
	}
	h, ok := t.hosts[name]
	if !ok {
		name = strings.Clone(name)
		h = &host{name: name, entries: map[string]*Story{}, told: map[string]string{}}
		t.hosts[name] = h
	}
	t.last = h
	return h
}

// keepTexts replaces by copies the texts of an event that may be parts of larger ones.
func keepTexts(e *Event) {
	for _, text := range []*string{&e.Queue, &e.Message, &e.Detail, &e.Child, &e.About} {
		*text = strings.Clone(*text)
	}
}

// find returns the story that an event belongs to; there is one after that.
func (t *Tracker) find(h *host, e *Event) *Story {
	var s *Story
	if e.Queue != "" {
		s = h.entries[e.Queue]
		if s != nil && e.Kind == Arrived && e.Client+e.Login != "" && s.begun && s.open == 0 {
			delete(h.entries, e.Queue) // the name is used again
			s = nil
		}
	}
	if s != nil && (e.Message == "" || e.Message == s.Message) {
		return s
	}
	same := (*Story)(nil)
	if e.Message != "" {
		same = t.messages[e.Message]
	}
	switch {
	case s == nil && same != nil:
		s = same
	case s == nil:
		s = newStory()
	case same != nil && same != s:
		t.join(same, s)
		s = same
	}
	if e.Queue != "" && h.entries[e.Queue] != s {
		t.enter(s, h, strings.Clone(e.Queue))
	}
	if e.Message != "" && same == nil && s.Message == "" {
		s.Message = strings.Clone(e.Message)
		t.messages[s.Message] = s
	}
	return s
}

// enter notes that a machine has a message, by a name.
func (t *Tracker) enter(s *Story, h *host, queue string) {
	h.entries[queue] = s
	s.entries = append(s.entries, entry{host: h, queue: queue})
	s.open++
	if about, ok := h.told[queue]; ok {
		s.About = about
		delete(h.told, queue)
	}
}

// join adds a story to the one of the same message.
func (t *Tracker) join(s, other *Story) {
	for _, one := range other.entries {
		one.host.entries[one.queue] = s
	}
	s.entries = append(s.entries, other.entries...)
	s.open += other.open
	s.From, s.Login, s.Client = keep(s.From, other.From), keep(s.Login, other.Login), keep(s.Client, other.Client)
	s.begun = s.begun || other.begun
	s.Size = max(s.Size, other.Size)
	if other.Began != 0 && (s.Began == 0 || other.Began < s.Began) {
		s.Began = other.Began
	}
	s.Ended = max(s.Ended, other.Ended)
	s.laidOut = s.laidOut || other.laidOut
	for _, r := range other.Recipients {
		mine := s.recipient(r.Address)
		if mine.Fate <= r.Fate {
			*mine = r
		}
	}
	s.Expanded = append(s.Expanded, other.Expanded...)
	s.Told = append(s.Told, other.Told...)
	s.Steps = append(s.Steps, other.Steps...)
	s.About = keep(s.About, other.About)
	other.list.remove(other)
}

// close notes that a system is done with a message.
func (t *Tracker) close(s *Story, e *Event) {
	s.Ended = max(s.Ended, e.Time)
	if s.open > 0 {
		s.open--
	}
	if t.Steps {
		s.Steps = append(s.Steps, *e)
	}
	if s.Message == "" {
		t.hand(s) // no other system can be known to have it
		return
	}
	t.touch(s)
}

// Advance hands over the stories of which nothing more is awaited at a time, in milliseconds
// since 1970.
func (t *Tracker) Advance(now int64) {
	for old := t.lingering.oldest; old != nil && (old.Ended < now-t.Linger || t.lingering.n > mostLingering); {
		t.hand(old)
		old = t.lingering.oldest
	}
}

// touch puts a story among those that were heard of last, and hands over those of which
// nothing more is awaited.
func (t *Tracker) touch(s *Story) {
	to := &t.lingering
	if s.open > 0 && !s.settled() {
		to = &t.waiting
	}
	if s.list != to || to.newest != s {
		s.list.remove(s)
		to.add(s)
	}
	t.Advance(t.now)
	for t.waiting.n > mostWaiting {
		t.CutShort++
		t.hand(t.waiting.oldest)
	}
}

// hand hands over a story.
func (t *Tracker) hand(s *Story) {
	s.list.remove(s)
	for _, one := range s.entries {
		if one.host.entries[one.queue] == s {
			delete(one.host.entries, one.queue)
		}
	}
	if s.Message != "" && t.messages[s.Message] == s {
		delete(t.messages, s.Message)
	}
	s.Whole = s.begun && s.over()
	s.index = nil
	t.Done(s)
}

// End hands over all stories that are left, the oldest first.
func (t *Tracker) End() {
	for t.lingering.oldest != nil || t.waiting.oldest != nil {
		a, b := t.lingering.oldest, t.waiting.oldest
		if a == nil || b != nil && b.Began < a.Began {
			a = b
		}
		t.hand(a)
	}
}

// storyList is a list of stories by when they were last heard of.
type storyList struct {
	oldest, newest *Story
	n              int
}

func (l *storyList) add(s *Story) {
	s.list, s.older, s.newer = l, l.newest, nil
	if l.newest != nil {
		l.newest.newer = s
	} else {
		l.oldest = s
	}
	l.newest = s
	l.n++
}

func (l *storyList) remove(s *Story) {
	if l == nil || s.list != l {
		return
	}
	if s.older != nil {
		s.older.newer = s.newer
	} else {
		l.oldest = s.newer
	}
	if s.newer != nil {
		s.newer.older = s.older
	} else {
		l.newest = s.older
	}
	s.list, s.older, s.newer = nil, nil, nil
	l.n--
}
