package output

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/pmezard/go-difflib/difflib"

	"tugline/internal/cache"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
)

// Why is a step held against its last good run.
type Why struct {
	cache.StepPreview
	Last history.Record
	Ran  bool // there is a last good run
}

// WriteWhy writes all that differs from the last good run, with the commands
// line by line.
func WriteWhy(w io.Writer, why Why, st Style) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n", st.bold(why.Step.Name), st.action(why.Action, string(why.Action)))
	if why.Ran {
		b.WriteString("last good run: " + lastText(why.Last) + "\n")
	} else {
		b.WriteString("it has had no good run here\n")
	}
	if why.Action == cache.UpToDate && len(why.Reasons) == 0 {
		fmt.Fprintf(&b, "nothing differs: %s read, %s written\n", countFiles(len(why.Last.Fingerprint.Files)), countFiles(len(why.Last.Outputs)))
	}
	for _, r := range why.Reasons {
		b.WriteString("  " + reasonText(r) + "\n")
		if r.Kind == "command" {
			b.WriteString(commandDiff(r, st))
		}
	}
	if why.Action == cache.ToRestore {
		b.WriteString("it ran in this state before: its outputs are in the store\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// lastText tells of the last good run that a record tells of.
func lastText(r history.Record) string {
	if r.Run == "" {
		return moment(r.Finished) + ", accepted without running it"
	}
	return fmt.Sprintf("%s, in %s, run %s", moment(r.Finished), duration(time.Duration(r.Ms)*time.Millisecond), r.Run)
}

// commandDiff returns two commands line by line.
func commandDiff(r fingerprint.Reason, st Style) string {
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(r.From), B: difflib.SplitLines(r.To), Context: 1})
	if err != nil {
		return ""
	}
	var b strings.Builder
	for line := range strings.Lines(text) {
		line = printable(strings.TrimRight(line, "\n"))
		switch {
		case strings.HasPrefix(line, "@@"):
			line = st.faint(line)
		case strings.HasPrefix(line, "-"):
			line = st.paint(line, color.FgHiRed)
		case strings.HasPrefix(line, "+"):
			line = st.paint(line, color.FgHiGreen)
		}
		b.WriteString("    " + line + "\n")
	}
	return b.String()
}

// jsonWhy is a step held against its last good run, as JSON.
type jsonWhy struct {
	Name    string               `json:"name"`
	Action  cache.Action         `json:"action"`
	Reasons []fingerprint.Reason `json:"reasons"`
	Last    *jsonLast            `json:"last"`
}

func whyJSON(why Why) jsonWhy {
	f := stepJSON(why.StepPreview)
	out := jsonWhy{f.Name, f.Action, f.Reasons, nil}
	if why.Ran {
		out.Last = lastJSON(why.Last)
	}
	return out
}

// WhyJSON writes the same as one JSON object.
func WhyJSON(w io.Writer, why Why) error { return JSON(w, whyJSON(why)) }

// WhysJSON writes the same of the instances of a task as one JSON object.
func WhysJSON(w io.Writer, all []Why) error {
	list := make([]jsonWhy, len(all))
	for i := range all {
		list[i] = whyJSON(all[i])
	}
	return JSON(w, map[string]any{"instances": list})
}

// jsonLast is a last good run as JSON.
type jsonLast struct {
	Run      *string            `json:"run"` // null: it was accepted without a run
	Finished time.Time          `json:"finished"`
	Ms       int64              `json:"ms"`
	Reads    []fingerprint.File `json:"reads"`
	Writes   []fingerprint.File `json:"writes"`
}

// runOf returns the name of the run that left a record; nil: there was none.
func runOf(r history.Record) *string {
	if r.Run == "" {
		return nil
	}
	return &r.Run
}

func lastJSON(r history.Record) *jsonLast {
	return &jsonLast{runOf(r), r.Finished, r.Ms, append([]fingerprint.File{}, r.Fingerprint.Files...), append([]fingerprint.File{}, r.Outputs...)}
}
