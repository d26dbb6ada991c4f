package standin

import (
	"testing"
	"testing/synctest"
	"time"
)

// Who is put off has to wait before they try again; the first attempt counts, and not
// those since.
func TestTooSoonAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newFaults(&Faults{List: []Fault{{Do: "lose"}, {Do: "later", By: time.Minute, To: "tray@kelp.example"}}})
		early := func(from, to string) bool { return c.comesTooEarly(from, to) }
		for _, step := range []struct {
			wait     time.Duration
			from, to string
			early    bool
		}{
			{0, "guest@far.example", "desk@kelp.example", false}, // nothing is the matter with the desk
			{0, "guest@far.example", "tray@kelp.example", true},
			{59 * time.Second, "Guest@far.example", "Tray@kelp.example", true},
			{0, "other@far.example", "tray@kelp.example", true},
			{time.Second, "guest@far.example", "tray@kelp.example", false},
			{0, "other@far.example", "tray@kelp.example", true},
			{59 * time.Second, "other@far.example", "tray@kelp.example", false},
			{time.Hour, "guest@far.example", "tray@kelp.example", false},
		} {
			time.Sleep(step.wait)
			if got := early(step.from, step.to); got != step.early {
				t.Errorf("%s to %s after %v more: too early is %v", step.from, step.to, step.wait, got)
			}
		}
	})
}

// A fault strikes in its time, so often, at whom it is for.
func TestFaultStrikes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newFaults(&Faults{Seed: 1, List: []Fault{
			{Do: "lose", From: time.Minute, For: time.Minute, To: "ada@kelp.example"},
			{Do: "junk", Times: 2},
			{Do: "delay", Share: 30, By: time.Second},
			{Do: "refuse", From: time.Minute},
		}})
		count := func(do string, addresses ...string) (n int) {
			for range 1000 {
				if c.now(do, addresses...) != nil {
					n++
				}
			}
			return n
		}
		if n := count("lose", "ada@kelp.example"); n != 0 {
			t.Errorf("before its time: %d", n)
		}
		if n := count("junk", "ada@kelp.example"); n != 2 {
			t.Errorf("twice at most: %d", n)
		}
		if n := count("delay"); n < 250 || n > 350 {
			t.Errorf("in 30 %% of 1000: %d", n)
		}
		if n := count("refuse"); n != 0 {
			t.Errorf("before the minute: %d", n)
		}
		time.Sleep(time.Minute)
		if n := count("lose", "bo@kelp.example", "ADA@kelp.example"); n != 1000 {
			t.Errorf("in its time: %d", n)
		}
		if n := count("lose", "bo@kelp.example"); n != 0 {
			t.Errorf("somebody else's: %d", n)
		}
		time.Sleep(time.Minute + time.Nanosecond)
		if n := count("lose", "ada@kelp.example"); n != 0 {
			t.Errorf("after its time: %d", n)
		}
		if n := count("refuse"); n != 1000 {
			t.Errorf("for ever since: %d", n)
		}
		if n := count("rewrite"); n != 0 {
			t.Errorf("a fault that is not there: %d", n)
		}
	})
}

// Groups begin to work in time, and mail is forwarded for whom it is said.
func TestStartsAndForward(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newFaults(&Faults{Starts: map[string]time.Duration{"new@kelp.example": time.Minute}, Forward: map[string]string{"ada@kelp.example": "ada@home.example"}})
		if c.works("New@kelp.example") || !c.works("old@kelp.example") {
			t.Error("a group works before its time, or another does not")
		}
		time.Sleep(time.Minute)
		if !c.works("new@kelp.example") {
			t.Error("a group does not work in time")
		}
		if to, ok := c.forward("ADA@kelp.example"); !ok || to != "ada@home.example" {
			t.Errorf("forwarded to %q, %v", to, ok)
		}
		if _, ok := c.forward("bo@kelp.example"); ok {
			t.Error("somebody else's mail is forwarded")
		}
	})
}

// What is no fault is refused, with what it lacks.
func TestFaultChecks(t *testing.T) {
	for want, faulty := range map[string]Fault{
		"":                      {Do: "lose", Share: 100},
		"share is 101":          {Do: "lose", Share: 101},
		"share is -1":           {Do: "lose", Share: -1},
		"there is no \"paint\"": {Do: "paint"},
		"cut needs bytes":       {Do: "cut"},
		"rewrite needs a field": {Do: "rewrite"},
		"delay needs by":        {Do: "delay"},
		"slow needs by":         {Do: "slow"},
		"later needs by":        {Do: "later"},
		"value is \"gone\", ":   {Do: "refuse", Value: "gone"},
	} {
		err := faulty.check()
		if want == "" && err != nil || want != "" && (err == nil || len(err.Error()) < len(want) || err.Error()[:len(want)] != want) {
			t.Errorf("%+v: %v, want %q", faulty, err, want)
		}
	}
	for _, faulty := range []Fault{{Do: "refuse", Value: "5.1.1 nobody has it"}, {Do: "cut", Bytes: 1}, {Do: "rewrite", Field: "Subject"}, {Do: "delay", By: 1}, {Do: "slow", By: 1}, {Do: "later", By: 1}} {
		if err := faulty.check(); err != nil {
			t.Errorf("%+v: %v", faulty, err)
		}
	}
}
