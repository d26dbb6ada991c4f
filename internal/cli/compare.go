package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/source"
)

func newCompare(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "what changes for whom from one estate to another",
		ArgsUsage: "OLD NEW",
		Description: "Not the texts are compared, but what they do: who may post, who receives and how, who speaks,\n" +
			"which hazards appear and go, and which welcome notices would go out. OLD and NEW are files or\n" +
			"folders, REV:PATH for a revision of the git repository around, the path seen from here, or sources\n" +
			"as import takes them. A source beside an estate stands for the estate as the source would have it:\n" +
			"that shows what has drifted, and the exit code is 1 if anything has.\n\n" +
			"Example: yorvet compare estate served",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "same", Usage: "the exit code is 1 if anything changes"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usageError("compare needs two estates, OLD and NEW")
			}
			format, err := formatOf(cmd)
			if err != nil {
				return err
			}
			today, err := dayOf(cmd)
			if err != nil {
				return err
			}
			sides, err := compareSides(ctx, cmd.Args().Get(0), cmd.Args().Get(1), today, streams.Err)
			if err != nil {
				return err
			}
			s := &session{cmd: cmd, streams: streams, format: format}
			answer := present.NewComparison(sides[0], sides[1])
			if err := s.print(answer); err != nil {
				return err
			}
			drift := source.Is(cmd.Args().Get(0)) || source.Is(cmd.Args().Get(1))
			if (drift || cmd.Bool("same")) && !answer.IsEmpty() {
				return errWrong
			}
			return nil
		},
	}
}

// loadSide loads an estate from a path, or from a revision as REV:PATH.
func loadSide(ctx context.Context, name string) (*estate.Estate, error) {
	revision, path, ok := strings.Cut(name, ":")
	if _, err := os.Stat(name); err == nil || source.Is(name) || !ok || revision == "" || path == "" {
		return loadEstate(ctx, name)
	}
	dir, err := os.MkdirTemp("", "yorvet-revision-")
	if err != nil {
		return nil, usageError("%v", err)
	}
	defer os.RemoveAll(dir)
	if err := checkOut(ctx, revision, path, dir); err != nil {
		return nil, usageError("%s: %v", name, err)
	}
	prefix := dir + string(filepath.Separator)
	e, err := estatefile.LoadAs(filepath.Join(dir, path), func(file string) string { return revision + ":" + strings.TrimPrefix(file, prefix) })
	if err != nil {
		return nil, errors.New(strings.ReplaceAll(loadError(name, err).Error(), prefix, revision+":"))
	}
	return e, nil
}

// checkOut writes what a revision has at a path, and beside it where it is a
// file, below a folder.
func checkOut(ctx context.Context, revision, path, dir string) error {
	if strings.HasPrefix(revision, "-") || filepath.IsAbs(path) || !filepath.IsLocal(filepath.Clean(path)) {
		return errors.New("expected REV:PATH with a path below this folder")
	}
	around := path
	if strings.HasSuffix(path, ".yaml") {
		around = filepath.Dir(path) // tables stand beside it
	}
	var archive, problem bytes.Buffer
	git := exec.CommandContext(ctx, "git", "archive", "--format=tar", revision, "--", filepath.ToSlash(around))
	git.Stdout, git.Stderr = &archive, &problem
	if err := git.Run(); err != nil {
		return fmt.Errorf("git cannot show it: %s", strings.TrimSpace(problem.String()+" "+err.Error()))
	}
	reader := tar.NewReader(&archive)
	for {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if header.Typeflag != tar.TypeReg || !filepath.IsLocal(header.Name) {
			continue
		}
		to := filepath.Join(dir, filepath.FromSlash(header.Name))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		data, err := io.ReadAll(reader)
		if err == nil {
			err = os.WriteFile(to, data, 0o600)
		}
		if err != nil {
			return err
		}
	}
}
