package standin

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/yamlfile"
)

// Conduct is how a service behaves besides what its estate says: where people
// forward their mail to, which groups work only after a while, and what goes
// wrong.
type Conduct struct {
	Version int                      `yaml:"yorvet-conduct"`
	Seed    uint64                   `yaml:"seed"`
	Forward map[string]string        `yaml:"forward"` // address to address
	Starts  map[string]time.Duration `yaml:"starts"`  // group: how long after the service it starts to work
	Trouble []Trouble                `yaml:"trouble"`
}

// A Trouble is something that goes wrong.
type Trouble struct {
	Do    string        `yaml:"do"`    // one of Troubles
	Share float64       `yaml:"share"` // percent of the cases, all by default
	To    string        `yaml:"to"`    // only for this address, or group; "" for all
	By    time.Duration `yaml:"by"`    // how long a delay, a slow answer or the refusal for now lasts
	Bytes int           `yaml:"bytes"` // after which a connection is cut
	Times int           `yaml:"times"` // how often at most; 0: always
	From  time.Duration `yaml:"from"`  // since when, after the start of the service
	For   time.Duration `yaml:"for"`   // how long; 0: for ever
	Field string        `yaml:"field"` // the header field to rewrite
	Value string        `yaml:"value"` // what it says then; "" takes it out
}

// troubles are what can go wrong. The first five befall copies on their way to a
// mailbox, the next four a message or connection over SMTP, and the last two the
// servers.
var troubles = []string{
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

// ReadConduct reads a file in YAML.
func ReadConduct(ctx context.Context, path string) (*Conduct, error) {
	c := &Conduct{}
	if _, err := yamlfile.Read(ctx, path, c); err != nil {
		return nil, err
	}
	if c.Version != 1 {
		return nil, fmt.Errorf("%s:1:1: the format version is missing, expected \"yorvet-conduct: 1\"", path)
	}
	for i, t := range c.Trouble {
		if err := t.check(); err != nil {
			return nil, fmt.Errorf("%s: trouble %d: %w", path, i+1, err)
		}
	}
	return c, nil
}

func (t Trouble) check() error {
	switch {
	case !slices.Contains(troubles, t.Do):
		return fmt.Errorf("there is no %q, expected one of %s", t.Do, strings.Join(troubles, ", "))
	case t.Share < 0 || t.Share > 100:
		return fmt.Errorf("share is %g, expected percent", t.Share)
	case t.Do == "cut" && t.Bytes <= 0:
		return errors.New("cut needs bytes")
	case t.Do == "rewrite" && t.Field == "":
		return errors.New("rewrite needs a field")
	case (t.Do == "delay" || t.Do == "slow" || t.Do == "later") && t.By <= 0:
		return errors.New(t.Do + " needs by, such as 5s")
	}
	return nil
}

// conduct is a Conduct at work.
type conduct struct {
	Conduct
	began time.Time

	mutex  sync.Mutex
	random *rand.Rand
	times  []int                // by trouble: how often it has happened
	tried  map[string]time.Time // who was told to come later, and when
}

func newConduct(c *Conduct) *conduct {
	return &conduct{
		Conduct: *c,
		began:   time.Now(),
		random:  rand.New(rand.NewPCG(c.Seed, 1)),
		times:   make([]int, len(c.Trouble)),
		tried:   map[string]time.Time{},
	}
}

// now returns the trouble of a kind that befalls something for any of some
// addresses now, or nil.
func (c *conduct) now(do string, addresses ...string) *Trouble {
	since := time.Since(c.began)
	for i := range c.Trouble {
		t := &c.Trouble[i]
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

func (c *conduct) strikes(i int) bool {
	t := &c.Trouble[i]
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
func (c *conduct) comesTooEarly(from, to string) bool {
	key := strings.ToLower(from + "\x00" + to)
	c.mutex.Lock()
	first, known := c.tried[key]
	c.mutex.Unlock()
	for i := range c.Trouble {
		t := &c.Trouble[i]
		if t.Do != "later" {
			continue
		}
		if known {
			return time.Since(first) < t.By
		}
		if c.now("later", to) != nil {
			c.mutex.Lock()
			c.tried[key] = time.Now()
			c.mutex.Unlock()
			return true
		}
		break
	}
	return false
}

// works reports whether a group has started to work.
func (c *conduct) works(group string) bool {
	for name, delay := range c.Starts {
		if address.Same(name, group) {
			return time.Since(c.began) >= delay
		}
	}
	return true
}

// forward returns where mail for an address goes.
func (c *conduct) forward(to string) (string, bool) {
	for from, target := range c.Forward {
		if address.Same(from, to) {
			return target, true
		}
	}
	return "", false
}

// listener cuts and slows connections where that is the trouble.
func (c *conduct) listener(l net.Listener) net.Listener {
	if !slices.ContainsFunc(c.Trouble, func(t Trouble) bool { return t.Do == "cut" || t.Do == "slow" }) {
		return l
	}
	return &troubledListener{l, c}
}

type troubledListener struct {
	net.Listener
	conduct *conduct
}

func (l *troubledListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	t := &troubledConn{Conn: conn}
	if cut := l.conduct.now("cut"); cut != nil {
		t.left = cut.Bytes
	}
	if slow := l.conduct.now("slow"); slow != nil {
		t.wait = slow.By
	}
	return t, nil
}

type troubledConn struct {
	net.Conn
	left int // bytes that may yet be read; 0: any
	wait time.Duration
}

func (c *troubledConn) Read(b []byte) (int, error) {
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

func (c *troubledConn) Write(b []byte) (int, error) {
	time.Sleep(c.wait)
	return c.Conn.Write(b)
}
