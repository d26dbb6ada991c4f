// Package watch does what a plan says again and again: checks, expectations, comparisons,
// probes and looks into logs, each in its time, by one process or several that share a store;
// and it tells what has changed, once, by mail, by HTTP or as lines.
//
// When an item is due and whose it is, is worked out by package schedule; what it finds is kept
// by package store, which also says what is new in it. How an item is carried out is for
// anyone who uses this package.
package watch

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // time zones, on machines that know none

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/schedule"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/secret"
	"yorvet.example/yorvet/internal/store"
	"yorvet.example/yorvet/internal/yamlfile"
)

// A Plan is what is watched, and who hears of it.
type Plan struct {
	Path     string
	Name     string // tells it from other plans of a store: from the file, or its file name
	Estate   string // "": the usual one
	Items    []Item
	Channels []Channel
	Report   []string    // files of expectations that the page shows
	Keep     *store.Rule // of what it finds and sends; nil: that of the estate
}

// The kinds of items.
const (
	KindCheck   = "check"
	KindExpect  = "expect"
	KindCompare = "compare"
	KindProbe   = "probe"
	KindLog     = "log"
)

// An Item is one thing that is watched.
type Item struct {
	Name   string
	Kind   string
	What   string // what is asked, in words that stay the same: it tells the item from what it was before
	Timing schedule.Timing
	Once   bool // it is not begun again if the process that began it is gone: it sends messages

	question func(estate string, since time.Time) ask.Question
}

// A Channel is one by which alarms go out. One of Mail and Post is set.
type Channel struct {
	Name  string
	Mail  *MailChannel
	Post  *PostChannel
	Batch *schedule.Timing // alarms are gathered until then; nil: they go out at once
}

// A MailChannel sends alarms by mail.
type MailChannel struct {
	Connections string // the file
	From        address.Address
	To          []address.Address
}

// A PostChannel sends alarms by HTTP POST, as JSON.
type PostChannel struct {
	URL    string
	Secret *secret.From // signs them, where it is given
}

// The form of the file.
type file struct {
	Version      int            `yaml:"yorvet-watch"`
	Name         string         `yaml:"name"`
	Estate       string         `yaml:"estate"`
	Zone         string         `yaml:"zone"`
	Jitter       *time.Duration `yaml:"jitter"`
	Keep         *fileKeep      `yaml:"keep"`
	Checks       []fileCheck    `yaml:"checks"`
	Expectations []fileExpect   `yaml:"expectations"`
	Comparisons  []fileCompare  `yaml:"comparisons"`
	Probes       []fileProbe    `yaml:"probes"`
	Logs         []fileLog      `yaml:"logs"`
	Alarms       []fileChannel  `yaml:"alarms"`
}

type fileTimes struct {
	Name   string         `yaml:"name"`
	Every  time.Duration  `yaml:"every"`
	At     []string       `yaml:"at"`
	Jitter *time.Duration `yaml:"jitter"`
}

type fileKeep struct {
	Days int `yaml:"days"`
	Runs int `yaml:"runs"`
}

type fileCheck struct {
	fileTimes `yaml:",inline"`
	Groups    []string `yaml:"groups"`
	Only      []string `yaml:"only"`
	Skip      []string `yaml:"skip"`
	FailOn    string   `yaml:"fail-on"`
	Baseline  string   `yaml:"baseline"`
}

type fileExpect struct {
	fileTimes `yaml:",inline"`
	Files     []string `yaml:"files"`
}

type fileCompare struct {
	fileTimes `yaml:",inline"`
	Sources   []string `yaml:"sources"`
}

type fileProbe struct {
	fileTimes   `yaml:",inline"`
	Connections string   `yaml:"connections"`
	Groups      []string `yaml:"groups"`
	Kinds       []string `yaml:"kinds"`
	Sample      int      `yaml:"sample"`
	Pace        float64  `yaml:"pace"`
	Send        bool     `yaml:"send"`
}

type fileLog struct {
	fileTimes `yaml:",inline"`
	Files     []string `yaml:"files"`
	To        string   `yaml:"to"`
	Map       string   `yaml:"map"`
}

type fileChannel struct {
	Name  string    `yaml:"name"`
	Mail  *fileMail `yaml:"mail"`
	Post  *filePost `yaml:"post"`
	Batch string    `yaml:"batch"`
}

type fileMail struct {
	Connections string   `yaml:"connections"`
	From        string   `yaml:"from"`
	To          []string `yaml:"to"`
}

type filePost struct {
	URL    string       `yaml:"url"`
	Secret *secret.From `yaml:"secret"`
}

// The bounds of a timing.
const (
	leastEvery    = 10 * time.Second
	mostEvery     = 31 * 24 * time.Hour
	defaultJitter = 30 * time.Second
)

// reader reads one plan.
type reader struct {
	path   string
	data   []byte
	zone   *time.Location
	jitter time.Duration
	names  map[string]bool
	errs   []error
}

func (r *reader) fail(list string, index int, format string, args ...any) {
	line, column := yamlfile.Find(r.data, list, index)
	r.errs = append(r.errs, fmt.Errorf("%s:%d:%d: %s", r.path, line, column, fmt.Sprintf(format, args...)))
}

// beside returns a path that is meant from the folder of the plan.
func (r *reader) beside(path string) string {
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(r.path), path)
}

func (r *reader) allBeside(paths []string) []string {
	list := make([]string, len(paths))
	for i, path := range paths {
		list[i] = r.beside(path)
	}
	return list
}

// Load reads a plan. It fetches no secrets.
func Load(ctx context.Context, path string) (*Plan, error) {
	var f file
	data, err := yamlfile.Read(ctx, path, &f)
	if err != nil {
		return nil, err
	}
	if f.Version != 1 {
		return nil, fmt.Errorf("%s:1:1: the format version is missing, expected \"yorvet-watch: 1\"", path)
	}
	r := &reader{path: path, data: data, jitter: defaultJitter, names: map[string]bool{}}
	p := &Plan{Path: path, Name: f.Name, Estate: r.beside(f.Estate)}
	if p.Name == "" {
		p.Name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	}
	if r.zone, err = time.LoadLocation(f.Zone); err != nil || f.Zone == "Local" {
		r.fail("zone", 0, "zone: unknown time zone %q, expected one such as Europe/Oslo", f.Zone)
		r.zone = time.UTC
	}
	if f.Jitter != nil {
		r.jitter = *f.Jitter
	}
	if f.Keep != nil {
		p.Keep = &store.Rule{Days: f.Keep.Days, Runs: f.Keep.Runs}
		if f.Keep.Days < 0 || f.Keep.Runs < 0 || *p.Keep == (store.Rule{}) {
			r.fail("keep", 0, "keep has days, runs, or both, which are numbers from 1 up")
		}
	}
	r.items(p, &f)
	for i, w := range f.Alarms {
		p.Channels = append(p.Channels, apart(r.channel(i, w))...)
	}
	if len(p.Items) == 0 {
		r.fail("yorvet-watch", 0, "there is nothing to watch, expected checks, expectations, comparisons, probes or logs")
	}
	return p, errors.Join(r.errs...)
}

func (r *reader) items(p *Plan, f *file) {
	for i, c := range f.Checks {
		r.words("checks", i, c.Groups, c.Only, c.Skip)
		args := slices.Clone(c.Groups)
		args = append(args, repeated("--only", c.Only)...)
		args = append(args, repeated("--skip", c.Skip)...)
		args = append(args, given("--fail-on", c.FailOn)...)
		args = append(args, given("--baseline", r.beside(c.Baseline))...)
		r.item(p, "checks", i, KindCheck, c.fileTimes, args, func(string, time.Time) ask.Question {
			return &ask.Check{Groups: ask.Groups{Names: c.Groups}, Only: c.Only, Skip: c.Skip, FailOn: c.FailOn,
				Baseline: r.beside(c.Baseline)}
		})
	}
	for i, e := range f.Expectations {
		r.needs("expectations", i, "files", len(e.Files))
		r.words("expectations", i, e.Files)
		files := r.allBeside(e.Files)
		r.item(p, "expectations", i, KindExpect, e.fileTimes, files, func(string, time.Time) ask.Question {
			return &ask.Expect{Files: files}
		})
		p.Report = append(p.Report, files...)
	}
	for i, c := range f.Comparisons {
		r.needs("comparisons", i, "sources", len(c.Sources))
		r.words("comparisons", i, c.Sources)
		sources := r.allBeside(c.Sources)
		r.item(p, "comparisons", i, KindCompare, c.fileTimes, sources, func(estate string, _ time.Time) ask.Question {
			return &ask.Compare{Names: append(slices.Clone(sources), estate)}
		})
	}
	for i, x := range f.Probes {
		r.words("probes", i, x.Groups, x.Kinds)
		args := slices.Clone(x.Groups)
		connections := x.Connections
		if connections == "" {
			connections = "connections.yaml"
		}
		args = append(args, "--connections", r.beside(connections))
		args = append(args, repeated("--kind", x.Kinds)...)
		if x.Sample != 0 {
			args = append(args, "--sample", strconv.Itoa(x.Sample))
		}
		if x.Pace != 0 {
			args = append(args, "--pace", strconv.FormatFloat(x.Pace, 'g', -1, 64))
		}
		if !x.Send {
			r.fail("probes", i, "a probe sends messages, expected send: true where that is meant")
		}
		if x.Sample < 0 || x.Pace < 0 {
			r.fail("probes", i, "sample and pace are numbers from 0 up")
		}
		r.item(p, "probes", i, KindProbe, x.fileTimes, append(args, "--send"), func(string, time.Time) ask.Question {
			q := &ask.Probe{Groups: ask.Groups{Names: x.Groups}, Kinds: x.Kinds, Sample: x.Sample, File: r.beside(connections),
				Named: true, Run: history.WatchedBy(p.Name) + history.NewID()}
			if x.Pace != 0 {
				q.Pace = &x.Pace
			}
			return q
		})
	}
	for i, l := range f.Logs {
		r.needs("logs", i, "files", len(l.Files))
		r.words("logs", i, l.Files)
		args := append(r.allBeside(l.Files), given("--to", l.To)...)
		args = append(args, given("--map", r.beside(l.Map))...)
		r.item(p, "logs", i, KindLog, l.fileTimes, args, func(_ string, since time.Time) ask.Question {
			return &ask.Log{Files: r.allBeside(l.Files), To: l.To, Map: r.beside(l.Map), After: since}
		})
	}
}

// words refuses what a command would take for a flag.
func (r *reader) words(list string, i int, lists ...[]string) {
	for _, word := range slices.Concat(lists...) {
		if word == "" || strings.HasPrefix(word, "-") {
			r.fail(list, i, "%q is empty or begins with a hyphen", word)
		}
	}
}

func (r *reader) needs(list string, i int, key string, n int) {
	if n == 0 {
		r.fail(list, i, "%s is missing", key)
	}
}

func repeated(flag string, values []string) (args []string) {
	for _, v := range values {
		args = append(args, flag, v)
	}
	return args
}

func given(flag, value string) []string {
	if value == "" {
		return nil
	}
	return []string{flag, value}
}

// item adds an item to a plan: args say what is asked.
func (r *reader) item(p *Plan, list string, i int, kind string, t fileTimes, args []string,
	question func(estate string, since time.Time) ask.Question) {
	item := Item{Name: t.Name, Kind: kind, What: strings.Join(args, " "), Once: kind == KindProbe, question: question}
	switch {
	case t.Name == "":
		r.fail(list, i, "the item has no name")
	case r.names[t.Name]:
		r.fail(list, i, "there are two items of the name %q", t.Name)
	}
	r.names[t.Name] = true
	item.Timing = schedule.Timing{Every: t.Every, Zone: r.zone, Jitter: r.jitter}
	for _, text := range t.At {
		at, ok := schedule.ParseTimeOfDay(text)
		if !ok {
			r.fail(list, i, "at: expected times such as \"06:00\", not %q", text)
		}
		item.Timing.At = append(item.Timing.At, at)
	}
	slices.Sort(item.Timing.At)
	item.Timing.At = slices.Compact(item.Timing.At)
	switch {
	case (t.Every == 0) == (len(t.At) == 0):
		r.fail(list, i, "expected either every, such as 15m, or at, with times of the day")
	case t.Every != 0 && (t.Every < leastEvery || t.Every > mostEvery):
		r.fail(list, i, "every: expected between %s and %s", leastEvery, mostEvery)
	}
	if t.Jitter != nil {
		item.Timing.Jitter = *t.Jitter
	} else if t.Every > 0 {
		item.Timing.Jitter = min(item.Timing.Jitter, t.Every/10)
	}
	if item.Timing.Jitter < 0 || t.Every > 0 && item.Timing.Jitter > t.Every/2 || item.Timing.Jitter > 12*time.Hour {
		r.fail(list, i, "jitter: expected no more than half of every, and no more than 12h")
	}
	p.Items = append(p.Items, item)
}

// Ask asks the question of an item of the plan at a place, and returns what is kept of the answer. since is when it was
// asked last; zero: never.
func (p *Plan) Ask(ctx context.Context, item *Item, since time.Time, at *ask.Place) (*history.Outcome, error) {
	r, err := item.question(at.Path, since).Ask(ctx, at)
	if err != nil {
		return nil, err
	}
	if r.Then != nil {
		if err := r.Then(); err != nil {
			return nil, err
		}
	}
	if r.Partial {
		return nil, ask.ErrPart // nothing is resolved by a part
	}
	o := r.Kept()
	o.Wrong = o.Wrong || r.Wrong
	return o, nil
}

func (r *reader) channel(i int, w fileChannel) Channel {
	channel := Channel{Name: w.Name}
	if w.Name == "" {
		r.fail("alarms", i, "the channel has no name")
	}
	if r.names["channel "+w.Name] {
		r.fail("alarms", i, "there are two channels of the name %q", w.Name)
	}
	r.names["channel "+w.Name] = true
	switch {
	case (w.Mail == nil) == (w.Post == nil):
		r.fail("alarms", i, "expected either mail or post")
	case w.Mail != nil:
		channel.Mail = r.mail(i, w.Mail)
	default:
		channel.Post = r.post(i, w.Post)
	}
	if w.Batch != "" {
		at, ok := schedule.ParseTimeOfDay(w.Batch)
		if !ok {
			r.fail("alarms", i, "batch: expected a time such as \"08:00\", not %q", w.Batch)
		}
		channel.Batch = &schedule.Timing{At: []schedule.TimeOfDay{at}, Zone: r.zone}
	}
	return channel
}

// apart returns a channel for every address that a channel sends mail to: one that refuses keeps no other
// from being told, or told twice.
func apart(channel Channel) []Channel {
	if channel.Mail == nil || len(channel.Mail.To) < 2 {
		return []Channel{channel}
	}
	var list []Channel
	for _, to := range channel.Mail.To {
		one, mail := channel, *channel.Mail
		mail.To = []address.Address{to}
		one.Name, one.Mail = channel.Name+" to "+to.String(), &mail
		list = append(list, one)
	}
	return list
}

func (r *reader) mail(i int, m *fileMail) *MailChannel {
	channel := &MailChannel{Connections: r.beside(m.Connections)}
	if m.Connections == "" {
		channel.Connections = r.beside("connections.yaml")
	}
	var err error
	if channel.From, err = address.Parse(m.From); err != nil {
		r.fail("alarms", i, "from: %v", err)
	}
	for _, text := range m.To {
		a, err := address.Parse(text)
		if err != nil {
			r.fail("alarms", i, "to: %v", err)
		}
		channel.To = append(channel.To, a)
	}
	if len(m.To) == 0 {
		r.fail("alarms", i, "to is missing")
	}
	return channel
}

func (r *reader) post(i int, p *filePost) *PostChannel {
	u, err := url.Parse(p.URL)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		r.fail("alarms", i, "url: expected one that begins with https://")
	case u.User != nil:
		r.fail("alarms", i, "url: it has a login in it; a secret signs what is sent")
	case u.Scheme == "http" && !isLoopback(u.Hostname()):
		r.fail("alarms", i, "url: expected https://; http:// goes to this machine alone")
	}
	if p.Secret != nil {
		if err := p.Secret.Check(); err != nil {
			r.fail("alarms", i, "secret: %v", err)
		}
	}
	return &PostChannel{URL: p.URL, Secret: p.Secret}
}

// isLoopback reports whether a host is this machine for sure.
func isLoopback(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}
