package output

import (
	"fmt"
	"hash/fnv"
	"os"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"tugline/internal/engine"
	"tugline/internal/service"
)

// Style says how text is dressed. The zero Style is plain.
type Style struct {
	Color bool
}

func (st Style) paint(text string, attributes ...color.Attribute) string {
	if !st.Color || text == "" {
		return text
	}
	c := color.New(attributes...)
	c.EnableColor()
	return c.Sprint(text)
}

func (st Style) bold(text string) string  { return st.paint(text, color.Bold) }
func (st Style) faint(text string) string { return st.paint(text, color.Faint) }
func (st Style) red(text string) string   { return st.paint(text, color.FgHiRed, color.Bold) }

// state dresses the name of a state.
func (st Style) state(state engine.State, text string) string {
	switch state {
	case engine.Ran, engine.Up:
		return st.paint(text, color.FgHiGreen)
	case engine.Failed:
		return st.red(text)
	case engine.Blocked, engine.State(service.Restarting):
		return st.paint(text, color.FgHiYellow)
	case engine.Skipped, engine.Unchanged:
		return st.paint(text, color.FgCyan)
	case engine.Restored:
		return st.paint(text, color.FgHiBlue)
	}
	return st.paint(text, color.FgHiMagenta)
}

// nameColors are told apart on dark and on light grounds. Red and green are
// left to the states.
var nameColors = []color.Attribute{color.FgCyan, color.FgHiBlue, color.FgMagenta, color.FgYellow, color.FgHiCyan, color.FgHiMagenta}

// name dresses the name of a task; a name always has the same colour.
func (st Style) name(name, text string) string {
	hash := fnv.New32a()
	hash.Write([]byte(name)) // never fails
	return st.paint(text, nameColors[hash.Sum32()%uint32(len(nameColors))])
}

// IsTerminal reports whether f is a terminal.
func IsTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

// Size returns the size of the terminal f, or 80 by 24 if it does not tell.
func Size(f *os.File) (columns, rows int) {
	columns, rows, err := term.GetSize(int(f.Fd()))
	if err != nil || columns <= 0 || rows <= 0 {
		return 80, 24
	}
	return columns, rows
}

// pad fills text up with blanks to a width in columns of a terminal.
func pad(text string, width int) string {
	return text + strings.Repeat(" ", max(0, width-runewidth.StringWidth(text)))
}

// duration writes d as a user reads it: 0.04s, 12.3s, 2m05s, 1h07m.
func duration(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.2fs", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1fs", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
}
