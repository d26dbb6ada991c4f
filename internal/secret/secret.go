// Package secret holds secrets, which never show in text, and fetches them from
// where they are kept: never from a command line or a file of settings.
package secret

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// A Text is a secret: a text that is never printed: not even as part of something else, for
// which it is behind a pointer.
type Text struct{ text *string }

// New returns a secret.
func New(text string) Text { return Text{&text} }

// String hides the secret.
func (Text) String() string { return "(secret)" }

// GoString hides the secret.
func (Text) GoString() string { return "(secret)" }

// MarshalText hides the secret.
func (Text) MarshalText() ([]byte, error) { return []byte("(secret)"), nil }

// Reveal returns the secret, for whoever is to be shown it.
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

// Fetch fetches the secret, the first line of what is there. Files and commands
// are meant from a folder.
func (s *From) Fetch(ctx context.Context, folder string) (Text, error) {
	text, err := s.fetch(ctx, folder)
	return New(text), err
}

func (s *From) fetch(ctx context.Context, folder string) (string, error) {
	switch {
	case s.Environment != "" && s.File == "" && s.Command == nil:
		text, ok := os.LookupEnv(s.Environment)
		if !ok || text == "" {
			return "", fmt.Errorf("the environment variable %s, which holds the secret, is not set", s.Environment)
		}
		return text, nil
	case s.File != "" && s.Environment == "" && s.Command == nil:
		path := s.File
		if !filepath.IsAbs(path) {
			path = filepath.Join(folder, path)
		}
		info, err := os.Stat(path)
		if err != nil {
			return "", err
		}
		if info.Mode().Perm()&0o077 != 0 {
			return "", fmt.Errorf("others may read %s, which holds the secret; expected permissions 0600", s.File)
		}
		data, err := os.ReadFile(path)
		return firstLine(data, s.File, err)
	case len(s.Command) > 0 && s.Environment == "" && s.File == "":
		var output bytes.Buffer
		cmd := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
		cmd.Dir, cmd.Stdout, cmd.Stderr = folder, &output, os.Stderr
		err := cmd.Run()
		return firstLine(output.Bytes(), s.Command[0], err)
	}
	return "", errors.New("a secret comes from one of environment, file or command")
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
