package maillog

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/trail"
)

// BenchmarkFollow follows the messages of a log. YORVET_BENCH_MESSAGES says how many there
// are, 100,000 otherwise; x-grep is how fast it is beside grep -c of a text that is in
// every other line, both on one processor.
func BenchmarkFollow(b *testing.B) {
	messages := 100_000
	_, _ = fmt.Sscan(os.Getenv("YORVET_BENCH_MESSAGES"), &messages)
	path := filepath.Join(b.TempDir(), "mail.log")
	f, err := os.Create(path)
	if err == nil {
		err = generate(f, messages, 1)
	}
	if err != nil {
		b.Fatal(err)
	}
	f.Close()
	info, err := os.Stat(path)
	if err != nil {
		b.Fatal(err)
	}
	megabytes := float64(info.Size()) / 1e6
	for _, processors := range []int{1, 2} {
		b.Run(fmt.Sprint(processors, "-processors"), func(b *testing.B) {
			defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(processors))
			defer debug.SetGCPercent(debug.SetGCPercent(GCPercent))
			for b.Loop() {
				grep := clock.Now()
				out, err := exec.Command("grep", "-c", "status=sent", path).CombinedOutput()
				if err != nil {
					b.Fatal(err, string(out))
				}
				theirs := clock.Since(grep)
				start, stories := clock.Now(), 0
				t := trail.NewTracker(func(*trail.Story) { stories++ })
				counts, err := Read(b.Context(), []string{path}, nil, Options{Zone: time.UTC, Now: clock.Now()}, t.Add)
				t.End()
				mine := clock.Since(start)
				if err != nil || stories != messages || counts.Unknown != 0 {
					b.Fatal(err, stories, counts.Samples)
				}
				b.ReportMetric(megabytes, "MB")
				b.ReportMetric(megabytes/mine.Seconds(), "MB/s")
				b.ReportMetric(theirs.Seconds()/mine.Seconds(), "x-grep")
				b.ReportMetric(float64(bytes.Count([]byte(out), []byte("\n"))), "greps")
			}
		})
	}
}
