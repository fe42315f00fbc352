package output

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tugline/internal/engine"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// WriteRuns writes past runs, one a line.
func WriteRuns(w io.Writer, runs []history.Run, st Style) error {
	rows := [][]string{{"run", "started", "state", "took", "tasks", "request"}}
	for _, r := range runs {
		rows = append(rows, []string{r.ID, moment(r.Started), r.State, duration(time.Duration(r.Ms) * time.Millisecond), countsText(r), requestText(r)})
	}
	if len(runs) == 0 {
		_, err := io.WriteString(w, "No runs.\n")
		return err
	}
	return table(w, rows, func(row, column int, text string) string {
		switch {
		case row == 0:
			return st.faint(text)
		case column == 2:
			return st.state(engine.State(runs[row-1].State), text)
		}
		return text
	})
}

// countsText tells how the steps of a run ended.
func countsText(r history.Run) string {
	var parts []string
	for _, state := range engine.States {
		if n := r.Counts[string(state)]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(parts, ", ")
}

func requestText(r history.Run) string {
	words := make([]string, len(r.Request))
	for i, word := range r.Request {
		words[i] = plan.Quote(word)
	}
	text := strings.Join(words, " ")
	if text == "" {
		text = "(the default)"
	}
	if r.Resumes != nil {
		text += " (resumed)"
	}
	return printable(text)
}

// WriteRun writes one run with its steps.
// usual tells what calls usually take; what took longer is marked.
func WriteRun(w io.Writer, r history.Run, usual map[string]time.Duration, st Style) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s  %s\n", st.bold(r.ID), st.state(engine.State(r.State), r.State), requestText(r))
	fmt.Fprintf(&b, "started %s, took %s", moment(r.Started), duration(time.Duration(r.Ms)*time.Millisecond))
	if r.Resumes != nil {
		fmt.Fprintf(&b, ", continues %s", *r.Resumes)
	}
	b.WriteString("\n\n")
	if _, err := io.WriteString(w, b.String()); err != nil || len(r.Steps) == 0 {
		return err
	}
	rows := [][]string{{"state", "task", "at", "took", ""}}
	for _, s := range r.Steps {
		reason := s.Reason
		if s.CalledBy != nil {
			reason = strings.TrimSuffix(*s.CalledBy+"; "+reason, "; ")
		}
		took := time.Duration(s.Ms) * time.Millisecond
		if s.State == "ran" && history.IsSlow(took, usual[s.Name]) {
			reason = strings.TrimSuffix("slower than usual: "+duration(usual[s.Name])+"; "+reason, "; ")
		}
		rows = append(rows, []string{s.State, s.Name, "+" + duration(max(0, s.Started.Sub(r.Started))), duration(time.Duration(s.Ms) * time.Millisecond), reason})
	}
	return table(w, rows, func(row, column int, text string) string {
		switch {
		case row == 0:
			return st.faint(text)
		case column == 0:
			return st.state(engine.State(r.Steps[row-1].State), text)
		}
		return text
	})
}

// StepHeading returns the line above the log of a step.
func StepHeading(s history.RunStep, st Style) string {
	return st.state(engine.State(s.State), s.State) + "  " + st.bold(printable(s.Name)) + "\n"
}

// WriteTimes writes how long tasks take.
func WriteTimes(w io.Writer, times []history.Times, st Style) error {
	rows := [][]string{{"task", "ran", "median", "9 in 10", "slowest", "need not run", "failed", "trend"}}
	for _, t := range times {
		row := []string{t.Task, fmt.Sprint(t.Ran), "", "", "", share(t), fmt.Sprint(t.Failed), trend(t.Trend)}
		if t.Ran > 0 {
			row[2], row[3], row[4] = duration(t.Median), duration(t.P90), duration(t.High)
		}
		rows = append(rows, row)
	}
	if len(times) == 0 {
		_, err := io.WriteString(w, "No runs.\n")
		return err
	}
	return table(w, rows, func(row, _ int, text string) string {
		if row == 0 {
			return st.faint(text)
		}
		return text
	})
}

// trend draws times as bars, the oldest first: the slowest has the highest.
func trend(times []time.Duration) string {
	if len(times) < 2 {
		return ""
	}
	const bars = "▁▂▃▄▅▆▇█"
	levels := []rune(bars)
	var b strings.Builder
	most := max(slices.Max(times), 1)
	for _, t := range times {
		b.WriteRune(levels[int(int64(len(levels)-1)*int64(t)/int64(most))])
	}
	return b.String()
}

// share tells how often a task need not run, of all times that it ended well.
func share(t history.Times) string {
	if t.Ran+t.Unchanged == 0 {
		return ""
	}
	return fmt.Sprintf("%.0f%%", 100*float64(t.Unchanged)/float64(t.Ran+t.Unchanged))
}

// jsonRun is a run as JSON.
type jsonRun struct {
	ID      string         `json:"id"`
	Started time.Time      `json:"started"`
	Ms      int64          `json:"ms"`
	State   string         `json:"state"`
	Request []string       `json:"request"`
	Resumes *string        `json:"resumes"`
	Counts  map[string]int `json:"counts"`
}

// jsonRunSteps is a run with its steps as JSON.
type jsonRunSteps struct {
	jsonRun
	Steps  []history.RunStep  `json:"steps"`
	Groups []history.RunGroup `json:"groups"`
}

// RunJSON returns what the JSON of a run holds, with its steps or without.
func RunJSON(r history.Run, steps bool) any {
	out := jsonRun{r.ID, r.Started, r.Ms, r.State, append([]string{}, r.Request...), r.Resumes, r.Counts}
	if steps {
		return jsonRunSteps{out, append([]history.RunStep{}, r.Steps...), append([]history.RunGroup{}, r.Groups...)}
	}
	return out
}

// RunsJSON writes runs as one JSON object.
func RunsJSON(w io.Writer, runs []history.Run) error {
	list := []any{}
	for _, r := range runs {
		list = append(list, RunJSON(r, false))
	}
	return JSON(w, map[string]any{"runs": list})
}

// TimesJSON writes how long tasks take as one JSON object.
func TimesJSON(w io.Writer, times []history.Times) error {
	type jsonTimes struct {
		Task      string `json:"task"`
		Ran       int    `json:"ran"`
		Unchanged int    `json:"unchanged"`
		Failed    int    `json:"failed"`
		MedianMs  *int64 `json:"median_ms"`
		LowMs     *int64 `json:"low_ms"`
		HighMs    *int64 `json:"high_ms"`
		P90Ms     *int64 `json:"p90_ms"` // nine in ten took no longer

		TrendMs []int64 `json:"trend_ms"` // of the last ones, the oldest first
	}
	list := []jsonTimes{}
	for _, t := range times {
		out := jsonTimes{Task: t.Task, Ran: t.Ran, Unchanged: t.Unchanged, Failed: t.Failed, TrendMs: []int64{}}
		for _, took := range t.Trend {
			out.TrendMs = append(out.TrendMs, took.Milliseconds())
		}
		if t.Ran > 0 {
			median, low, high, p90 := t.Median.Milliseconds(), t.Low.Milliseconds(), t.High.Milliseconds(), t.P90.Milliseconds()
			out.MedianMs, out.LowMs, out.HighMs, out.P90Ms = &median, &low, &high, &p90
		}
		list = append(list, out)
	}
	return JSON(w, map[string]any{"tasks": list})
}
