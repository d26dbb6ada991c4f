package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/standin"
)

// The rehearsal of the demo: a stand-in that serves the estate as it really is,
// and a probe with the estate as it is written down.
const (
	rehearsalFolder = "rehearsal"
	rehearsalLimits = "  pace: 400\n  people: 100\n  connections: 60\n  patience: 12s\n  quiet: 2s\n  look-every: 1s\n " +
		" settle: 500ms\n"
	rehearsalDigest = 300 * time.Millisecond
)

// rehearse proves the demo's answers with real messages, on this machine only, and
// leaves nothing behind.
func rehearse(ctx context.Context, dir, program string, streams Streams) error {
	folder := filepath.Join(dir, rehearsalFolder)
	if err := os.Mkdir(folder, 0o700); err != nil {
		return usageError("the demo needs a folder of its own for the rehearsal: %w", err)
	}
	defer os.RemoveAll(folder)
	service, err := serveDemo(ctx, filepath.Join(dir, "served"), folder)
	if err != nil {
		return err
	}
	defer service.Close()
	ready := service.Ready()
	if ready.Certificate, err = filepath.Abs(ready.Certificate); err != nil {
		return usageError("%w", err)
	}
	connectionsFile := filepath.Join(folder, "connections.yaml")
	text := ready.ConnectionsFile("secret", []string{"guest@holiday.example"}, rehearsalLimits)
	if err := localfile.WritePrivate(connectionsFile, []byte(text)); err != nil {
		return usageError("%w", err)
	}
	w := streams.Out
	fmt.Fprintf(w, "\n")
	heading(w, fmt.Sprintf("%d. What does the mail service really do?", len(demoSteps)+1))
	present.Paragraph(w, "So far all was worked out from what is written down. Now a stand-in mail service "+
		"starts on this "+
		"machine, which behaves as the service really is set up. Yorvet sends it real messages, as strangers, members and "+
		"moderators, looks into all mailboxes, and finds the quiet differences.", pageOptions(w))
	args := []string{
		"--estate", filepath.Join(dir, demo.Estate), "--on", demoDate,
		"probe", "--connections", connectionsFile, "--runs", filepath.Join(folder, "runs"), "--run", "rehearsal", "--send",
	}
	fmt.Fprintf(w, "\n$ %s\n\n", present.Clean(shellLine(invocation(program), args)))
	if code := Run(ctx, append([]string{program}, args...), streams); code != exitAnswered && code != exitWrong {
		return usageError("the rehearsal of the demo ended with exit code %d", code)
	}
	return nil
}

// serveDemo starts a stand-in with the estate at a path, which keeps its things in a
// folder.
func serveDemo(ctx context.Context, path, folder string) (*standin.Service, error) {
	password, err := standin.Secret(ctx, filepath.Join(folder, "secret"))
	if err != nil {
		return nil, usageError("%w", err)
	}
	served, err := estatefile.Load(ctx, path)
	if err != nil {
		return nil, loadError(path, err)
	}
	day, err := time.Parse(time.DateOnly, demoDate)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	service, err := standin.Start(standin.Options{
		Estate:          served,
		Secret:          password,
		CertificateFile: filepath.Join(folder, "authority.pem"),
		DigestEvery:     rehearsalDigest,
		Now:             func() time.Time { return day.Add(12*time.Hour + time.Since(began)) },
	})
	if err != nil {
		return nil, networkError(err)
	}
	return service, nil
}
