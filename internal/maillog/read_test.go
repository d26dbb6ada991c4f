package maillog

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/localfile"
)

var options = Options{Zone: time.UTC, Now: now}

// file writes a file of a test.
func file(t testing.TB, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// follow returns the stories of logs, as text, in the order of their Message-IDs.
func follow(t testing.TB, options Options, paths ...string) (list []string, counts *Counts) {
	t.Helper()
	tracker := trail.NewTracker(func(s *trail.Story) {
		text := fmt.Sprintf("%s from %s whole %t:", s.Message, s.From, s.Whole)
		for _, r := range s.Recipients {
			text += fmt.Sprintf(" %s(%s) %s;", r.Address, r.Group, r.Fate)
		}
		list = append(list, text)
	})
	counts, err := Read(t.Context(), paths, strings.NewReader(""), options, tracker.Add)
	if err != nil {
		t.Fatal(err)
	}
	tracker.End()
	slices.Sort(list)
	return list, counts
}

// Logs that were cut into files and compressed tell what the whole log tells, in whatever
// order they are named.
func TestRotated(t *testing.T) {
	log := generated(3000, 7)
	want, counts := follow(t, options, file(t, "mail.log", log))
	if len(want) != 3000 || counts.Unknown != 0 || counts.Bytes != int64(len(log)) || counts.Lines != strings.Count(log, "\n") {
		t.Fatalf("%d stories, %+v", len(want), counts)
	}
	var paths []string
	for i, pack := range []func(string) string{plain, gzipped, zstded, xzed} {
		from, to := len(log)*i/4, len(log)*(i+1)/4
		from = strings.LastIndexByte(log[:from], '\n') + 1
		if i < 3 {
			to = strings.LastIndexByte(log[:to], '\n') + 1
		}
		paths = append(paths, file(t, fmt.Sprint("mail.log.", i), pack(log[from:to])))
	}
	slices.Reverse(paths)
	got, counts := follow(t, options, paths...)
	if !slices.Equal(got, want) || counts.Lines != strings.Count(log, "\n") {
		t.Errorf("%d stories of the parts, %d of the whole", len(got), len(want))
	}
	// Lines taken apart by turns, as of two machines, come together by their times. (A
	// message has one queue on one machine, so both are called the same here.)
	var parts [2]strings.Builder
	for i, line := range slices.Collect(strings.Lines(log)) {
		parts[i/7%2].WriteString(line)
	}
	got, _ = follow(t, options, file(t, "a", parts[0].String()), file(t, "b", parts[1].String()))
	if len(got) != len(want) {
		t.Errorf("%d stories of two logs side by side, want %d", len(got), len(want))
	}
}

func plain(s string) string { return s }

func gzipped(s string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte(s))
	_ = w.Close()
	return b.String()
}

func zstded(s string) string {
	w, _ := zstd.NewWriter(nil)
	return string(w.EncodeAll([]byte(s), nil))
}

func xzed(s string) string {
	var b bytes.Buffer
	w, err := xz.NewWriter(&b)
	if err != nil {
		panic(err)
	}
	_, _ = w.Write([]byte(s))
	_ = w.Close()
	return b.String()
}

// The counts agree with those of a plain script.
func TestPlainScript(t *testing.T) {
	if _, err := exec.LookPath("awk"); err != nil {
		t.Skip("awk is not installed here: ", err)
	}
	log := file(t, "mail.log", generated(5000, 11))
	const script = `
/ postfix\/smtpd\[[0-9]+\]: NOQUEUE: reject/ { refused++ }
/: message-id=</ { messages++ }
/ status=bounced / { last[$6 $7] = "bounced" }
/ status=deferred / { last[$6 $7] = "deferred" }
/ status=sent / { last[$6 $7] = "sent" }
END { for (k in last) n[last[k]]++; print messages+0, refused+0, n["sent"]+0, n["bounced"]+0, n["deferred"]+0 }`
	out, err := exec.Command("awk", script, log).Output()
	if err != nil {
		t.Fatal(err)
	}
	found := trail.NewFound(0)
	tracker := trail.NewTracker(found.Add)
	if _, err := Read(t.Context(), []string{log}, nil, options, tracker.Add); err != nil {
		t.Fatal(err)
	}
	tracker.End()
	f := found.Fates
	got := fmt.Sprintln(found.Messages-f[trail.Rejected], f[trail.Rejected], f[trail.InMailbox], f[trail.Failed], f[trail.Late])
	if got != string(out) {
		t.Errorf("got %swant %s", got, out)
	}
}

// What cannot be read is told with the name of the file; reading ends with ctx.
func TestUnreadable(t *testing.T) {
	for name, text := range map[string]string{
		"cut.gz": gzipped(generated(50, 1))[:500], "cut.zst": zstded(generated(50, 1))[:500], "cut.xz": xzed(generated(50, 1))[:500],
	} {
		path := file(t, name, text)
		if _, err := Read(t.Context(), []string{path}, nil, options, func(*trail.Event) {}); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Read(t.Context(), []string{filepath.Join(t.TempDir(), "none")}, nil, options, nil); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a missing file: %v", err)
	}
	if _, err := Read(t.Context(), []string{t.TempDir()}, nil, options, nil); err == nil {
		t.Error("a folder was read")
	}
	ctx, stop := context.WithCancel(t.Context())
	n := 0
	_, err := Read(ctx, []string{file(t, "long", generated(30_000, 3))}, nil, options, func(*trail.Event) {
		if n++; n == 10 {
			stop()
		}
	})
	if !errors.Is(err, context.Canceled) || n > 10_000 {
		t.Errorf("%v after %d events", err, n)
	}
	if errors.Is(err, localfile.ErrTooLarge) {
		t.Error(err)
	}
}

// Lines that are not understood are counted and shown; very long ones are none.
func TestSamples(t *testing.T) {
	log := "what is this\n" + strings.Repeat("x", 3<<20) + "\nNov 25 20:54:52 mx postfix/smtpd[1]: new words\r\n" + "Nov 25 20:54:52 mx cron[1]: x"
	_, counts := follow(t, options, file(t, "mail.log", log))
	if counts.Unknown != 3 || counts.Lines != 4 || counts.Beside != 1 || counts.Events != 0 {
		t.Errorf("%d lines, %d unknown", counts.Lines, counts.Unknown)
	}
	first, last := counts.Samples[0], counts.Samples[2]
	if first.Line != 1 || first.Text != "what is this" || !strings.HasSuffix(last.Text, "new words") || last.Line != 3 || len(counts.Samples[1].Text) > sampleSize {
		t.Errorf("%+v, %+v", first, last)
	}
}

// Standard input is read as a file is.
func TestInput(t *testing.T) {
	n := 0
	counts, err := Read(t.Context(), []string{"-"}, strings.NewReader(gzipped(generated(100, 1))), options, func(*trail.Event) { n++ })
	if err != nil || n == 0 || counts.Events != n {
		t.Error(err, n)
	}
}

// A log that is followed is read on where it grows, is rotated or cut.
func TestFollow(t *testing.T) {
	line := func(n int) string {
		return fmt.Sprintf("Nov 26 11:00:%02d mx postfix/cleanup[1]: A1B2C3D4%02X: message-id=<%d@x>\n", n, n, n)
	}
	path := file(t, "mail.log", line(1))
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	var seen []string
	step := 0
	change := func() {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
		if err == nil {
			defer f.Close()
		}
		switch {
		case len(seen) == 1 && step == 0:
			step, _ = f.WriteString(line(2)[:20])
		case len(seen) == 1 && step == 20:
			step, _ = f.WriteString(line(2)[20:] + "what\n")
		case len(seen) == 2 && step != 3:
			step = 3
			_, _ = f.WriteString(line(3))
			_ = os.Rename(path, path+".1")
			_ = os.WriteFile(path, []byte(line(4)), 0o600)
		case len(seen) == 4 && step == 3:
			step = 4
			_ = os.Truncate(path, 0)
		case len(seen) == 4 && step == 4:
			step = 5
			_, _ = f.WriteString(line(5))
		case len(seen) == 5:
			stop()
		}
	}
	counts, err := Follow(ctx, []string{path}, nil, options, func(e *trail.Event) { seen = append(seen, e.Message) }, change)
	if want := []string{"1@x", "2@x", "3@x", "4@x", "5@x"}; err != nil || !slices.Equal(seen, want) {
		t.Errorf("%v, %v", seen, err)
	}
	if counts.Unknown != 1 || counts.Samples[0].Text != "what" {
		t.Errorf("%+v", counts)
	}
	seen = nil
	_, err = Follow(t.Context(), []string{"-"}, strings.NewReader(line(1)+line(2)), options, func(e *trail.Event) { seen = append(seen, e.Message) }, func() {})
	if err != nil || len(seen) != 2 {
		t.Errorf("standard input: %v, %v", seen, err)
	}
}
