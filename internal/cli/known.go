package cli

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/localfile"
)

// knownFlag names the file that remembers what has been told of sources.
func knownFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "known",
		Usage: "of what is not taken and where sources differ, tell only what a `FILE` does not have yet, and note it there",
	}
}

// mostKnown is the size in bytes of a file of what is known.
const mostKnown = 64 << 20

// forget takes out of merged sources what the file of --known has: remarks, and where the
// sources differ. What it returns notes the rest there.
func forget(ctx context.Context, cmd *cli.Command, m *directory.Merged) (remember func() error, err error) {
	path := cmd.String("known")
	if path == "" {
		return func() error { return nil }, nil
	}
	data, err := localfile.Read(ctx, path, mostKnown)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, usageError("--known: %w", err)
	}
	known := map[string]bool{}
	for line := range strings.Lines(string(data)) {
		known[strings.TrimRight(line, "\r\n")] = true
	}
	found := map[string]bool{}
	isKnown := func(text string) bool {
		text = strings.Join(strings.Fields(text), " ")
		found[text] = true
		return known[text]
	}
	// Lines move when others come before them.
	m.Remarks = slices.DeleteFunc(m.Remarks, func(r directory.Remark) bool { return isKnown(r.Source + ": " + r.Text) })
	m.Conflicts = slices.DeleteFunc(m.Conflicts, func(c directory.Conflict) bool {
		return isKnown(c.Who + ": " + c.What + " is " + c.Taken.Value + ", not " + c.Left.Value)
	})
	return func() error {
		text := strings.Join(slices.Sorted(maps.Keys(found)), "\n") + "\n"
		if text == string(data) || len(found) == 0 && len(data) == 0 {
			return nil
		}
		if err := localfile.Write(path, []byte(text), 0o644); err != nil {
			return usageError("--known: %w", err)
		}
		return nil
	}, nil
}
