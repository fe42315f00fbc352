package history

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"tugline/internal/atomicfile"
)

// foldersFile lists the plain paths of writes that a good run made folders, each
// quoted on a line. Lines are only added: a path that is a file now may still
// become a folder again.
const foldersFile = "folders"

// IsFolder reports whether a good run made a path, which stands in writes, a folder.
func (l *Ledger) IsFolder(path string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.foldersLocked()[path]
}

func (l *Ledger) foldersLocked() map[string]bool {
	if l.folders == nil {
		l.folders = map[string]bool{}
		text, _ := os.ReadFile(filepath.Join(l.folder, foldersFile)) // without it, none is known
		for line := range strings.Lines(string(text)) {
			if path, err := strconv.Unquote(strings.TrimSuffix(line, "\n")); err == nil {
				l.folders[path] = true
			}
		}
	}
	return l.folders
}

// AddFolder notes that a good run made a path a folder.
func (l *Ledger) AddFolder(path string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.foldersLocked()[path] {
		return nil
	}
	file, err := atomicfile.Open(filepath.Join(l.folder, foldersFile), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err == nil {
		_, err = file.WriteString(strconv.Quote(path) + "\n")
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		return fmt.Errorf("noting a folder: %w", err)
	}
	l.folders[path] = true
	return nil
}
