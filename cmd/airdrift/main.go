// Command airdrift sweeps building networks, tells what is on them and which of it nobody manages.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"airdrift/command"
	"airdrift/console"
)

func main() { os.Exit(run()) }

func run() int {
	// A terminal that is closed (SIGHUP) must not leave the database behind either.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	program := command.Program{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Console: console.Files()}
	return command.Run(ctx, program, os.Args)
}
