// Command innergate is the gate, its command-line client and its stand-ins.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"innergate.example/innergate/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
