package standin

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/localfile"
)

// A jobKind is what is to be done with a message that waits.
type jobKind string

const (
	groupJob  jobKind = "group"  // lay it out from a group
	copyJob   jobKind = "copy"   // hand it to one address
	heldJob   jobKind = "held"   // wait for an approver
	digestJob jobKind = "digest" // wait for the next digest
)

// A job is a message that waits. On disk it is a file of its own.
type job struct {
	Kind       jobKind
	ID         string
	MessageID  string
	From       string // return path
	Sender     string // who it claims to be from
	To         string // the group or address
	Folder     string // of a copy; "" is the inbox
	Member     string // who a digest is for
	Traits     resolve.Message
	Because    string    // why it is held
	Due        time.Time // not before
	Hops       int
	Nested     bool   // held at a nested group: those who got it otherwise do not get it again
	Group      string // the group whose memberships a copy comes from
	Original   string // the group that the message was sent to
	Notify     bool
	EnvelopeID string
	Sure       bool // no fault befalls it any more
	Raw        []byte
}

// queue holds jobs until they are done. What it has accepted is on disk, where
// it has a folder.
type queue struct {
	dir   string
	mutex sync.Mutex
	ready chan job
	later map[string]job // held, collected for digests, or not due yet
	open  int            // jobs that are ready or being worked on
	quit  chan struct{}
	done  sync.WaitGroup
	idle  *sync.Cond
}

func newQueue(dir string) (*queue, error) {
	q := &queue{dir: dir, ready: make(chan job, maxQueue), later: map[string]job{}, quit: make(chan struct{})}
	q.idle = sync.NewCond(&q.mutex)
	if dir == "" {
		return q, nil
	}
	files, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		id, ok := strings.CutSuffix(file.Name(), ".json")
		if !ok {
			continue // half written, and never accepted
		}
		data, err := localfile.Read(context.Background(), filepath.Join(dir, file.Name()), maxStored)
		if err != nil {
			return nil, err
		}
		var j job
		if json.Unmarshal(data, &j) == nil {
			j.ID = id // which is the name of a file
			q.place(j)
		}
	}
	return q, nil
}

var errFull = &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "too many messages wait"}

// add takes a job over.
func (q *queue) add(j job) error {
	q.mutex.Lock()
	full := len(q.ready)+len(q.later) >= maxQueue
	q.mutex.Unlock()
	if full {
		return errFull
	}
	if err := q.write(j); err != nil {
		return &smtp.SMTPError{
			Code:         451,
			EnhancedCode: smtp.EnhancedCode{4, 3, 0},
			Message:      "the queue cannot be written",
		}
	}
	q.place(j)
	return nil
}

// place puts a job where it waits.
func (q *queue) place(j job) {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	if j.Kind == heldJob || j.Kind == digestJob || j.Due.After(clock.Now()) {
		q.later[j.ID] = j
		return
	}
	q.open++
	q.ready <- j
}

func (q *queue) path(id string) string { return filepath.Join(q.dir, id+".json") }

func (q *queue) write(j job) error {
	if q.dir == "" {
		return nil
	}
	data, err := json.Marshal(j)
	if err != nil {
		return err
	}
	return writeFile(q.dir, q.path(j.ID), data)
}

// writeFile writes a file so that it is there whole, whatever happens, once this
// returns. Until then it is in a folder for what is not whole yet.
func writeFile(unready, path string, data []byte) error {
	return localfile.WriteVia(unready, path, data, 0o600)
}

// take removes a waiting job and returns it.
func (q *queue) take(id string) (job, bool) {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	j, ok := q.later[id]
	delete(q.later, id)
	return j, ok
}

// waiting returns the jobs of a kind that wait.
func (q *queue) waiting(kind jobKind) []job {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	var list []job
	for _, j := range q.later {
		if j.Kind == kind {
			list = append(list, j)
		}
	}
	return list
}

// forget removes a job for good.
func (q *queue) forget(id string) {
	if q.dir != "" {
		_ = os.Remove(q.path(id))
	}
}

const workers = 4

// run works on jobs until stop.
func (q *queue) run(work func(job)) {
	for range workers {
		q.done.Go(func() {
			for {
				select {
				case <-q.quit:
					return
				case j := <-q.ready:
					work(j)
					q.forget(j.ID)
					q.mutex.Lock()
					q.open--
					q.idle.Broadcast()
					q.mutex.Unlock()
				}
			}
		})
	}
	q.done.Go(func() {
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-q.quit:
				return
			case <-tick.C:
				q.wake()
			}
		}
	})
}

// wake readies what is due.
func (q *queue) wake() {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	for id, j := range q.later {
		if !j.Due.IsZero() && !j.Due.After(clock.Now()) && j.Kind != heldJob && j.Kind != digestJob {
			delete(q.later, id)
			q.open++
			q.ready <- j
		}
	}
}

// settle waits until all but what is held or collected has been worked on.
func (q *queue) settle(d time.Duration) bool {
	deadline := clock.Now().Add(d)
	timer := time.AfterFunc(d, q.idle.Broadcast)
	defer timer.Stop()
	q.mutex.Lock()
	defer q.mutex.Unlock()
	for q.open > 0 || q.delayed() {
		if clock.Now().After(deadline) {
			return false
		}
		if q.open > 0 {
			q.idle.Wait()
			continue
		}
		q.mutex.Unlock()
		time.Sleep(10 * time.Millisecond)
		q.mutex.Lock()
	}
	return true
}

func (q *queue) delayed() bool {
	for _, j := range q.later {
		if j.Kind != heldJob && j.Kind != digestJob {
			return true
		}
	}
	return false
}

func (q *queue) stop() {
	select {
	case <-q.quit:
	default:
		close(q.quit)
	}
	q.done.Wait()
}
