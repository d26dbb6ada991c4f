package watch

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/store"
)

// A Page serves what a worker has seen: a report, its health and its metrics. It only shows.
type Page struct {
	Worker  *Watcher
	Version string
	// Report writes the report.
	Report func(ctx context.Context, w io.Writer) error
	// Names are those by which the page is reached, apart from the address that it is served at and
	// localhost. Who asks for another host is not answered: their browser was led here by somebody.
	Names []string

	mu     sync.Mutex // one report at a time
	made   time.Time
	seen   time.Time // the last answer that the report at hand knows of
	report []byte
}

// The bounds of the page.
const (
	reportWithin = 2 * time.Minute
	reportStays  = time.Minute      // a report is made again once it is older, or a new answer is there
	silentAfter  = time.Minute      // a worker that has not looked for so long is stuck
	mostPages    = 64               // requests at once; health is always told
	readWithin   = 10 * time.Second // by the one who asked, once an answer is there
)

// Serve serves the page at a listener until end is called.
func (p *Page) Serve(listener net.Listener) (end func()) {
	mux := http.NewServeMux()
	limit := make(chan struct{}, mostPages)
	mux.Handle("GET /{$}", limited(limit, p.index))
	mux.Handle("GET /items", limited(limit, p.items))
	mux.HandleFunc("GET /healthz", p.health)
	registry := prometheus.NewRegistry()
	registry.MustRegister(p)
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{
		EnableOpenMetrics: true, MaxRequestsInFlight: 4, Timeout: 10 * time.Second,
	}))
	server := &http.Server{
		Handler: p.guarded(mux), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		WriteTimeout: reportWithin + 30*time.Second, IdleTimeout: readWithin, MaxHeaderBytes: 16 << 10,
	}
	go func() { _ = server.Serve(listener) }()
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if server.Shutdown(ctx) != nil {
			_ = server.Close()
		}
	}
}

// limited bounds how many requests are answered at once. A client that does not read its answer loses its
// place.
func limited(free chan struct{}, answer http.HandlerFunc) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case free <- struct{}{}:
			defer func() { <-free }()
		default:
			http.Error(w, "too many requests at once", http.StatusServiceUnavailable)
			return
		}
		answer(w, r)
	})
}

// within gives the client some time, from now on, to read the answer.
func within(w http.ResponseWriter) {
	_ = http.NewResponseController(w).SetWriteDeadline(clock.Machine().Add(readWithin))
}

// guarded answers requests for this very host only, and forbids that answers are kept or framed.
func (p *Page) guarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("X-Frame-Options", "DENY")
		w.Header().Set("Content-Security-Policy", "frame-ancestors 'none'")
		w.Header().Set("Referrer-Policy", "no-referrer")
		local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
		if !p.isHost(r.Host, local) {
			http.Error(w, "this is not the host that was asked for; yorvet watch --known-as NAME has it answer to a name",
				http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// isHost reports whether a Host (RFC 9110, section 7.2) means this page, which was reached at an address.
func (p *Page) isHost(host string, local net.Addr) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	at, _ := local.(*net.TCPAddr)
	ip := net.ParseIP(host)
	switch {
	case ip != nil && at != nil:
		return ip.Equal(at.IP)
	case strings.EqualFold(host, "localhost"):
		return at != nil && at.IP.IsLoopback()
	}
	return slices.ContainsFunc(p.Names, func(name string) bool { return strings.EqualFold(name, host) })
}

// index serves the report, with the latest results.
func (p *Page) index(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), reportWithin)
	defer cancel()
	page, err := p.latest(ctx)
	if err != nil {
		http.Error(w, "the report cannot be made; the messages of yorvet watch say why", http.StatusInternalServerError)
		p.Worker.OnError("the report cannot be made: " + err.Error())
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	within(w)
	_, _ = w.Write(page)
}

func (p *Page) latest(ctx context.Context) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var newest time.Time
	for _, item := range p.Worker.Now().Items {
		if item.Ended.After(newest) {
			newest = item.Ended
		}
	}
	if p.report != nil && clock.Since(p.made) < reportStays && newest.Equal(p.seen) {
		return p.report, nil
	}
	var b bytes.Buffer
	if err := p.Report(ctx, &b); err != nil {
		return nil, err
	}
	// The page of the items is named where the report says what it is.
	const footer = "<footer>"
	page := bytes.Replace(b.Bytes(), []byte(footer), []byte(footer+`<a href="/items">What is watched</a>. `), 1)
	p.report, p.made, p.seen = page, clock.Now(), newest
	return p.report, nil
}

// Health is what /healthz says.
type Health struct {
	Healthy bool                  `json:"healthy"`
	Why     []string              `json:"why"` // it is not
	Items   map[string]ItemHealth `json:"items"`
}

// ItemHealth is the health of an item.
type ItemHealth struct {
	State string `json:"state"` // of its last answer; "" before the first
	Ended string `json:"ended,omitempty"`
	Due   string `json:"due,omitempty"`
	Late  bool   `json:"late,omitempty"`
}

// Health returns how a worker is at a time: healthy where it looks for what is due, and nothing is
// long overdue. What the items find is not a matter of health.
func (w *Watcher) Health(now time.Time) Health {
	status := w.Now()
	h := Health{Healthy: true, Why: []string{}, Items: map[string]ItemHealth{}}
	unwell := func(why string) { h.Healthy, h.Why = false, append(h.Why, why) }
	if now.Sub(status.Beat) > silentAfter {
		unwell("nothing has been looked for since " + status.Beat.UTC().Format(time.RFC3339))
	}
	if status.Store != nil {
		unwell("the store cannot be read")
	}
	for i := range w.Plan.Items {
		item := &w.Plan.Items[i]
		s := status.Items[item.Name]
		one := ItemHealth{State: s.State}
		if !s.Ended.IsZero() {
			one.Ended = s.Ended.UTC().Format(time.RFC3339)
		}
		if !s.Due.IsZero() {
			one.Due = s.Due.UTC().Format(time.RFC3339)
		}
		if one.Late = !s.Due.IsZero() && now.Sub(s.Due) > max(item.Timing.Every, 10*time.Minute); one.Late {
			unwell(item.Name + " is overdue since " + one.Due)
		}
		if s.State == store.Broken {
			unwell(item.Name + " cannot be answered")
		}
		h.Items[item.Name] = one
	}
	return h
}

func (p *Page) health(w http.ResponseWriter, _ *http.Request) {
	h := p.Worker.Health(p.Worker.Store.Now())
	within(w)
	w.Header().Set("Content-Type", "application/json")
	if !h.Healthy {
		w.WriteHeader(http.StatusServiceUnavailable)
	}
	_ = json.NewEncoder(w).Encode(h)
}

// The metrics.
var (
	itemLabels = []string{"plan", "item", "kind"}
	descAge    = prometheus.NewDesc("yorvet_item_age_seconds", "Seconds since an item was answered last.", itemLabels, nil)
	descDue    = prometheus.NewDesc("yorvet_item_due_timestamp_seconds", "When an item is due next.", itemLabels, nil)
	descState  = prometheus.NewDesc("yorvet_item_state", "1 for the state of the last answer: good, wrong or broken.",
		append(itemLabels, "state"), nil)
	descGood = prometheus.NewDesc("yorvet_item_good", "What the last answer found as it should be.", itemLabels, nil)
	descBad  = prometheus.NewDesc("yorvet_item_failures", "What the last answer found that should not be.", itemLabels,
		nil)
	descLong = prometheus.NewDesc("yorvet_item_duration_seconds", "How long the last answer took.", itemLabels, nil)
	descGone = prometheus.NewDesc("yorvet_item_missed_total",
		"Times of an item that went by without it, seen by this process.",
		itemLabels, nil)
	descArrival = prometheus.NewDesc("yorvet_probe_arrival_seconds",
		"How long messages of probes took, over the last day.", nil, nil)
	descSent = prometheus.NewDesc("yorvet_probe_messages",
		"Messages of probes that the store knows of, by their state.",
		[]string{"state"}, nil)
	descWaiting = prometheus.NewDesc("yorvet_alarms_waiting", "Alarms that have not gone out by a channel.", []string{"way"},
		nil)
	descBeat = prometheus.NewDesc("yorvet_watch_beat_timestamp_seconds",
		"When this process looked last for what is due.", nil, nil)
	descBuild = prometheus.NewDesc("yorvet_build_info", "1, with the version.", []string{"version"}, nil)
)

// Describe implements prometheus.Collector.
func (p *Page) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{descAge, descDue, descState, descGood, descBad, descLong, descGone, descArrival,
		descSent,
		descWaiting, descBeat, descBuild} {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (p *Page) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	seconds := func(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }
	now, status := p.Worker.Store.Now(), p.Worker.Now()
	gauge(descBuild, 1, p.Version)
	gauge(descBeat, seconds(status.Beat))
	for name, s := range status.Items {
		labels := []string{p.Worker.Plan.Name, name, s.Kind}
		if !s.Due.IsZero() {
			gauge(descDue, seconds(s.Due), labels...)
		}
		to <- prometheus.MustNewConstMetric(descGone, prometheus.CounterValue, float64(s.Missed), labels...)
		if s.Ended.IsZero() {
			continue
		}
		gauge(descAge, now.Sub(s.Ended).Seconds(), labels...)
		gauge(descLong, s.Ended.Sub(s.Began).Seconds(), labels...)
		gauge(descGood, float64(s.Good), labels...)
		gauge(descBad, float64(s.Bad), labels...)
		for _, state := range []string{store.Good, store.Wrong, store.Broken} {
			is := 0.0
			if s.State == state {
				is = 1
			}
			gauge(descState, is, append(labels, state)...)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	p.fromStore(ctx, to, now)
}

// fromStore collects what the store knows: of all processes.
func (p *Page) fromStore(ctx context.Context, to chan<- prometheus.Metric, now time.Time) {
	if list, err := p.Worker.Store.Backlogs(ctx, p.Worker.Plan.Name); err == nil {
		waiting := map[string]int{}
		for _, b := range list {
			waiting[b.Channel] = b.Waiting
		}
		for _, channel := range p.Worker.Plan.Channels {
			to <- prometheus.MustNewConstMetric(descWaiting, prometheus.GaugeValue, float64(waiting[channel.Name]), channel.Name)
		}
	}
	if m, err := p.Worker.Store.Mail(ctx, now.Add(-24*time.Hour)); err == nil {
		for state, n := range m.Messages {
			to <- prometheus.MustNewConstMetric(descSent, prometheus.GaugeValue, float64(n), state)
		}
		if s, err := prometheus.NewConstSummary(descArrival, uint64(m.Arrivals), m.Seconds,
			map[float64]float64{0.5: m.Median, 0.95: m.P95}); err == nil && m.Arrivals > 0 {
			to <- s
		}
	}
}
