package output

import (
	"cmp"
	"io"
	"strings"

	"github.com/mattn/go-runewidth"

	"tugline/internal/engine"
)

// Requirements writes a table of what tasks require and what was found.
func Requirements(w io.Writer, checked []engine.Checked, st Style) error {
	if len(checked) == 0 {
		return nil
	}
	rows := [][]string{{"requires", "version", "found", "where"}}
	for _, c := range checked {
		r := c.Require
		what := cmp.Or(r.Tool, r.File.Value, strings.TrimSpace(r.Run.Value))
		what, _, _ = strings.Cut(what, "\n")
		found := "yes"
		if c.Problem != "" {
			found = "no"
		}
		rows = append(rows, []string{what, cmp.Or(r.Version.Value, "any"), cmp.Or(c.Version, found), c.Path})
	}
	var widths [4]int
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], min(maxName, runewidth.StringWidth(cell)))
		}
	}
	var b strings.Builder
	for i, row := range rows {
		line := ""
		for k, cell := range row {
			line += pad(printable(cell), widths[k]) + "  "
		}
		line = strings.TrimRight(line, " ")
		switch {
		case i == 0:
			line = st.faint(line)
		case checked[i-1].Problem != "":
			line = st.red(line)
		}
		b.WriteString(line + "\n")
	}
	_, err := io.WriteString(w, b.String()+"\n")
	return err
}
