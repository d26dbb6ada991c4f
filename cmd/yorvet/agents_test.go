//go:build unix

package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/store/storetest"
)

// An agentProcess is an agent that is killed and frozen again and again.
type agentProcess struct {
	t       *testing.T
	dir     string
	program string // "": the one that is tested
	args    []string
	env     []string
	cmd     *exec.Cmd
}

func (a *agentProcess) start() {
	a.cmd = exec.Command(cmp.Or(a.program, program), a.args...)
	a.cmd.Dir, a.cmd.Env = a.dir, a.env
	if err := a.cmd.Start(); err != nil {
		a.t.Error(err)
	}
}

// trouble kills the agent and starts it anew, or freezes it for a while.
func (a *agentProcess) trouble(random *rand.Rand) {
	if random.IntN(2) == 0 {
		_ = a.cmd.Process.Kill()
		_ = a.cmd.Wait()
		a.start()
		return
	}
	_ = a.cmd.Process.Signal(syscall.SIGSTOP)
	time.Sleep(time.Duration(random.IntN(1500)) * time.Millisecond)
	_ = a.cmd.Process.Signal(syscall.SIGCONT)
}

func (a *agentProcess) end() {
	_ = a.cmd.Process.Signal(syscall.SIGCONT)
	_ = a.cmd.Process.Kill()
	_ = a.cmd.Wait()
}

// part writes a connections file with some of the connections, and returns its name.
func part(t *testing.T, dir, name string, leave ...string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, "connections.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	var kept []string
	skip := false
	for line := range strings.Lines(string(data)) {
		text := strings.TrimSpace(line)
		if strings.HasPrefix(line, "  - ") || !strings.HasPrefix(line, " ") {
			skip = false
			for _, word := range leave {
				skip = skip || text == word
			}
		}
		if !skip {
			kept = append(kept, line)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, name), []byte(strings.Join(kept, "")), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// Three agents share runs on PostgreSQL: one sends as outsiders, one as those inside, one
// looks into mailboxes, and all are killed and frozen at random moments. Nothing is sent
// twice, what is not known to be sent is said to be so, and every observation is there.
func TestAgentsInTrouble(t *testing.T) {
	t.Parallel() // most of it is waiting
	runs := campaign.Runs(t)
	where := storetest.PostgreSQL(t)
	dir := standIn(t)
	inside := part(t, dir, "inside.yaml", "- name: outside", "- name: forged")
	outside := part(t, dir, "outside.yaml", "- name: inside")
	env := append(os.Environ(), "YORVET_STORE="+where)
	var agents []*agentProcess
	for _, file := range []string{inside, outside, "connections.yaml"} {
		a := &agentProcess{t: t, dir: dir, args: []string{"agent", "--connections", file}, env: env}
		a.start()
		defer a.end()
		agents = append(agents, a)
	}
	random := rand.New(rand.NewPCG(11, 5))
	sent, unsure := 0, 0
	for i := range runs {
		name, length := fmt.Sprintf("trouble-%d", i), logLength(dir)
		stop := make(chan struct{})
		var troubled sync.WaitGroup
		troubled.Go(func() {
			for {
				select {
				case <-stop:
					return
				case <-time.After(time.Duration(50+random.IntN(400)) * time.Millisecond):
					agents[random.IntN(len(agents))].trouble(random)
				}
			}
		})
		cmd := exec.Command(program, "--estate", "estate", "probe", "radio-watch@kelpmere.example", "works-council@kelpmere.example",
			"--connections", inside, "--send", "--run", name)
		cmd.Dir, cmd.Env = dir, env
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if i%2 == 0 {
			awaitMore(t, dir, length) // amid sending, however busy this machine is
		}
		time.Sleep(time.Duration(300+random.IntN(900)) * time.Millisecond)
		_ = cmd.Process.Kill() // who planned it is gone, too
		_ = cmd.Wait()
		time.Sleep(time.Duration(random.IntN(1000)) * time.Millisecond)
		close(stop)
		troubled.Wait()
		again := run(t, dir, []string{"YORVET_STORE=" + where}, []string{"--estate", "estate", "probe", "--resume", name, "--send", "--json"})
		if strings.Contains(again.stderr, "there is no run") {
			continue
		}
		var answer struct {
			NotAsPredicted, NotLookedAt, NotSent int
			Cases                                []struct{ Seen string }
			Ended                                bool
		}
		if err := json.Unmarshal([]byte(again.stdout), &answer); err != nil {
			t.Fatalf("%v: %s%s", err, again.stdout, again.stderr)
		}
		unknown := 0
		for _, c := range answer.Cases {
			if c.Seen == "unknown" {
				unknown++
			}
		}
		sent, unsure = sent+len(answer.Cases), unsure+unknown
		if !answer.Ended || answer.NotAsPredicted > 0 && unknown == 0 || answer.NotLookedAt > unknown || answer.NotSent > 0 {
			t.Errorf("%s: %d not as predicted, %d not looked at, %d not sent, %d unknown:\n%s%s", name, answer.NotAsPredicted,
				answer.NotLookedAt, answer.NotSent, unknown, again.stdout, again.stderr)
		}
	}
	judged := 0
	for what, n := range logged(t, dir) {
		if strings.HasPrefix(what, "judged ") {
			if judged++; n > 1 {
				t.Errorf("%s: %d times", what, n)
			}
		}
	}
	t.Logf("%d runs, %d messages, %d of them unsure, %d judged", runs, sent, unsure, judged)
	if sent < 10*runs/2 || judged < sent/2 {
		t.Errorf("of %d messages in %d runs %d were judged", sent, runs, judged)
	}
}

// A probe that is killed or frozen at any moment goes on, also by two at once: nothing is
// sent twice, and all is seen.
func TestProbeKilled(t *testing.T) {
	t.Parallel() // most of it is waiting
	runs := campaign.Runs(t)
	dir := standIn(t)
	random := rand.New(rand.NewPCG(7, 7))
	resumed := 0
	for i := range runs {
		name := fmt.Sprintf("killed-%d", i)
		length := logLength(dir)
		args := []string{"--estate", "estate", "probe", "lost-property@kelpmere.example", "weather-watch@kelpmere.example", "--send", "--run", name}
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+stateOf(dir))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if i%4 < 2 {
			awaitMore(t, dir, length) // amid sending, however busy this machine is
		}
		time.Sleep(time.Duration(200+random.IntN(900)) * time.Millisecond)
		end := func() {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}
		if i%2 == 0 {
			_ = cmd.Process.Signal(syscall.SIGSTOP)
			end = func() {
				_ = cmd.Process.Signal(syscall.SIGCONT)
				_ = cmd.Wait()
			}
		} else {
			end()
		}
		var both sync.WaitGroup
		var answers [2]result
		for k := range answers {
			both.Go(func() {
				answers[k] = run(t, dir, nil, []string{"--estate", "estate", "probe", "--resume", name, "--send", "--json"})
			})
		}
		both.Wait()
		end()
		// A store in a file waits for whoever was frozen while they wrote; once more, it is all there.
		again := run(t, dir, nil, []string{"--estate", "estate", "probe", "--resume", name, "--send", "--json"})
		if strings.Contains(again.stderr, "there is no run") || strings.Contains(again.stderr, "there are no runs") {
			continue // it was killed before anything was planned
		}
		resumed++
		judgeResumed(t, name, again, underWay)
	}
	judged := 0
	for what, n := range logged(t, dir) {
		if strings.HasPrefix(what, "judged ") {
			if judged++; n > 1 {
				t.Errorf("%s: %d times", what, n)
			}
		}
	}
	t.Logf("%d runs, %d went on, %d messages were judged", runs, resumed, judged)
	if resumed < runs/2 || judged < 4*runs {
		t.Errorf("%d runs went on, %d messages were judged", resumed, judged)
	}
}

// underWay is how many messages may be on their way when a process is killed: four over each of the
// three connections.
const underWay = 12

// judgeResumed fails where a run that went on says something else than that all is as
// predicted, or that nobody knows of some messages, so many at most.
func judgeResumed(t *testing.T, name string, r result, most int) {
	t.Helper()
	var answer struct {
		NotAsPredicted, NotLookedAt, NotSent int
		Cases                                []struct{ Seen string }
		Ended                                bool
	}
	if err := json.Unmarshal([]byte(r.stdout), &answer); err != nil {
		t.Errorf("%s: %v: %s%s", name, err, r.stdout, r.stderr)
		return
	}
	unknown := 0
	for _, c := range answer.Cases {
		if c.Seen == "unknown" {
			unknown++ // it was killed right before this was sent, or right after
		}
	}
	if !answer.Ended || answer.NotAsPredicted > 0 || answer.NotLookedAt > unknown || answer.NotSent > 0 ||
		unknown > most {
		t.Errorf("%s: ended %t, %d not as predicted, %d not looked at, %d not sent, %d unknown:\n%s%s", name, answer.Ended,
			answer.NotAsPredicted, answer.NotLookedAt, answer.NotSent, unknown, r.stdout, r.stderr)
	}
}
