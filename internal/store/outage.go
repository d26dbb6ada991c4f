package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/clock"
)

// An Outage reports a store that does not answer, once, and again when it is back.
type Outage struct {
	Tell func(text string)

	mutex sync.Mutex
	since time.Time // zero: it answers
}

// Note takes what the store came to: nil is that it answers.
func (o *Outage) Note(err error) {
	if errors.Is(err, context.Canceled) || o.Tell == nil {
		return
	}
	o.mutex.Lock()
	defer o.mutex.Unlock()
	switch away := !o.since.IsZero(); {
	case err != nil && !away:
		o.since = clock.Now()
		o.Tell("the store does not answer, and is asked again: " + Reason(err).Error())
	case err == nil && away:
		o.Tell(fmt.Sprintf("the store is back after %s", clock.Since(o.since).Round(time.Second)))
		o.since = time.Time{}
	}
}
