// Command stavren checks and renders definitions of virtual machines.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"stavren.example/stavren/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
