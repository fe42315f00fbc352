package output

import (
	"fmt"
	"io"
	"strings"
	"time"
)

// Who is what is known of one file.
type Who struct {
	Path   string // relative to the top folder, with slashes
	MadeBy []WhoTask
	ReadBy []WhoTask
}

// WhoTask is a task that makes or reads a file.
type WhoTask struct {
	Name    string     `json:"name"`
	Pattern string     `json:"pattern"` // as the project file says it; empty: only its record says so
	Place   string     `json:"place"`   // of the pattern
	Run     *string    `json:"run"`     // in which it last did so; null: not known
	When    *time.Time `json:"when"`
}

// WriteWho writes who makes and who reads a file.
func WriteWho(w io.Writer, who Who, st Style) error {
	var b strings.Builder
	b.WriteString(st.bold(printable(who.Path)) + "\n")
	for _, part := range []struct {
		verb, done string
		tasks      []WhoTask
	}{{"made by", "made", who.MadeBy}, {"read by", "read", who.ReadBy}} {
		for _, t := range part.tasks {
			line := fmt.Sprintf("  %s %s", part.verb, st.name(t.Name, t.Name))
			if t.Pattern != "" {
				line += st.faint(fmt.Sprintf("  %s, %s", t.Pattern, t.Place))
			}
			b.WriteString(line + "\n")
			switch {
			case t.When != nil && t.Run == nil:
				fmt.Fprintf(&b, "    accepted %s, without a run\n", moment(*t.When))
			case t.When != nil:
				fmt.Fprintf(&b, "    last %s %s, in run %s\n", part.done, moment(*t.When), *t.Run)
			}
		}
	}
	if len(who.MadeBy)+len(who.ReadBy) == 0 {
		b.WriteString("  no task makes or reads it\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// WhoJSON writes the same as one JSON object.
func WhoJSON(w io.Writer, who Who) error {
	return JSON(w, map[string]any{
		"file": who.Path, "made_by": append([]WhoTask{}, who.MadeBy...), "read_by": append([]WhoTask{}, who.ReadBy...),
	})
}
