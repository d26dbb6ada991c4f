package cli

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/standin"
)

// The rehearsal of the demo: a stand-in that serves the estate as it really is,
// and a probe with the estate as it is written down.
const (
	rehearsalFolder = "rehearsal"
	rehearsalLimits = "  pace: 400\n  people: 100\n  connections: 60\n  patience: 60s\n  quiet: 2s\n  look-every: 1s\n " +
		" settle: 500ms\n"
	rehearsalDigest = 300 * time.Millisecond
)

// rehearsed is a stand-in that serves the demo, with a folder of its own.
type rehearsed struct {
	service *standin.Service
	folder  string
}

// rehearsal starts a stand-in that serves the demo as the mail service really has it. It
// returns the probe that is sent there.
func rehearsal(ctx context.Context, dir string, day estate.Day) (*rehearsed, *ask.Probe, error) {
	r := &rehearsed{folder: filepath.Join(dir, rehearsalFolder)}
	if err := os.Mkdir(r.folder, 0o700); err != nil {
		return nil, nil, ask.Errorf("the demo needs a folder of its own for the rehearsal: %w", err)
	}
	q, err := r.serve(ctx, dir, day)
	if err != nil {
		r.close()
	}
	return r, q, err
}

// close ends the stand-in, and leaves nothing behind.
func (r *rehearsed) close() {
	if r.service != nil {
		r.service.Close()
	}
	os.RemoveAll(r.folder)
}

func (r *rehearsed) serve(ctx context.Context, dir string, day estate.Day) (*ask.Probe, error) {
	service, err := serveDemo(ctx, filepath.Join(dir, "served"), r.folder, day)
	if err != nil {
		return nil, err
	}
	r.service = service
	ready := service.Ready()
	if ready.Certificate, err = filepath.Abs(ready.Certificate); err != nil {
		return nil, ask.Errorf("%w", err)
	}
	connectionsFile := filepath.Join(r.folder, "connections.yaml")
	text := ready.ConnectionsFile("secret", []string{"guest@holiday.example"}, rehearsalLimits)
	if err := localfile.WritePrivate(connectionsFile, []byte(text)); err != nil {
		return nil, ask.Errorf("%w", err)
	}
	return &ask.Probe{File: connectionsFile, Named: true, Run: "rehearsal"}, nil
}

// serveDemo starts a stand-in with the estate at a path, which keeps its things in a
// folder.
func serveDemo(ctx context.Context, path, folder string, today estate.Day) (*standin.Service, error) {
	password, err := standin.Secret(ctx, filepath.Join(folder, "secret"))
	if err != nil {
		return nil, ask.Errorf("%w", err)
	}
	served, err := estatefile.Load(ctx, path)
	if err != nil {
		return nil, ask.LoadError(path, err)
	}
	day, err := time.Parse(time.DateOnly, today.String())
	if err != nil {
		return nil, err
	}
	began := clock.Now()
	service, err := standin.Start(standin.Options{
		Estate:          served,
		Secret:          password,
		CertificateFile: filepath.Join(folder, "authority.pem"),
		DigestEvery:     rehearsalDigest,
		Now:             func() time.Time { return day.Add(12*time.Hour + clock.Since(began)) },
	})
	if err != nil {
		return nil, ask.Network(err)
	}
	return service, nil
}
