package store

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// ownFolders are the folders of Tugline and of version control, in which no
// output lies.
var ownFolders = []string{".tugline", ".git", ".hg", ".svn", ".bzr", ".jj", "CVS"}

// allowed returns why an entry must not be restored: it names a path that is not
// clean, that may does not allow, or that leads out of the project. Entries are
// written by other checkouts, so what they say is not believed.
func (e *Entry) allowed(may func(path string) bool) error {
	links := map[string]bool{}
	for i := range e.Files {
		if f := &e.Files[i]; f.Link != "" {
			links[f.Path] = true
			if !staysInside(f.Path, f.Link) {
				return fmt.Errorf("the link %q leads out of the project", f.Path)
			}
		}
	}
	for i := range e.Files {
		name := e.Files[i].Path
		if !filepath.IsLocal(filepath.FromSlash(name)) || path.Clean(name) != name || name == "." || strings.ContainsAny(name, "\x00") {
			return fmt.Errorf("%q is not a clean path", name)
		}
		for part := range strings.SplitSeq(name, "/") {
			if slices.ContainsFunc(ownFolders, func(own string) bool { return strings.EqualFold(own, part) }) {
				return fmt.Errorf("%q is not a place for outputs", name)
			}
		}
		for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
			if links[dir] {
				return fmt.Errorf("%q lies behind a link", name)
			}
		}
		if may != nil && !may(name) {
			return fmt.Errorf("%q is not what the task writes", name)
		}
	}
	return nil
}

// staysInside reports whether a link leads to a place in the project. It may go
// up only at its beginning: what .. means behind a name depends on other links.
func staysInside(link, text string) bool {
	if text == "" || path.IsAbs(text) || filepath.IsAbs(text) || filepath.VolumeName(text) != "" {
		return false
	}
	names := strings.Split(text, "/")
	up := 0
	for up < len(names) && names[up] == ".." {
		up++
	}
	return up <= strings.Count(link, "/") && !slices.Contains(names[up:], "..")
}
