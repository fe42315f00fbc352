// Package vcs asks the version control of a folder which files it tracks.
package vcs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// ErrUnknown says that a folder is under version control of a kind that cannot
// be asked.
var ErrUnknown = errors.New("the version control of this folder cannot be asked which files it tracks")

// Tracked returns the paths below top, an absolute path, that are under version
// control, relative to top and with slashes. Without version control there are
// none. The error wraps [ErrUnknown] if it cannot be asked.
func Tracked(ctx context.Context, top string) (map[string]bool, error) {
	kind := kindOf(top)
	if kind == "" {
		return nil, nil
	}
	if kind != ".git" {
		return nil, fmt.Errorf("%w: %s", ErrUnknown, kind)
	}
	cmd := exec.CommandContext(ctx, "git", "-C", top, "ls-files", "-z")
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUnknown, err)
	}
	files := map[string]bool{}
	for name := range strings.SplitSeq(string(out), "\x00") {
		if name != "" {
			files[name] = true
		}
	}
	return files, nil
}

// kindOf returns the name of the folder in which the version control of a
// folder keeps its records; empty if there is none.
func kindOf(folder string) string {
	for dir := folder; ; dir = filepath.Dir(dir) {
		for _, kind := range []string{".git", ".hg", ".svn", ".jj", ".bzr"} {
			if _, err := os.Lstat(filepath.Join(dir, kind)); err == nil {
				return kind
			}
		}
		if dir == filepath.Dir(dir) {
			return ""
		}
	}
}
