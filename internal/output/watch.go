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

// ClearScreen clears a terminal, and what has scrolled off it (ECMA-48, xterm).
const ClearScreen = "\x1b[2J\x1b[3J\x1b[H"

// Waiting returns the line that tells that a watch waits, and with which keys it is
// told what to do, if it reads keys.
func Waiting(paused, keys bool, st Style) string {
	text, pause := "waiting for changes", "p pause"
	if paused {
		text, pause = "paused", "p go on"
	}
	if keys {
		text += "  (r run again, a run all, " + pause + ", c clear, q quit)"
	}
	return st.faint(text) + "\n"
}
