// Command release builds what is handed out of Yorvet: static programs for six systems with
// their licences, packages for Debian and RPM systems with man pages and completions, a list
// of what is built in, and the sums of all. Built twice from one commit it is the same.
//
// It is a module of its own: what it takes to make packages is no part of the program.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// targets are the systems that programs are built for.
var targets = []string{"linux/amd64", "linux/arm64", "darwin/amd64", "darwin/arm64", "windows/amd64", "windows/arm64"}

func main() {
	to := flag.String("o", "dist", "the `FOLDER` to build in")
	only := flag.String("only", "", "only for this `SYSTEM/MACHINE`")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, *to, *only); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// build is a release that is being built.
type build struct {
	root    string // of the repository
	to      string
	version string
	when    time.Time // of the commit: the time of all files
	files   []string  // that are handed out
}

func run(ctx context.Context, to, only string) error {
	b := &build{}
	var err error
	if b.root, err = output(ctx, ".", "git", "rev-parse", "--show-toplevel"); err != nil {
		return err
	}
	if b.to, err = filepath.Abs(to); err != nil {
		return err
	}
	if entries, err := os.ReadDir(b.to); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s holds files; name a new folder", b.to)
	}
	if err := b.describe(ctx); err != nil {
		return err
	}
	wanted := targets
	if only != "" {
		if wanted = []string{only}; !slices.Contains(targets, only) {
			return fmt.Errorf("-only %s: expected one of %s", only, strings.Join(targets, ", "))
		}
	}
	extras, err := b.extras(ctx)
	if err != nil {
		return err
	}
	for _, target := range wanted {
		if err := b.target(ctx, target, extras); err != nil {
			return fmt.Errorf("%s: %w", target, err)
		}
	}
	return b.sums()
}

// describe finds out what the version is called, and when it was made.
func (b *build) describe(ctx context.Context) error {
	seconds, err := output(ctx, b.root, "git", "log", "-1", "--format=%ct")
	if err != nil {
		return err
	}
	unix, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return err
	}
	b.when = time.Unix(unix, 0).UTC()
	commit, err := output(ctx, b.root, "git", "rev-parse", "--short=12", "HEAD")
	if err != nil {
		return err
	}
	// A tag such as v1.2.0 names a version; between tags it is called by its day and commit.
	b.version = "0.0." + b.when.Format("20060102") + "+" + commit
	if tag, err := output(ctx, b.root, "git", "describe", "--tags", "--exact-match", "--match", "v[0-9]*"); err == nil {
		b.version = strings.TrimPrefix(tag, "v")
	}
	changed, err := output(ctx, b.root, "git", "status", "--porcelain", "--untracked-files=no")
	if err == nil && changed != "" {
		return errors.New("there are changes that are not committed: a release is of a commit")
	}
	return err
}

// compile builds the program for a system.
func (b *build) compile(ctx context.Context, target, path string) error {
	system, machine, _ := strings.Cut(target, "/")
	cmd := exec.CommandContext(ctx, "go", "build", "-trimpath", "-buildvcs=false",
		"-ldflags", "-s -w -X yorvet.example/yorvet/internal/cli.release="+b.version, "-o", path, "./cmd/yorvet")
	cmd.Dir = b.root
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+machine, "GOFLAGS=", "GOAMD64=", "GOARM64=")
	cmd.Stderr = os.Stderr
	return cmd.Run()
}

// extras makes what goes with the programs of all systems, by one for this system: man pages
// and completions.
func (b *build) extras(ctx context.Context) (string, error) {
	dir := filepath.Join(b.to, "extras")
	here := filepath.Join(dir, "yorvet")
	if runtime.GOOS == "windows" {
		here += ".exe"
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	if err := b.compile(ctx, runtime.GOOS+"/"+runtime.GOARCH, here); err != nil {
		return "", err
	}
	if _, err := output(ctx, b.root, here, "manual", filepath.Join(dir, "man")); err != nil {
		return "", err
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		text, err := output(ctx, b.root, here, "completion", shell)
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, "yorvet."+shell), []byte(text+"\n"), 0o644)
		}
		if err != nil {
			return "", err
		}
	}
	return dir, os.Remove(here)
}

// target builds the program for a system, with all that is handed out of it.
func (b *build) target(ctx context.Context, target, extras string) error {
	name := "yorvet-" + b.version + "-" + strings.ReplaceAll(target, "/", "-")
	folder := filepath.Join(b.to, name)
	program := filepath.Join(folder, "yorvet")
	if strings.HasPrefix(target, "windows/") {
		program += ".exe"
	}
	if err := b.compile(ctx, target, program); err != nil {
		return err
	}
	bom, err := b.bill(program, target)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(b.to, name+".cdx.json"), bom, 0o644); err != nil {
		return err
	}
	b.files = append(b.files, name+".cdx.json")
	if err := b.archive(name, program, extras, bom); err != nil {
		return err
	}
	if machine, ok := strings.CutPrefix(target, "linux/"); ok {
		if err := b.packages(program, extras, machine); err != nil {
			return err
		}
	}
	return os.RemoveAll(folder)
}

// output runs a command and returns what it prints, without the last line end.
func output(ctx context.Context, dir, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = dir
	out, err := cmd.Output()
	if failed := (*exec.ExitError)(nil); errors.As(err, &failed) {
		err = fmt.Errorf("%s %s: %s", name, strings.Join(args, " "), strings.TrimSpace(string(failed.Stderr)))
	}
	return strings.TrimSuffix(string(out), "\n"), err
}
