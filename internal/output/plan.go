package output

import (
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/mattn/go-runewidth"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/fingerprint"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// action dresses the name of an action.
func (st Style) action(action cache.Action, text string) string {
	switch action {
	case cache.ToRun, cache.ToStart:
		return st.paint(text, color.FgHiGreen)
	case cache.Maybe:
		return st.paint(text, color.FgHiYellow)
	case cache.ToRestore:
		return st.paint(text, color.FgHiBlue)
	}
	return st.paint(text, color.FgCyan)
}

// actions are all actions, in the order in which they are counted.
var actions = []cache.Action{cache.ToRun, cache.Maybe, cache.ToRestore, cache.ToStart, cache.ToReuse, cache.UpToDate, cache.Skip}

// maxReasons is how many reasons a plan tells of one step, unless it is told to
// be verbose.
const maxReasons = 4

// Plan writes what a run would do, one step a line, each followed by the
// reasons after the first and by why it is in the plan.
func Plan(w io.Writer, preview cache.Preview, verbose bool, st Style) error {
	steps := together(preview.Steps)
	var b strings.Builder
	quiet := quietInstances(steps, verbose)
	width := 0
	for _, s := range steps {
		name := s.Step.Name
		if _, together := quiet[s.Step]; together {
			name = s.Step.Task.Name
		}
		width = max(width, min(maxName, runewidth.StringWidth(name)))
	}
	indent := pad("", stateWidth+width+4)
	told := map[*project.Task]string{}
	cause := func(s *plan.Step) {
		text := causeText(preview.Causes[s], verbose)
		if s.Stays() && !verbose { // its reason is who needs it
			text = ""
		}
		if text != "" && told[s.Task] != text {
			told[s.Task] = text
			b.WriteString(pad("", stateWidth+2) + st.faint(printable(text)) + "\n")
		}
	}
	for _, s := range steps {
		if line, together := quiet[s.Step]; together {
			if line != "" {
				b.WriteString(st.action(s.Action, pad(string(s.Action), stateWidth)) + "  " + pad(s.Step.Task.Name, width) + "  " + line + "\n")
				cause(s.Step)
			}
			continue
		}
		texts := reasonTexts(s.Reasons, verbose)
		line := st.action(s.Action, pad(string(s.Action), stateWidth)) + "  " + pad(printable(s.Step.Name), width) + "  " + texts[0]
		b.WriteString(strings.TrimRight(line, " ") + "\n")
		for _, text := range texts[1:] {
			b.WriteString(indent + text + "\n")
		}
		cause(s.Step)
		if verbose && s.Action != cache.Skip {
			for _, by := range engine.ShellsOf(s.Step.Task, runtime.GOOS) {
				b.WriteString(indent + st.faint(printable("runs in "+by.String())) + "\n")
			}
		}
	}
	for i, made := range preview.Removes {
		if i == 0 {
			b.WriteString("\n")
		}
		b.WriteString(printable(fmt.Sprintf("would remove %s: its instance %s no longer exists", strings.Join(made.Paths, ", "), made.Record.Call)) + "\n")
	}
	b.WriteString(emptyReads(preview.EmptyReads, st) + "\n" + actionCounts(steps, st) + "\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// causeText says why a step is in a plan; empty: it was asked for. Of several causes the
// others are only counted, unless all are wanted.
func causeText(causes []plan.Cause, all bool) string {
	var texts []string
	for _, c := range causes {
		switch c.Kind {
		case plan.Requested:
			return ""
		case plan.ReadsIt:
			as := ""
			if c.Read.Text.Value != c.Write.Text.Value {
				as = " as " + c.Read.Text.Value
			}
			texts = append(texts, fmt.Sprintf("writes %s (%s), which %s reads%s (%s)", c.Write.Text.Value, c.Write.Text.Span, c.By.Task.Name, as, c.Read.Text.Span))
		case project.Needs:
			texts = append(texts, fmt.Sprintf("needed by %s (%s)", c.By.Task.Name, c.Place))
		case project.DirectCalls:
			texts = append(texts, fmt.Sprintf("called by %s (%s)", c.By.Task.Name, c.Place))
		default:
			texts = append(texts, fmt.Sprintf("called by %s in %s (%s)", c.By.Task.Name, c.Kind, c.Place))
		}
	}
	if len(texts) > 1 && !all {
		return fmt.Sprintf("%s, and %d more", texts[0], len(texts)-1)
	}
	return strings.Join(texts, "; ")
}

// together returns steps with all instances of a task behind the first one.
func together(steps []cache.StepPreview) []cache.StepPreview {
	first := map[*project.Task]int{} // in groups
	var groups [][]cache.StepPreview
	for _, s := range steps {
		at, known := first[s.Step.Task]
		if !known || len(s.Step.Task.Looped()) == 0 {
			at = len(groups)
			first[s.Step.Task] = at
			groups = append(groups, nil)
		}
		groups[at] = append(groups[at], s)
	}
	return slices.Concat(groups...)
}

// quietInstances returns the instances that are left as they are and told of
// together: a text for the first one of a task, none for the others.
func quietInstances(steps []cache.StepPreview, verbose bool) map[*plan.Step]string {
	quiet := map[*plan.Step]string{}
	if verbose {
		return quiet
	}
	all, left := map[*project.Task]int{}, map[*project.Task][]*plan.Step{}
	for _, s := range steps {
		if t := s.Step.Task; len(t.Looped()) > 0 && s.Step.Works() {
			all[t]++
			if s.Action == cache.UpToDate && len(s.Reasons) == 0 {
				left[t] = append(left[t], s.Step)
			}
		}
	}
	for t, steps := range left {
		if all[t] < manyInstances {
			continue
		}
		for i, s := range steps {
			quiet[s] = ""
			if i == 0 {
				quiet[s] = fmt.Sprintf("%d of %d instances", len(steps), all[t])
			}
		}
	}
	return quiet
}

// maxText is the longest text of a reason that is shown whole, in columns.
const maxText = 160

// reasonText returns a reason on one line. Long values, such as those of PATH, are
// cut in the middle.
func reasonText(r fingerprint.Reason) string {
	text := reasonAlone(r)
	if r.Place == nil {
		return text
	}
	if *r.PlaceOf == "use" {
		return text + ", used at " + printable(*r.Place)
	}
	return text + ", declared at " + printable(*r.Place)
}

// reasonAlone is reasonText without the place.
func reasonAlone(r fingerprint.Reason) string {
	text := printable(r.Text)
	if runewidth.StringWidth(text) <= maxText || r.Kind != "variable" && r.Kind != "argument" {
		return text
	}
	for _, value := range []string{r.From, r.To} {
		text = strings.ReplaceAll(text, printable(value), cutMiddle(printable(value), maxText/3))
	}
	return text
}

// cutMiddle returns text with its middle left out if it is wider than width, in
// columns: names that begin alike are still told apart.
func cutMiddle(text string, width int) string {
	whole := runewidth.StringWidth(text)
	if whole <= width || width < 2 {
		return text
	}
	right := (width - 1) / 2
	return runewidth.Truncate(text, width-1-right, "") + "…" + runewidth.TruncateLeft(text, whole-right, "")
}

// reasonTexts returns the texts of reasons, at least one.
func reasonTexts(reasons []fingerprint.Reason, all bool) []string {
	var texts []string
	for i, r := range reasons {
		if !all && i == maxReasons-1 && len(reasons) > maxReasons {
			texts = append(texts, fmt.Sprintf("and %d more", len(reasons)-i))
			break
		}
		texts = append(texts, reasonText(r))
	}
	if len(texts) == 0 {
		return []string{""}
	}
	return texts
}

// counted says how many steps have an action: 8 to run.
var counted = map[cache.Action]string{
	cache.ToRun: "to run", cache.Maybe: "maybe", cache.ToRestore: "to restore", cache.UpToDate: "unchanged", cache.Skip: "to skip",
	cache.ToStart: "to start", cache.ToReuse: "to reuse",
}

func actionCounts(steps []cache.StepPreview, st Style) string {
	count := map[cache.Action]int{}
	for _, s := range steps {
		count[s.Action]++
	}
	var parts []string
	for _, action := range actions {
		if n := count[action]; n > 0 {
			parts = append(parts, st.action(action, fmt.Sprintf("%d %s", n, counted[action])))
		}
	}
	if len(parts) == 0 {
		return "nothing to do"
	}
	return strings.Join(parts, ", ")
}

// jsonStep is a step of a plan as JSON.
type jsonStep struct {
	Name    string               `json:"name"`
	Action  cache.Action         `json:"action"`
	Reasons []fingerprint.Reason `json:"reasons"`
	Needs   []string             `json:"needs"`
	Because []jsonCause          `json:"because"`
	Shells  []jsonShell          `json:"shells"`
}

// jsonCause is why a step is in a plan, as JSON.
type jsonCause struct {
	Kind  project.Kind `json:"kind"`
	By    *string      `json:"by"`
	Place *string      `json:"place"`
	Write *jsonPattern `json:"writes"`
	Read  *jsonPattern `json:"reads"`
}

type jsonPattern struct {
	Pattern string `json:"pattern"`
	Place   string `json:"place"`
}

func causesJSON(causes []plan.Cause) []jsonCause {
	list := []jsonCause{}
	for _, c := range causes {
		out := jsonCause{Kind: c.Kind}
		if c.By != nil {
			place := c.Place.String()
			out.By, out.Place = &c.By.Name, &place
		}
		if c.Kind == plan.ReadsIt {
			out.Write = &jsonPattern{c.Write.Text.Value, c.Write.Text.Span.String()}
			out.Read = &jsonPattern{c.Read.Text.Value, c.Read.Text.Span.String()}
		}
		list = append(list, out)
	}
	return list
}

// PlanJSON writes the same as one JSON object.
func PlanJSON(w io.Writer, preview cache.Preview) error {
	list := make([]jsonStep, 0, len(preview.Steps))
	for _, s := range preview.Steps {
		one := stepJSON(s)
		one.Because = causesJSON(preview.Causes[s.Step])
		list = append(list, one)
	}
	removes := []jsonRemoval{}
	for _, made := range preview.Removes {
		removes = append(removes, jsonRemoval{made.Record.Call, made.Paths})
	}
	empty := []jsonEmptyRead{}
	for _, r := range preview.EmptyReads {
		one := jsonEmptyRead{Task: r.Task.Name, Pattern: r.Text.Value, Place: r.Text.Span.String()}
		if r.Near != "" {
			one.Near = &r.Near
		}
		empty = append(empty, one)
	}
	return JSON(w, map[string]any{"tasks": list, "removes": removes, "empty_reads": empty})
}

// jsonEmptyRead is a pattern of reads that matches nothing, as JSON.
type jsonEmptyRead struct {
	Task    string  `json:"task"`
	Pattern string  `json:"pattern"`
	Place   string  `json:"place"`
	Near    *string `json:"near"`
}

// jsonRemoval is what an instance left that is no more, as JSON.
type jsonRemoval struct {
	MadeBy string   `json:"made_by"`
	Paths  []string `json:"paths"`
}

// jsonShell is what runs a script, as JSON.
type jsonShell struct {
	Name  string  `json:"name"`
	Why   *string `json:"why"`
	Place *string `json:"place"`
}

func shellsJSON(t *project.Task, system string) []jsonShell {
	list := []jsonShell{}
	for _, by := range engine.ShellsOf(t, system) {
		out := jsonShell{Name: by.Name}
		if by.Why != "" {
			place := by.Span.String()
			out.Why, out.Place = &by.Why, &place
		}
		list = append(list, out)
	}
	return list
}

func stepJSON(s cache.StepPreview) jsonStep {
	out := jsonStep{Name: s.Step.Name, Action: s.Action, Reasons: append([]fingerprint.Reason{}, s.Reasons...), Needs: []string{}, Shells: shellsJSON(s.Step.Task, runtime.GOOS)}
	for _, need := range s.Step.Needs {
		out.Needs = append(out.Needs, need.Name)
	}
	return out
}

func countFiles(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}

// moment writes a time in the user's zone.
func moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }
