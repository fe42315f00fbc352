package engine

import (
	"context"
	"errors"

	"tugline/internal/cache"
	"tugline/internal/files"
	"tugline/internal/shell"
)

// skips returns why a step is skipped, now that its needs have ended; empty if
// it is not.
func (l *loop) skips(ctx context.Context, t task) (string, error) {
	s := t.step
	if len(s.When) > 0 {
		tree := files.New(l.plan.Project.Folder)
		if l.cfg.Cache != nil {
			tree = l.cfg.Cache.Files
		}
		if reason, err := cache.MissingFiles(tree, s); reason != "" || err != nil {
			return reason, err
		}
	}
	script := s.Task.When.Run
	if script.Value == "" {
		return "", nil
	}
	ctx, cancel := withTimeout(ctx, s.Task.Timeout)
	defer cancel()
	_, err := Output(ctx, l.cfg.Exec, script, t.env, s.Folder, l.cfg.Grace)
	var exit *shell.ExitError
	switch {
	case err == nil:
		return "", nil
	case timedOut(ctx):
		return "", timeoutError(s.Task.Timeout)
	case errors.As(err, &exit):
		return "condition is false: " + firstLine(script), nil
	}
	return "", err
}
