package engine

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"tugline/internal/atomicfile"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// Exec runs a command, as [shell.Session.Run] does.
type Exec func(context.Context, shell.Command) error

// Output runs a script in the built-in shell, or in the interpreter that its
// first line names, and returns what it prints to stdout. If it fails, the
// error tells the last of what it printed to stderr.
func Output(ctx context.Context, exec Exec, script project.Text, env []string, folder string, grace time.Duration) (string, error) {
	ready, err := shell.Prepare(ctx, script.Value, shell.LookPath(env, folder))
	if err != nil {
		return "", err
	}
	cmd := shell.Command{Program: ready.Program, Args: ready.Args, Script: script.Value, Dir: folder, Env: env, Grace: grace, Marks: marksOf(env)}
	var files [2]*atomicfile.Scratch
	for i := range files {
		if files[i], err = atomicfile.NewScratch(); err != nil {
			return "", fmt.Errorf("keeping what it prints: %w", err)
		}
		defer files[i].Close() // best effort: it is in the system's folder for such files
	}
	cmd.Stdout, cmd.Stderr = files[0].File, files[1].File
	runErr := exec(ctx, cmd)
	stdout, err := content(files[0])
	if err != nil {
		return "", err
	}
	if runErr != nil {
		stderr, _ := content(files[1]) // the failure counts, not its text
		return "", failedWith(runErr, stderr)
	}
	return string(stdout), nil
}

// content returns all of a file, wherever its programs stood in it.
func content(file *atomicfile.Scratch) ([]byte, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.NewSectionReader(file, 0, info.Size()))
}

// failedWith returns err with the last line that was printed.
func failedWith(err error, printed []byte) error {
	printed = bytes.TrimSpace(printed)
	if len(printed) == 0 || strings.Contains(string(printed), err.Error()) {
		return err
	}
	return fmt.Errorf("%w: %s", err, printed[bytes.LastIndexByte(printed, '\n')+1:])
}
