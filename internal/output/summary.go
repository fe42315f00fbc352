package output

import (
	"fmt"
	"strings"
	"time"

	"github.com/fatih/color"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/history"
	"tugline/internal/project"
	"tugline/internal/secret"
)

// Summary shows what became of the run, on the stream for messages: for each
// failed step its place and its last lines, then one line.
func (d *Display) Summary(s engine.Summary, st Style) {
	d.Close()
	d.out, d.style = d.err, st
	d.failures(s.Failures())
	if d.quiet && len(s.Failures()) == 0 && s.Count(engine.Stopped) == 0 {
		return
	}
	d.write(emptyReads(s.EmptyReads, d.style))
	d.write(d.slow(s))
	d.write(d.summaryLine(s))
}

// maxSlow is of how many steps is told that they took longer than usual.
const maxSlow = 3

// slow tells what took longer than usual; empty: nothing did.
func (d *Display) slow(s engine.Summary) string {
	if d.usual == nil || d.round {
		return ""
	}
	text, n := "", 0
	for _, r := range s.Results {
		if r.State != engine.Ran || r.Step == nil || !r.Step.Works || r.Step.Stays || !history.IsSlow(r.Took, d.usual(r.Step.Name)) {
			continue
		}
		if n++; n <= maxSlow {
			text += fmt.Sprintf("slower than usual: %s, %s in place of %s\n", printable(r.Step.Name), duration(r.Took), duration(d.usual(r.Step.Name)))
		}
	}
	if n > maxSlow {
		text += fmt.Sprintf("and %d more; tugline runs latest marks them\n", n-maxSlow)
	}
	if text != "" {
		text = "\n" + d.style.paint(text, color.FgHiYellow)
	}
	return text
}

// maxEmptyReads is of how many patterns of reads that match nothing is told.
const maxEmptyReads = 5

// emptyReads tells of patterns of reads that match nothing, a line each behind an empty
// one; empty: there are none.
func emptyReads(all []cache.EmptyRead, st Style) string {
	if len(all) == 0 {
		return ""
	}
	text := "\n"
	for i, r := range all {
		if i == maxEmptyReads {
			return text + fmt.Sprintf("and %d more patterns of reads match nothing; tugline doctor lists them\n", len(all)-i)
		}
		line := fmt.Sprintf("nothing matches %s, which %s reads (%s)", r.Text.Value, r.Task.Name, r.Text.Span)
		if r.Near != "" {
			line += fmt.Sprintf("; did you mean %s?", r.Near)
		}
		text += st.paint(printable(line), color.FgHiYellow) + "\n"
	}
	return text
}

// EmptyReads returns what is found of patterns of reads that match nothing, as warnings.
func EmptyReads(all []cache.EmptyRead) project.Diagnostics {
	var found project.Diagnostics
	for _, r := range all {
		d := project.Diagnostic{Span: r.Text.Span, Msg: fmt.Sprintf("warning: nothing matches %s, which task %q reads", r.Text.Value, r.Task.Name)}
		if r.Near != "" {
			d.Hint = fmt.Sprintf("did you mean %s?", r.Near)
		}
		found = append(found, d)
	}
	found.Sort()
	return found
}

// fullFailures is how many failures of instances of one task are shown in full.
const fullFailures = 3

// failures shows what failed: of many instances of a task the first ones in
// full, the others by name.
func (d *Display) failures(all []engine.Result) {
	shown := map[string]int{} // by task
	more := map[string][]string{}
	var tasks []string // of more, in order
	for _, r := range all {
		t := r.Step.Task
		if r.Step.Looped && shown[t] == fullFailures {
			if more[t] == nil {
				tasks = append(tasks, t)
			}
			more[t] = append(more[t], r.Step.Name)
			continue
		}
		shown[t]++
		d.failure(r)
	}
	for _, t := range tasks {
		d.write(fmt.Sprintf("\n%d more instances of %q %s; tugline log tells what they printed:\n", len(more[t]), t, d.style.red("failed")))
		for _, name := range more[t] {
			d.write("      " + printable(name) + "\n")
		}
	}
}

func (d *Display) failure(r engine.Result) {
	d.write("\n" + Diagnostic(project.Diagnostic{
		Span: r.Failure.Span,
		Msg:  fmt.Sprintf("task %q %s", printable(r.Step.Name), d.style.red("failed")),
		Hint: printable(strings.TrimSuffix(r.Failure.Msg+"; "+r.Failure.Hint, "; ")),
	}, d.style))
	if step := d.steps[keyOf(r.Step)]; step != nil && step.tail.count > 0 {
		d.tail(step)
	}
	if r.Step.Works && !r.Step.Stays && !strings.Contains(r.Step.Name, secret.Shown) {
		d.write(d.style.faint("      the same by hand: "+printable("tugline show "+d.callName(r.Step.Name)+" --script")) + "\n")
	}
}

// callName returns the name of a step as the user would call it.
func (d *Display) callName(name string) string {
	if d.fromTop {
		return "/" + name
	}
	return name
}

// tail shows the last lines of the output of a step.
func (d *Display) tail(step *stepOutput) {
	lines, more := step.tail.lines()
	heading := "      its output:\n"
	if d.mode == Lines && len(lines) > shownAgain { // it has been shown already
		lines, more = lines[len(lines)-shownAgain:], true
	}
	if more {
		heading = "      the last lines of its output:\n"
	}
	d.write(d.style.faint(heading))
	for _, line := range lines {
		d.write("      " + string(clean(line, d.style.Color)) + "\n")
	}
}

// shownAgain is how many lines of a failed task's output are shown again where
// they have been shown before.
const shownAgain = 5

// savedText tells what was saved, if that is worth telling.
func savedText(saved, wall time.Duration, how string) string {
	if saved < 50*time.Millisecond || saved < wall/20 {
		return ""
	}
	return ", " + duration(saved) + " saved by " + how
}

// fits reports whether a line fits on the terminal, if there is one.
func (d *Display) fits(line string) bool {
	if d.size == nil {
		return true
	}
	columns, _ := d.size()
	return visibleWidth(line) <= columns
}

// summaryLine counts the states and tells the times.
func (d *Display) summaryLine(s engine.Summary) string {
	var counts []string
	for _, state := range engine.States {
		if n := s.Count(state); n > 0 && !(d.round && state == engine.Unchanged) {
			counts = append(counts, d.style.state(state, fmt.Sprintf("%d %s", n, state)))
		}
	}
	if n := s.Services(); n == 1 && len(counts) == 0 {
		counts = append(counts, "1 service")
	} else if n > 1 && len(counts) == 0 {
		counts = append(counts, fmt.Sprintf("%d services", n))
	}
	if len(counts) == 0 {
		return "nothing to do\n"
	}
	line := strings.Join(counts, ", ") + " in " + duration(s.Wall)
	if s.Count(engine.Stopped) == 0 {
		saved := []string{savedText(s.Busy-s.Wall, s.Wall, "running in parallel"), savedText(s.Saved, s.Wall, "skipping finished work")}
		if d.round {
			saved = nil // that is what a watch is for
		}
		for _, part := range saved {
			if d.fits(line + part) { // a part that does not is left out
				line += d.style.faint(part)
			}
		}
	}
	if d.mode != Direct || len(s.Failures()) > 0 {
		line = "\n" + line
	}
	return line + "\n"
}
