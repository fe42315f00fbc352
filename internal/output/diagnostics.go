package output

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"github.com/mattn/go-runewidth"

	"tugline/internal/project"
)

// Diagnostics returns ds as text: for each the place and the message, the line
// of the file, a caret under the exact span, and the hint.
func Diagnostics(ds project.Diagnostics, st Style) string {
	var b strings.Builder
	for _, d := range ds {
		b.WriteString(Diagnostic(d, st))
	}
	return b.String()
}

// Diagnostic returns one diagnostic as text, as [Diagnostics] does.
func Diagnostic(d project.Diagnostic, st Style) string {
	var b strings.Builder
	place := "tugline:"
	if !d.Span.IsZero() {
		place = st.bold(d.Span.String() + ":")
	}
	b.WriteString(place + " " + d.Msg + "\n")
	switch {
	case len(d.Related) > 0 && d.Related[0].Span == d.Span: // the steps of a cycle begin with its own place
	case !d.Span.IsZero():
		excerpt(&b, d.Span, d.Hint, st)
	case d.Hint != "":
		b.WriteString("  " + d.Hint + "\n")
	}
	for _, r := range d.Related {
		if r.Span.Source != d.Span.Source {
			b.WriteString("      " + r.Span.String() + ":\n")
		}
		excerpt(&b, r.Span, r.Msg, st)
	}
	return b.String()
}

// maxExcerpt is the longest line that is shown whole, in characters.
const maxExcerpt = 160

// excerpt writes the line on which span starts, and below it a caret under
// every character of the span, followed by note.
func excerpt(b *strings.Builder, span project.Span, note string, st Style) {
	line, column := span.Position()
	text := []rune(printable(span.LineText()))
	columns := min(span.Columns(), max(1, len(text)-column+1))
	if from := column - maxExcerpt/2; len(text) > maxExcerpt && from > 0 {
		text = append([]rune("…"), text[from:]...)
		column -= from - 1
	}
	if len(text) > maxExcerpt {
		text = append(text[:maxExcerpt], '…')
		columns = max(1, min(columns, maxExcerpt-column+1))
	}
	fmt.Fprintf(b, "%s %s\n", st.faint(fmt.Sprintf("%5s |", strconv.Itoa(line))), string(text))
	carets := strings.Repeat("^", runewidth.StringWidth(string(text[min(column-1, len(text)):min(column-1+columns, len(text))])))
	if carets == "" {
		carets = "^"
	}
	marks := st.red(carets)
	if note != "" {
		marks += " " + note
	}
	fmt.Fprintf(b, "%s %s%s\n", st.faint("      |"), blank(text[:min(column-1, len(text))]), marks)
}

// blank returns white space as wide as text.
func blank(text []rune) string { return strings.Repeat(" ", runewidth.StringWidth(string(text))) }

// Line returns text as it may stand in a line of its own: what would move the
// cursor or turn the direction of writing is replaced.
func Line(text string) string { return printable(text) }

// printable replaces what would move the cursor: a tab by one blank, other
// control characters, and those that turn the direction of writing, by a sign
// that stands for them.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case unicode.IsControl(r), r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
			return '�'
		}
		return r
	}, text)
}
