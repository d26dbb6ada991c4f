package main

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/sample"
)

// size is a generated estate: one whose groups are alike, or one with the heavy tails of real
// ones.
type size struct {
	name  string
	size  sample.Size
	heavy bool
}

var sizes = []size{
	{"medium", sample.Size{People: 20_000, Groups: 4_000, Memberships: 400_000}, false},
	{"large", sample.Size{People: 100_000, Groups: 20_000, Memberships: 2_000_000}, false},
	{"heavy-medium", sample.Medium, true},
	{"heavy-large", sample.Large, true},
}

var tables = []string{"people.csv", "groups.csv", "memberships.csv"}

// generate writes an estate of a size in tables, and returns their bytes.
func generate(b *testing.B, dir string, s size) int64 {
	b.Helper()
	var bytes int64
	var err error
	if s.heavy {
		bytes, err = sample.Heavy(dir, s.size, 1)
	} else {
		bytes, err = sample.Tables(dir, s.size.People, s.size.Groups, s.size.Memberships)
	}
	if err != nil {
		b.Fatal(err)
	}
	return bytes
}

// readCSV reads the tables with package csv and does nothing with them.
func readCSV(b *testing.B, dir string) time.Duration {
	b.Helper()
	start := clock.Now()
	for _, table := range tables {
		f, err := os.Open(filepath.Join(dir, table))
		if err != nil {
			b.Fatal(err)
		}
		reader := csv.NewReader(f)
		reader.ReuseRecord = true
		for err == nil {
			_, err = reader.Read()
		}
		f.Close()
		if !errors.Is(err, io.EOF) {
			b.Fatal(err)
		}
	}
	return clock.Since(start)
}

// BenchmarkLoad loads generated estates, each time beside what package csv alone
// needs for the same tables: x-csv is the median of that ratio.
func BenchmarkLoad(b *testing.B) {
	for _, s := range sizes {
		b.Run(s.name, func(b *testing.B) {
			dir := b.TempDir()
			b.SetBytes(generate(b, dir, s))
			var ratios []float64
			for b.Loop() {
				b.StopTimer()
				plain := readCSV(b, dir)
				b.StartTimer()
				start := clock.Now()
				if _, err := estatefile.Load(context.Background(), filepath.Join(dir, "estate.yaml")); err != nil {
					b.Fatal(err)
				}
				ratios = append(ratios, float64(clock.Since(start))/float64(plain))
			}
			slices.Sort(ratios)
			b.ReportMetric(ratios[len(ratios)/2], "x-csv")
		})
	}
}

// BenchmarkReceives answers who receives a message to the group that reaches
// most, of a loaded estate: anew each time, as one run of the program does.
func BenchmarkReceives(b *testing.B) {
	for _, s := range sizes {
		b.Run(s.name, func(b *testing.B) {
			dir := b.TempDir()
			generate(b, dir, s)
			e, err := estatefile.Load(context.Background(), filepath.Join(dir, "estate.yaml"))
			if err != nil {
				b.Fatal(err)
			}
			today, _ := estate.ParseDay("2026-11-23")
			largest, most := estate.ID(0), 0
			r := resolve.New(e, today)
			r.Survey()
			for id := range estate.ID(e.Groups()) {
				n := 0
				for _, people := range r.Flow(id, resolve.Message{}).Counts() {
					n += people
				}
				if n > most {
					largest, most = id, n
				}
			}
			b.ReportMetric(float64(most), "recipients")
			for b.Loop() {
				r := resolve.New(e, today)
				sender := r.Sender(address.MustParse("person.000007@kelpmere.example"))
				r.Gate(largest).Judge(sender, resolve.Message{})
				r.Deliver(resolve.Query{Group: largest, Sender: &sender})
			}
		})
	}
}

// BenchmarkProgram runs the whole program on generated estates, and reports its
// peak memory.
func BenchmarkProgram(b *testing.B) {
	for _, s := range sizes {
		b.Run(s.name, func(b *testing.B) {
			dir := b.TempDir()
			generate(b, dir, s)
			peak := 0
			for b.Loop() {
				_, used := runProgram(b, "--estate", dir+"/estate.yaml", "who", "receives", fmt.Sprintf("group-%05d", s.size.Groups-1),
					"--json")
				peak = max(peak, used)
			}
			b.ReportMetric(float64(peak)/1024, "peak-MiB")
		})
	}
}

// runProgram runs the program once, and returns how long it took and the kibibytes that it used
// at most. It may find hazards or broken expectations.
func runProgram(b *testing.B, args ...string) (time.Duration, int) {
	b.Helper()
	start := clock.Now()
	cmd := exec.Command(program, args...)
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	done := make(chan error)
	go func() { done <- cmd.Wait() }()
	peak := 0
	for {
		select {
		case err := <-done:
			if exit := (*exec.ExitError)(nil); err != nil && !(errors.As(err, &exit) && exit.ExitCode() == 1) {
				b.Fatal(err)
			}
			return clock.Since(start), peak
		case <-time.After(2 * time.Millisecond):
			peak = max(peak, peakMemory(cmd.Process.Pid))
		}
	}
}

// BenchmarkMarks runs the commands that look at a whole estate with heavy tails, each time beside
// what package csv alone needs for its tables: x-csv is the median of that ratio.
func BenchmarkMarks(b *testing.B) {
	dir := b.TempDir()
	b.Setenv("XDG_CACHE_HOME", b.TempDir())
	b.Setenv("XDG_STATE_HOME", b.TempDir())
	generate(b, dir, size{"heavy-large", sample.Large, true})
	changed := change(b, dir, func(lines, i int) bool { return i%10_000 == 5 }, func(line string) string {
		if strings.Contains(line, ".example,person.") {
			return "" // a membership less
		}
		return line
	})
	shuffled := change(b, dir, func(int, int) bool { return false }, nil)
	if err := sample.Shuffle(filepath.Join(shuffled, "memberships.csv"), 1); err != nil {
		b.Fatal(err)
	}
	at := dir + "/estate.yaml"
	expectations := filepath.Join(dir, "some.expect")
	var text strings.Builder
	for i := range 50 {
		fmt.Fprintf(&text, "to group-%05d@kelpmere.example\n  admits inside\n  reaches members\n  never reaches outside\n"+
			"  approves at least 1\n", i*397)
	}
	if err := os.WriteFile(expectations, []byte(text.String()), 0o644); err != nil {
		b.Fatal(err)
	}
	for _, mark := range []struct {
		name string
		args []string
	}{
		{"receives", []string{"--estate", at, "who", "receives", "group-00003"}},
		{"receives-shuffled", []string{"--estate", shuffled + "/estate.yaml", "who", "receives", "group-00003"}},
		{"matrix", []string{"--estate", at, "matrix"}},
		{"check", []string{"--estate", at, "check"}},
		{"compare", []string{"compare", at, changed + "/estate.yaml"}},
		{"expect", []string{"--estate", at, "expect", expectations}},
		{"preview", []string{"--estate", at, "member", "add", "group-00010", "person.000777", "--preview"}},
	} {
		for _, warm := range []bool{false, true} {
			name, args := mark.name+"/cold", append([]string{"--no-cache"}, mark.args...)
			if warm { // the estate is in the cache
				name, args = mark.name+"/warm", mark.args
				runProgram(b, args...)
			}
			b.Run(name, func(b *testing.B) {
				var ratios []float64
				peak := 0
				for b.Loop() {
					plain := readCSV(b, dir)
					took, used := runProgram(b, args...)
					ratios, peak = append(ratios, float64(took)/float64(plain)), max(peak, used)
				}
				slices.Sort(ratios)
				b.ReportMetric(ratios[len(ratios)/2], "x-csv")
				b.ReportMetric(float64(peak)/1024, "peak-MiB")
			})
		}
	}
}

// peakMemory returns the kibibytes that a running process has used at most so
// far, as Linux counts them. What the kernel tells of an ended process includes
// the process that started it.
func peakMemory(pid int) int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(status), "VmHWM:")
	peak := 0
	_, _ = fmt.Sscan(rest, &peak)
	return peak
}

// BenchmarkWhole asks what concerns a whole estate, loading included.
func BenchmarkWhole(b *testing.B) {
	for _, s := range sizes {
		dir := b.TempDir()
		generate(b, dir, s)
		load := func(b *testing.B, dir string) *resolve.Resolver {
			e, err := estatefile.Load(context.Background(), filepath.Join(dir, "estate.yaml"))
			if err != nil {
				b.Fatal(err)
			}
			today, _ := estate.ParseDay("2026-11-23")
			return resolve.New(e, today)
		}
		b.Run("matrix/"+s.name, func(b *testing.B) {
			for b.Loop() {
				present.NewMatrix(load(b, dir))
			}
		})
		if strings.HasSuffix(s.name, "medium") {
			b.Run("check/"+s.name, func(b *testing.B) {
				for b.Loop() {
					r := load(b, dir)
					present.NewHazards(r, hazard.All(), hazard.Run(r, hazard.All()), present.HazardLayout{})
				}
			})
			for name, scattered := range map[string]bool{"compare/": false, "compare-scattered/": true} {
				b.Run(name+s.name, func(b *testing.B) {
					changed := change(b, dir, func(lines, i int) bool {
						return scattered && i%100 == 50 || !scattered && i*100 >= lines*50 && i*100 < lines*51
					}, otherwise)
					for b.Loop() {
						older := make(chan *resolve.Resolver)
						go func() { older <- load(b, dir) }()
						newer := load(b, changed)
						present.NewComparison(<-older, newer)
					}
				})
			}
		}
	}
}

// change writes a generated estate anew, some of its lines being different: those that are
// chosen, of so many, and number i.
func change(b *testing.B, dir string, chosen func(lines, i int) bool, differ func(string) string) string {
	b.Helper()
	other := b.TempDir()
	for _, name := range append([]string{"estate.yaml"}, tables...) {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			b.Fatal(err)
		}
		lines := strings.SplitAfter(string(data), "\n")
		for i := range lines {
			if name != "estate.yaml" && name != "people.csv" && i > 0 && chosen(len(lines), i) {
				lines[i] = differ(lines[i])
			}
		}
		if err := os.WriteFile(filepath.Join(other, name), []byte(strings.Join(lines, "")), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return other
}

// otherwise is a line of memberships or groups that says something else.
func otherwise(line string) string {
	return strings.Replace(strings.Replace(line, ",every,", ",none,", 1), "admit anyone", "admit inside", 1)
}
