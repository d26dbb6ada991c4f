package agent

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/store"
)

// What has to be written is written once the store is back, and tried a few times more when the agent is to end.
func TestPersist(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		began, tries := clock.Now(), 0
		a := &Agent{Store: &store.Store{}}
		err := a.persist(t.Context(), func(context.Context) error {
			if tries++; clock.Since(began) < time.Minute {
				return errors.New("away")
			}
			return nil
		})
		if took := clock.Since(began); err != nil || took > 63*time.Second || tries > 40 {
			t.Errorf("%v after %s and %d tries", err, took, tries)
		}
		ctx, cancel := context.WithCancel(t.Context())
		began, tries = clock.Now(), 0
		time.AfterFunc(10*time.Second, cancel)
		err = a.persist(ctx, func(context.Context) error {
			tries++
			return errors.New("away")
		})
		if took := clock.Since(began); err == nil || took < 10*time.Second || took > 25*time.Second {
			t.Errorf("%v after %s and %d tries", err, took, tries)
		}
	})
}

// A store in a file that is slow is not taken for one that is away.
func TestPersistSlowly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, tries := &Agent{Store: &store.Store{}}, 0
		err := a.persist(t.Context(), func(ctx context.Context) error {
			tries++
			select {
			case <-time.After(15 * time.Second):
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
		if err != nil || tries != 1 {
			t.Errorf("%v after %d tries", err, tries)
		}
	})
}
