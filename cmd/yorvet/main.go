// Command yorvet works out who may post to each mail group and who receives it.
package main

import (
	"context"
	"os"
	"os/signal"

	"yorvet.example/yorvet/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	code := cli.Run(ctx, os.Args, cli.Streams{Out: os.Stdout, Err: os.Stderr})
	stop()
	os.Exit(code)
}
