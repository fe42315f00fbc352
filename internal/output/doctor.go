package output

import (
	"cmp"
	"errors"
	"fmt"
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
	return errors.Join(table(w, rows, func(row, _ int, text string) string {
		switch {
		case row == 0:
			return st.faint(text)
		case checked[row-1].Problem != "":
			return st.red(text)
		}
		return text
	}), newline(w))
}

// Shells tells how many scripts run in the built-in shell, and how many in bash, of which
// the path and the version are given.
func Shells(builtin, bash int, path, version string) string {
	text := countScripts(builtin) + " run in the built-in shell"
	if bash > 0 {
		text += printable(fmt.Sprintf(", %d in bash (%s)", bash, strings.TrimRight(path+" "+version, " ")))
	}
	return text + "\n"
}

func countScripts(n int) string {
	if n == 1 {
		return "1 script"
	}
	return fmt.Sprintf("%d scripts", n)
}

func newline(w io.Writer) error {
	_, err := io.WriteString(w, "\n")
	return err
}

// table writes rows in aligned columns; paint dresses a cell. The last column
// may be of any width.
func table(w io.Writer, rows [][]string, paint func(row, column int, text string) string) error {
	last := len(rows[0]) - 1
	widths := make([]int, last)
	for _, row := range rows {
		for i, cell := range row[:last] {
			widths[i] = max(widths[i], min(maxName, runewidth.StringWidth(printable(cell))))
		}
	}
	var b strings.Builder
	for i, row := range rows {
		var line strings.Builder
		end := last // what stands behind is empty
		for end > 0 && row[end] == "" {
			end--
		}
		for k, cell := range row[:end+1] {
			text := printable(cell)
			padding := ""
			if k < end {
				padding = pad("", widths[k]-runewidth.StringWidth(text)) + "  "
			}
			line.WriteString(paint(i, k, text) + padding)
		}
		b.WriteString(line.String() + "\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}
