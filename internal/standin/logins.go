package standin

import (
	"context"
	"crypto/subtle"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/clock"
)

// How wrong logins are slowed down.
const (
	freeFailures = 3                      // so many are answered at once
	firstDelay   = 250 * time.Millisecond // of the next one; it doubles with each
	longestDelay = 4 * time.Second
	forgetAfter  = time.Minute // without a wrong login
)

// logins count wrong logins, at all ports together.
type logins struct {
	mutex  sync.Mutex
	failed int
	last   time.Time
}

// delay notes a wrong login, and returns how long its answer waits.
func (l *logins) delay(now time.Time) time.Duration {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if now.Sub(l.last) > forgetAfter {
		l.failed = 0
	}
	l.failed++
	l.last = now
	if l.failed <= freeFailures {
		return 0
	}
	delay := firstDelay
	for i := freeFailures + 1; i < l.failed && delay < longestDelay; i++ {
		delay *= 2
	}
	return min(delay, longestDelay)
}

// knows reports whether somebody knows the password. Who does not waits for the
// answer, the longer the more often that happens.
func (p *post) knows(ctx context.Context, password string) bool {
	if sameSecret(password, p.options.Secret) {
		return true
	}
	timer := time.NewTimer(p.logins.delay(clock.Now()))
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	case <-p.queue.quit:
	}
	return false
}

func sameSecret(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }
