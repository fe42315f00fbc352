// Tugline runs the tasks of a project.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"tugline/internal/cli"
)

func main() {
	folder, err := os.Getwd()
	if err != nil {
		fmt.Fprintln(os.Stderr, "tugline: the folder you stand in is gone:", err)
		os.Exit(4)
	}
	program, _ := os.Executable() // without it there is only the system's help
	ctx, kill := onSignals()
	os.Exit(cli.Main(ctx, cli.Env{
		Args: os.Args[1:], Vars: os.Environ(), Folder: folder,
		Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Kill: kill, Program: program,
	}))
}

// doubled is how long after the first signal a second one counts as the same:
// programs that end others often signal the process and its group, one after the
// other.
const doubled = 500 * time.Millisecond

// onSignals returns a context that the first signal to end ends, and a channel
// that the second one closes.
func onSignals() (context.Context, <-chan struct{}) {
	ctx, cancel := context.WithCancelCause(context.Background())
	kill := make(chan struct{})
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	// A reader of ours that goes away must not end us in the middle of a run:
	// writing to it then fails, and is seen to.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	go func() {
		first := <-signals
		cancel(cli.Interrupted{Sig: first.(syscall.Signal)})
		for at := time.Now(); time.Since(at) < doubled; {
			<-signals
		}
		close(kill)
	}()
	return ctx, kill
}
