// Command yorvet works out who may post to each mail group and who receives it.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"yorvet.example/yorvet/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second signal ends the program where it stands
	code := cli.Run(ctx, os.Args, cli.Streams{Out: os.Stdout, Err: os.Stderr})
	os.Exit(code)
}
