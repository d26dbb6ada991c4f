// Package secret holds secrets, which never show in text, and fetches them from
// where they are kept: never from a command line or a file of settings.
package secret

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/localfile"
)

// A Text is a secret: a text that is never printed: not even as part of something else, for
// which it is behind a pointer.
type Text struct{ text *string }

// New returns a secret, which Hide takes out of texts.
func New(text string) Text {
	note(text)
	return Text{&text}
}

// String hides the secret.
func (Text) String() string { return "(secret)" }

// GoString hides the secret.
func (Text) GoString() string { return "(secret)" }

// MarshalText hides the secret.
func (Text) MarshalText() ([]byte, error) { return []byte("(secret)"), nil }

// Reveal returns the secret, for anyone who is to be shown it.
func (s Text) Reveal() string {
	if s.text == nil {
		return ""
	}
	return *s.text
}

// From says where a secret is: in an environment variable, in a file that only
// its owner may read, or in the output of a command. One of them is given.
type From struct {
	Environment string   `yaml:"environment"`
	File        string   `yaml:"file"`
	Command     []string `yaml:"command"`
}

// Check returns an error unless one place is given.
func (s *From) Check() error {
	given := 0
	for _, there := range []bool{s.Environment != "", s.File != "", len(s.Command) > 0} {
		if there {
			given++
		}
	}
	if given != 1 {
		return errors.New("a secret comes from one of environment, file or command")
	}
	return nil
}

// Bounds of what is fetched.
const (
	mostSecret = 64 << 10    // bytes of a file, or of what a command writes
	patience   = time.Minute // with a command
)

// Fetch fetches the secret, the first line of what is there. settings is the file
// that says where it is: files and commands are meant from its folder. A command is
// run only if nobody but the user and root can have written that file.
func (s *From) Fetch(ctx context.Context, settings string) (Text, error) {
	text, err := s.fetch(ctx, settings)
	return New(text), err
}

func (s *From) fetch(ctx context.Context, settings string) (string, error) {
	folder := filepath.Dir(settings)
	if err := s.Check(); err != nil {
		return "", err
	}
	switch {
	case s.Environment != "":
		text, ok := os.LookupEnv(s.Environment)
		if !ok || text == "" {
			return "", fmt.Errorf("the environment variable %s, which holds the secret, is not set", s.Environment)
		}
		return text, nil
	case s.File != "":
		path := s.File
		if !filepath.IsAbs(path) {
			path = filepath.Join(folder, path)
		}
		return readFile(ctx, path, s.File)
	default:
		if err := localfile.Trusted(settings); err != nil {
			return "", fmt.Errorf("the command that gives the secret is not run: %w; "+
				"expected that only you can write %s and the folders above it", err, settings)
		}
		return run(ctx, folder, s.Command)
	}
}

// readFile reads a secret from a file that only its owner may read; shown is how it
// is called in errors.
func readFile(ctx context.Context, path, shown string) (string, error) {
	f, err := localfile.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("others may read %s, which holds the secret; expected permissions 0600", shown)
	}
	data, err := localfile.ReadAll(ctx, f, shown, mostSecret)
	return firstLine(data, shown, err)
}

// run returns what a command writes. It gets no standard input, and ends with ctx
// or after a while.
func run(ctx context.Context, folder string, command []string) (string, error) {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Dir, cmd.Stderr, cmd.WaitDelay = folder, os.Stderr, time.Second
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w", command[0], err)
	}
	data, err := localfile.ReadAll(ctx, out, command[0], mostSecret)
	if err != nil {
		stop()
	}
	if ended := cmd.Wait(); err == nil {
		err = ended
	}
	return firstLine(data, command[0], err)
}

func firstLine(data []byte, where string, err error) (string, error) {
	var bad *fs.PathError
	switch {
	case errors.As(err, &bad):
		return "", err
	case err != nil:
		return "", fmt.Errorf("%s: %w", where, err)
	}
	line, _, _ := strings.Cut(string(data), "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return "", fmt.Errorf("%s gives no secret", where)
	}
	return line, nil
}
