package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/standin"
)

// portFlag is the flag for a port to listen at.
func portFlag(name, what string) cli.Flag {
	return &cli.IntFlag{Name: "port-" + name, Usage: "the `PORT` for " + what + " (default: any free port)"}
}

func newStandin(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "standin",
		Usage: "run a simulated mail service to rehearse on",
		Description: "It accepts mail over SMTP from outside and from those who log in, judges it by the estate, holds\n" +
			"it, makes copies and digests, and shows every mailbox over IMAP. It listens on this machine only,\n" +
			"unless --host says otherwise, and passes nothing on. Ports are any that are free.\n" +
			"It runs until it is interrupted; on a hang-up signal it reads the estate again.\n\n" +
			"Example: yorvet --estate served standin --connections connections.yaml",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "connections", Usage: "write a connections `FILE` with which yorvet probe reaches it"},
			&cli.StringFlag{Name: "ready", Usage: "write a `FILE` with its ports in JSON once it accepts mail"},
			&cli.StringFlag{Name: "certificate", Usage: "write the certificate of its own authority to a `FILE`"},
			&cli.StringFlag{
				Name:  "secret",
				Usage: "the `FILE` with the password of all logins; it is made if it is not there",
				Value: "standin.secret",
			},
			&cli.StringFlag{Name: "dir", Usage: "keep mail in a `FOLDER`, rather than in memory"},
			&cli.StringFlag{Name: "log", Usage: "append a line in JSON for each step of a message to a `FILE`"},
			&cli.StringFlag{Name: "faults", Usage: "a `FILE` that says what goes wrong, and who forwards their mail"},
			&cli.StringSliceFlag{
				Name:  "stranger",
				Usage: "an outside `ADDRESS` for the connections file to write from",
				Value: []string{"guest@holiday.example"},
			},
			&cli.StringFlag{Name: "host", Usage: "the `ADDRESS` to listen at", Value: "127.0.0.1"},
			portFlag("outside", "SMTP from outside"), portFlag("submission", "SMTP with a login and STARTTLS"),
			portFlag("submissions", "SMTP with a login and TLS"), portFlag("imap", "IMAP with STARTTLS"),
			portFlag("imaps", "IMAP with TLS"), portFlag("scim", "SCIM and JMAP"),
			&cli.StringFlag{
				Name:  "clock",
				Usage: "the `TIME` by the service's clock when it starts, such as 2026-11-23T08:00:00Z (default: now)",
			},
			&cli.DurationFlag{Name: "digest-every", Usage: "the `TIME` for which digests collect", Value: 2 * time.Second},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error { return runStandin(ctx, cmd, streams) },
	}
}

func runStandin(ctx context.Context, cmd *cli.Command, streams Streams) error {
	if cmd.Args().Len() > 0 {
		return ask.Errorf("standin takes flags only, not %q", cmd.Args().First())
	}
	s, err := open(ctx, cmd, streams)
	if err != nil {
		return err
	}
	options, err := standinOptions(ctx, cmd, s.Estate)
	if err != nil {
		return err
	}
	if path := cmd.String("log"); path != "" {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if bad := (*fs.PathError)(nil); errors.As(err, &bad) {
			return ask.Errorf("%w", &fs.PathError{Op: "write", Path: path, Err: bad.Err})
		}
		if err != nil {
			return ask.Errorf("%w", err)
		}
		defer f.Close()
		options.Log = f
	}
	service, err := standin.Start(options)
	if err != nil {
		return ask.Network(err)
	}
	defer service.Close()
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	defer signal.Stop(again)
	if err := announce(cmd, service.Ready(), streams.Out); err != nil { // from here on it is asked things
		return err
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-again:
			if e, err := loadNamed(ctx, cmd); err != nil {
				fmt.Fprintln(streams.Err, err)
			} else {
				service.Reload(e)
			}
		}
	}
}

// standinOptions returns what the command line says of the service, but for its log.
func standinOptions(ctx context.Context, cmd *cli.Command, e *estate.Estate) (standin.Options, error) {
	options := standin.Options{
		Estate:          e,
		Host:            cmd.String("host"),
		Dir:             cmd.String("dir"),
		DigestEvery:     cmd.Duration("digest-every"),
		CertificateFile: cmd.String("certificate"),
		Outside:         cmd.Int("port-outside"),
		Submission:      cmd.Int("port-submission"),
		Submissions:     cmd.Int("port-submissions"),
		IMAP:            cmd.Int("port-imap"),
		IMAPS:           cmd.Int("port-imaps"),
		SCIM:            cmd.Int("port-scim"),
	}
	if start := cmd.String("clock"); start != "" {
		from, err := time.Parse(time.RFC3339, start)
		if err != nil {
			return options, ask.Errorf("--clock: %q is no time, expected one such as 2026-11-23T08:00:00Z", start)
		}
		began := clock.Now()
		options.Now = func() time.Time { return from.Add(clock.Since(began)) }
	}
	var err error
	if options.Secret, err = standin.Secret(ctx, cmd.String("secret")); err != nil {
		return options, ask.Errorf("%w", err)
	}
	if path := cmd.String("faults"); path != "" {
		if options.Faults, err = standin.ReadFaults(ctx, path); err != nil {
			return options, ask.Errorf("%w", err)
		}
	}
	if options.CertificateFile == "" && cmd.String("connections") != "" {
		options.CertificateFile = cmd.String("connections") + ".authority.pem"
	}
	return options, nil
}

// keepOutOfGit has git leave out files, each in its folder, or tells that somebody
// else decides there.
func keepOutOfGit(w io.Writer, paths ...string) error {
	for _, path := range paths {
		missing, err := localfile.Ignore(filepath.Dir(path), "/"+filepath.Base(path))
		if err != nil {
			return ask.Errorf("%w", err)
		}
		for _, pattern := range missing {
			fmt.Fprintf(w, "%s does not name %s: add it, so that git leaves the file out\n",
				filepath.Join(filepath.Dir(path), ".gitignore"), pattern)
		}
	}
	return nil
}

// announce writes the files that say how to reach a service, and reports it.
func announce(cmd *cli.Command, ready standin.Ready, w io.Writer) error {
	if path := cmd.String("connections"); path != "" {
		secret, err := filepath.Abs(cmd.String("secret"))
		if err != nil {
			return ask.Errorf("%w", err)
		}
		if ready.Certificate, err = filepath.Abs(ready.Certificate); err != nil {
			return ask.Errorf("%w", err)
		}
		const limits = "  pace: 200\n  people: 100\n  connections: 60\n  patience: 20s\n  quiet: 5s\n  look-every: 2s\n  " +
			"settle: 1s\n"
		text := ready.ConnectionsFile(secret, cmd.StringSlice("stranger"), limits)
		if err := localfile.WritePrivate(path, []byte(text)); err != nil {
			return ask.Errorf("%w", err)
		}
		if err := keepOutOfGit(w, path, secret, ready.Certificate); err != nil {
			return err
		}
	}
	fmt.Fprintf(
		w,
		"Stand-in ready (Ctrl-C stops it)\n  outside      %s\n  submission   %s (STARTTLS), %s (TLS)\n  IMAP         %s "+
			"(STARTTLS), %s (TLS)\n  JMAP         %s\n  SCIM         %s, the password is the token\n  logins       every address of the estate; "+
			"%s opens every mailbox\n",
		ready.Outside,
		ready.Submission,
		ready.Submissions,
		ready.IMAP,
		ready.IMAPS,
		ready.JMAP,
		ready.SCIM,
		ready.Keeper,
	)
	if path := cmd.String("connections"); path != "" {
		fmt.Fprintf(w, "  rehearse     yorvet probe --connections %s\n", path)
	}
	if path := cmd.String("ready"); path != "" {
		data, err := json.MarshalIndent(ready, "", "  ")
		if err == nil {
			err = localfile.WritePrivate(path, append(data, '\n'))
		}
		if err != nil {
			return ask.Errorf("%w", err)
		}
	}
	return nil
}
