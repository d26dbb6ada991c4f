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

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/sample"
)

// size is that of a generated estate.
type size struct {
	name                        string
	people, groups, memberships int
}

var sizes = []size{{"medium", 20_000, 4_000, 400_000}, {"large", 100_000, 20_000, 2_000_000}}

var tables = []string{"people.csv", "groups.csv", "memberships.csv"}

// generate writes an estate of a size in tables, and returns their bytes.
func generate(b *testing.B, dir string, s size) int64 {
	b.Helper()
	bytes, err := sample.Tables(dir, s.people, s.groups, s.memberships)
	if err != nil {
		b.Fatal(err)
	}
	return bytes
}

// readCSV reads the tables with package csv and does nothing with them.
func readCSV(b *testing.B, dir string) time.Duration {
	b.Helper()
	start := time.Now()
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
	return time.Since(start)
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
				start := time.Now()
				if _, err := estatefile.Load(context.Background(), filepath.Join(dir, "estate.yaml")); err != nil {
					b.Fatal(err)
				}
				ratios = append(ratios, float64(time.Since(start))/float64(plain))
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
			for id := range estate.ID(e.Groups()) {
				if n := len(r.Deliver(id, nil, resolve.Message{}).Recipients); n > most {
					largest, most = id, n
				}
			}
			b.ReportMetric(float64(most), "recipients")
			for b.Loop() {
				r := resolve.New(e, today)
				sender := r.Sender(address.MustParse("person.000007@kelpmere.example"))
				r.Judge(largest, sender, resolve.Message{})
				r.Deliver(largest, &sender, resolve.Message{})
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
				cmd := exec.Command(program, "--estate", dir+"/estate.yaml", "who", "receives", fmt.Sprintf("group-%05d@kelpmere.example", s.groups-1), "--json")
				if err := cmd.Start(); err != nil {
					b.Fatal(err)
				}
				done := make(chan error)
				go func() { done <- cmd.Wait() }()
				for running := true; running; {
					select {
					case err := <-done:
						if err != nil {
							b.Fatal(err)
						}
						running = false
					case <-time.After(2 * time.Millisecond):
						peak = max(peak, peakMemory(cmd.Process.Pid))
					}
				}
			}
			b.ReportMetric(float64(peak)/1024, "peak-MiB")
		})
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
		if s.name == "medium" {
			b.Run("check/"+s.name, func(b *testing.B) {
				for b.Loop() {
					r := load(b, dir)
					present.NewHazards(r, hazard.All(), hazard.Run(r, hazard.All()), present.HazardLayout{})
				}
			})
			for name, scattered := range map[string]bool{"compare/": false, "compare-scattered/": true} {
				b.Run(name+s.name, func(b *testing.B) {
					changed := change(b, dir, scattered)
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

// change writes a generated estate anew, one line in a hundred being different:
// scattered over all groups, or together in few of them.
func change(b *testing.B, dir string, scattered bool) string {
	b.Helper()
	other := b.TempDir()
	for _, name := range append([]string{"estate.yaml"}, tables...) {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			b.Fatal(err)
		}
		lines := strings.SplitAfter(string(data), "\n")
		for i := range lines {
			switch {
			case scattered && i%100 != 50:
			case !scattered && (i*100 < len(lines)*50 || i*100 >= len(lines)*51):
			case name == "memberships.csv":
				lines[i] = strings.Replace(lines[i], ",every,", ",none,", 1)
			case name == "groups.csv":
				lines[i] = strings.Replace(lines[i], "admit anyone", "admit inside", 1)
			}
		}
		if err := os.WriteFile(filepath.Join(other, name), []byte(strings.Join(lines, "")), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	return other
}
