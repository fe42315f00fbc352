package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"tugline/internal/project"
	"tugline/internal/shell"
)

// Output runs a script in the built-in shell, or in the interpreter that its
// first line names, and returns what it prints to stdout. If it fails, the
// error tells the last of what it printed to stderr.
func Output(ctx context.Context, script project.Text, env []string, folder string, grace time.Duration) (string, error) {
	args, err := shell.Interpreter(script.Value, nil, shell.LookPath(env, folder))
	if err != nil {
		return "", err
	}
	cmd := shell.Command{Args: args, Script: script.Value, Dir: folder, Env: env, Grace: grace}
	if args == nil {
		program, problems := shell.Parse(script.Value)
		if len(problems) > 0 {
			return "", errors.New(problems[0].Msg)
		}
		cmd.Program = program
	}
	files := [2]*os.File{}
	for i := range files {
		if files[i], err = os.CreateTemp("", "tugline-value-*"); err != nil {
			return "", fmt.Errorf("keeping what it prints: %w", err)
		}
		defer os.Remove(files[i].Name()) // best effort: it is in the system's folder for such files
		defer files[i].Close()
	}
	cmd.Stdout, cmd.Stderr = files[0], files[1]
	runErr := shell.Run(ctx, cmd)
	stdout, err := os.ReadFile(files[0].Name())
	if err != nil {
		return "", err
	}
	if runErr != nil {
		stderr, _ := os.ReadFile(files[1].Name()) // the failure counts, not its text
		return "", failedWith(runErr, stderr)
	}
	return string(stdout), nil
}

// failedWith returns err with the last line that was printed.
func failedWith(err error, printed []byte) error {
	printed = bytes.TrimSpace(printed)
	if len(printed) == 0 || strings.Contains(string(printed), err.Error()) {
		return err
	}
	return fmt.Errorf("%w: %s", err, printed[bytes.LastIndexByte(printed, '\n')+1:])
}
