// Command mutate puts small faults into a package, one at a time, and runs the
// package's own tests against each: a fault that they let live is a place that they
// do not look at. It is run by hand; nothing is written to the package.
//
//	go run ./internal/mutate -n 100 ./internal/directory
//	go run ./internal/mutate -n 100 -short ./internal/probe
//
// Faults are comparisons and conditions the other way round, statements that are left
// out, and numbers and truth values that are others. What changes nothing but the room that
// is kept for a list or a text, and files of other systems, are left alone. The exit code is
// 1 if more than a tenth of the faults live.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/build"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

func main() {
	n := flag.Int("n", 50, "how many `FAULTS` to try in each package, chosen at random; 0: all")
	seed := flag.Uint64("seed", 1, "the same `SEED` chooses the same faults")
	patience := flag.Duration("timeout", time.Minute, "how long the tests may take")
	short := flag.Bool("short", false, "leave out the tests that take long")
	workers := flag.Int("workers", 2, "how many are tried at once")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	alive, tried := 0, 0
	for _, dir := range flag.Args() {
		r := &run{dir: dir, patience: *patience, short: *short}
		a, all, err := r.try(ctx, *n, *seed, *workers)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		fmt.Printf("%s: %d of %d faults are found, %d live\n", dir, all-a, all, a)
		alive, tried = alive+a, tried+all
	}
	if alive*10 > tried {
		os.Exit(1)
	}
}

// run is the trial of one package.
type run struct {
	dir      string
	patience time.Duration
	short    bool
}

// try tries some faults of the package, and reports each that lives.
func (r *run) try(ctx context.Context, n int, seed uint64, workers int) (alive, tried int, err error) {
	files, err := filepath.Glob(filepath.Join(r.dir, "*.go"))
	if err != nil {
		return 0, 0, err
	}
	var all []fault
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		if here, err := build.Default.MatchFile(r.dir, filepath.Base(file)); err != nil || !here {
			continue // of another system: no test runs it
		}
		source, err := os.ReadFile(file)
		if err != nil {
			return 0, 0, err
		}
		found, err := faults(file, source)
		if err != nil {
			return 0, 0, err
		}
		all = append(all, found...)
	}
	if len(all) == 0 {
		return 0, 0, fmt.Errorf("%s holds no code to put faults into", r.dir)
	}
	if found, err := r.survives(ctx, nil); err != nil || !found {
		return 0, 0, errors.Join(fmt.Errorf("the tests of %s fail as they are", r.dir), err)
	}
	random := rand.New(rand.NewPCG(seed, 1))
	random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	var mutex sync.Mutex
	var done sync.WaitGroup
	next := 0
	for range workers {
		done.Go(func() {
			for {
				mutex.Lock()
				if next == len(all) || n > 0 && tried >= n || ctx.Err() != nil {
					mutex.Unlock()
					return
				}
				f := all[next]
				next++
				mutex.Unlock()
				lives, failure := r.survives(ctx, &f)
				if errors.Is(failure, errNoProgram) {
					continue // the compiler finds it
				}
				mutex.Lock()
				tried++
				if err = errors.Join(err, failure); lives && failure == nil {
					alive++
					fmt.Println(f)
				}
				mutex.Unlock()
			}
		})
	}
	done.Wait()
	return alive, tried, errors.Join(err, ctx.Err())
}

// errNoProgram says that what comes of a fault is no program.
var errNoProgram = errors.New("it does not compile")

// survives reports whether the tests pass with a fault, or without any.
func (r *run) survives(ctx context.Context, f *fault) (bool, error) {
	ctx, stop := context.WithTimeout(ctx, 2*r.patience)
	defer stop()
	args := []string{"test", "-count=1", "-timeout", r.patience.String(), "-vet=off"}
	if r.short {
		args = append(args, "-short")
	}
	if f != nil {
		overlay, remove, err := f.overlay()
		if err != nil {
			return false, err
		}
		defer remove()
		args = append(args, "-overlay", overlay)
	}
	out, err := exec.CommandContext(ctx, "go", append(args, "./"+filepath.Clean(r.dir))...).CombinedOutput()
	var failed *exec.ExitError
	switch {
	case err == nil:
		return true, nil
	case strings.Contains(string(out), "[build failed]"):
		return false, errNoProgram
	case errors.As(err, &failed) || ctx.Err() != nil:
		return false, nil
	}
	return false, err
}

// overlay writes what stands in the place of the faulty file, for the go command.
func (f *fault) overlay() (path string, remove func(), err error) {
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return "", nil, err
	}
	remove = func() { os.RemoveAll(dir) }
	original, err := filepath.Abs(f.file)
	faulty := filepath.Join(dir, "faulty.go")
	path = filepath.Join(dir, "overlay.json")
	if err == nil {
		err = os.WriteFile(faulty, f.apply(), 0o600)
	}
	var data []byte
	if err == nil {
		data, err = json.Marshal(map[string]map[string]string{"Replace": {original: faulty}})
	}
	if err == nil {
		err = os.WriteFile(path, data, 0o600)
	}
	if err != nil {
		remove()
	}
	return path, remove, err
}
