// Package clock says what time it is. Nothing else in the program reads the clock, so
// that a build for tests can be put on another day.
package clock

import (
	"context"
	"sync"
	"time"
)

// shift is how far from the machine's clock this program lives, as in "720h": empty, but
// in tests that are built with
//
//	go test -ldflags "-X yorvet.example/yorvet/internal/clock.shift=720h" ./...
var shift string

// skew is how wrong the clock of the machine is, likewise: empty, but in tests of programs that share a
// store.
var skew string

var shifted, skewed = once(&shift), once(&skew)

// once returns the duration in a variable, which the linker sets.
func once(text *string) func() time.Duration {
	return sync.OnceValue(func() time.Duration {
		if *text == "" {
			return 0
		}
		d, err := time.ParseDuration(*text)
		if err != nil {
			panic("clock: this program was built with a time that is not a duration: " + err.Error())
		}
		return d
	})
}

// Shift returns how far from the machine's clock this program lives: 0, but in a build
// for tests.
func Shift() time.Duration { return shifted() }

// Flags returns what makes go build and go test build programs that live as far from the
// machine's clock as this one does.
func Flags() []string {
	if shift == "" {
		return nil
	}
	return []string{"-ldflags", "-X yorvet.example/yorvet/internal/clock.shift=" + shift}
}

// Skewed returns what makes go build build a program as Flags does, whose machine has a wrong clock.
func Skewed(by time.Duration) []string {
	return []string{"-ldflags", "-X yorvet.example/yorvet/internal/clock.shift=" + shift +
		" -X yorvet.example/yorvet/internal/clock.skew=" + by.String()}
}

// Now returns the time, by which days are shown, answers are dated and things become due.
func Now() time.Time { return time.Now().Add(shifted() + skewed()) }

// Since returns how long ago t, a value of [Now], was.
func Since(t time.Time) time.Duration { return Now().Sub(t) }

// Until returns how far away t, a value of [Now], is.
func Until(t time.Time) time.Duration { return t.Sub(Now()) }

// Sleep waits, and reports false where ctx has ended.
func Sleep(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(max(0, d))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// Machine returns the time of the machine, which files, certificates and deadlines of
// connections go by.
func Machine() time.Time { return time.Now() }
