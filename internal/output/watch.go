package output

import (
	"fmt"
	"strings"
)

// namedChanges is how many of the files that changed are named.
const namedChanges = 3

// Changed returns the line before a round of a watch: which files changed.
func Changed(paths []string, st Style) string {
	named := make([]string, 0, namedChanges)
	for _, p := range paths[:min(len(paths), namedChanges)] {
		named = append(named, printable(p))
	}
	text := strings.Join(named, ", ")
	if more := len(paths) - len(named); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return "\n" + st.bold("changed: "+text) + "\n"
}

// Waiting returns the line that tells that a watch waits.
func Waiting(paused bool, st Style) string {
	if paused {
		return st.faint("paused") + "\n"
	}
	return st.faint("waiting for changes") + "\n"
}
