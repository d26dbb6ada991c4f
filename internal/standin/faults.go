package standin

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/yamlfile"
)

// Faults is how a service behaves in addition to what its estate says: where people
// forward their mail to, which groups work only after a while, and what goes
// wrong.
type Faults struct {
	Version int                      `yaml:"yorvet-faults"`
	Seed    uint64                   `yaml:"seed"`
	Forward map[string]string        `yaml:"forward"` // address to address
	Starts  map[string]time.Duration `yaml:"starts"`  // group: how long after the service it starts to work
	List    []Fault                  `yaml:"faults"`
}

// A Fault is something that goes wrong.
type Fault struct {
	Do    string        `yaml:"do"`    // one of faultNames
	Share float64       `yaml:"share"` // percent of the cases, all by default
	To    string        `yaml:"to"`    // only for this address, or group; "" for all
	By    time.Duration `yaml:"by"`    // how long a delay, a slow answer or the refusal for now lasts
	Bytes int           `yaml:"bytes"` // after which a connection is cut
	Times int           `yaml:"times"` // how often at most; 0: always
	From  time.Duration `yaml:"from"`  // since when, after the start of the service
	For   time.Duration `yaml:"for"`   // how long; 0: without end
	Field string        `yaml:"field"` // the header field to rewrite
	Value string        `yaml:"value"` // what it says then; "" takes it out. Of refuse: status and text
}

// faultNames are what can go wrong. The first five befall copies on their way to a
// mailbox, the next four a message or connection over SMTP, and the last two the
// servers.
var faultNames = []string{
	"lose",
	"delay",
	"duplicate",
	"junk",
	"rewrite",
	"later",
	"refuse",
	"cut",
	"slow",
	"certificate",
	"imap-gone",
}

// statusAndText are what a message is refused with.
var statusAndText = regexp.MustCompile(`^5\.\d{1,3}\.\d{1,3} \S.*$`)

// ReadFaults reads a file in YAML.
func ReadFaults(ctx context.Context, path string) (*Faults, error) {
	c := &Faults{}
	if _, err := yamlfile.Read(ctx, path, c); err != nil {
		return nil, err
	}
	if c.Version != 1 {
		return nil, fmt.Errorf("%s:1:1: the format version is missing, expected \"yorvet-faults: 1\"", path)
	}
	for i, t := range c.List {
		if err := t.check(); err != nil {
			return nil, fmt.Errorf("%s: fault %d: %w", path, i+1, err)
		}
	}
	return c, nil
}

func (t Fault) check() error {
	switch {
	case !slices.Contains(faultNames, t.Do):
		return fmt.Errorf("there is no %q, expected one of %s", t.Do, strings.Join(faultNames, ", "))
	case t.Share < 0 || t.Share > 100:
		return fmt.Errorf("share is %g, expected percent", t.Share)
	case t.Do == "cut" && t.Bytes <= 0:
		return errors.New("cut needs bytes")
	case t.Do == "refuse" && t.Value != "" && !statusAndText.MatchString(t.Value):
		return fmt.Errorf("value is %q, expected a status and a text, such as 5.1.1 nobody has this address", t.Value)
	case t.Do == "rewrite" && t.Field == "":
		return errors.New("rewrite needs a field")
	case (t.Do == "delay" || t.Do == "slow" || t.Do == "later") && t.By <= 0:
		return errors.New(t.Do + " needs by, such as 5s")
	}
	return nil
}

// refusal is what a message is refused with: the status (RFC 3463) and text of the fault.
func (t *Fault) refusal() error {
	code, text, _ := strings.Cut(t.Value, " ")
	var status smtp.EnhancedCode
	if n, err := fmt.Sscanf(code, "%d.%d.%d", &status[0], &status[1], &status[2]); n != 3 || err != nil || text == "" {
		status, text = smtp.EnhancedCode{5, 7, 1}, "not today"
	}
	return refusal(550, status, text)
}

// faults is a Faults at work.
type faults struct {
	Faults
	began time.Time

	mutex  sync.Mutex
	random *rand.Rand
	times  []int                // by fault: how often it has happened
	tried  map[string]time.Time // who was asked to come later, and when
}

func newFaults(c *Faults) *faults {
	return &faults{
		Faults: *c,
		began:  clock.Now(),
		random: rand.New(rand.NewPCG(c.Seed, 1)),
		times:  make([]int, len(c.List)),
		tried:  map[string]time.Time{},
	}
}

// now returns the fault of a kind that befalls something for any of some
// addresses now, or nil.
func (c *faults) now(do string, addresses ...string) *Fault {
	since := clock.Since(c.began)
	for i := range c.List {
		t := &c.List[i]
		if t.Do != do || since < t.From || t.For > 0 && since > t.From+t.For {
			continue
		}
		if t.To != "" && !slices.ContainsFunc(addresses, func(a string) bool { return address.Same(a, t.To) }) {
			continue
		}
		if c.strikes(i) {
			return t
		}
	}
	return nil
}

func (c *faults) strikes(i int) bool {
	t := &c.List[i]
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if t.Times > 0 && c.times[i] >= t.Times || t.Share > 0 && c.random.Float64()*100 >= t.Share {
		return false
	}
	c.times[i]++
	return true
}

// comesTooEarly reports whether a message has to be tried again later: it is the
// first attempt of a sender to write to somebody, or too soon after.
func (c *faults) comesTooEarly(from, to string) bool {
	key := strings.ToLower(from + "\x00" + to)
	c.mutex.Lock()
	first, known := c.tried[key]
	c.mutex.Unlock()
	for i := range c.List {
		t := &c.List[i]
		if t.Do != "later" {
			continue
		}
		if known {
			return clock.Since(first) < t.By
		}
		if c.now("later", to) != nil {
			c.mutex.Lock()
			c.tried[key] = clock.Now()
			c.mutex.Unlock()
			return true
		}
		break
	}
	return false
}

// works reports whether a group has started to work.
func (c *faults) works(group string) bool {
	for name, delay := range c.Starts {
		if address.Same(name, group) {
			return clock.Since(c.began) >= delay
		}
	}
	return true
}

// forward returns where mail for an address goes.
func (c *faults) forward(to string) (string, bool) {
	for from, target := range c.Forward {
		if address.Same(from, to) {
			return target, true
		}
	}
	return "", false
}

// listener cuts and slows connections where that is the fault.
func (c *faults) listener(l net.Listener) net.Listener {
	if !slices.ContainsFunc(c.List, func(t Fault) bool { return t.Do == "cut" || t.Do == "slow" }) {
		return l
	}
	return &faultyListener{l, c}
}

type faultyListener struct {
	net.Listener
	faults *faults
}

func (l *faultyListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	t := &faultyConn{Conn: conn}
	if cut := l.faults.now("cut"); cut != nil {
		t.left = cut.Bytes
	}
	if slow := l.faults.now("slow"); slow != nil {
		t.wait = slow.By
	}
	return t, nil
}

type faultyConn struct {
	net.Conn
	left int // bytes that may yet be read; 0: any
	wait time.Duration
}

func (c *faultyConn) Read(b []byte) (int, error) {
	if c.left < 0 {
		return 0, net.ErrClosed
	}
	n, err := c.Conn.Read(b)
	if c.left > 0 {
		if c.left -= n; c.left <= 0 {
			c.left = -1
			c.Conn.Close()
			return 0, net.ErrClosed
		}
	}
	return n, err
}

func (c *faultyConn) Write(b []byte) (int, error) {
	time.Sleep(c.wait)
	return c.Conn.Write(b)
}
