package output

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"time"

	"tugline/internal/engine"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// RunCSV writes the steps of a run as CSV (RFC 4180), a row each, with a heading. What is
// not known is empty, times are RFC 3339 in UTC.
func RunCSV(w io.Writer, run history.Run) error {
	rows := [][]string{{"name", "task", "state", "exit_code", "ms", "attempts", "started", "reason"}}
	for _, s := range run.Steps {
		code := ""
		if s.ExitCode != nil {
			code = strconv.Itoa(*s.ExitCode)
		}
		rows = append(rows, []string{s.Name, s.Task, s.State, code, strconv.FormatInt(s.Ms, 10), strconv.Itoa(s.Attempts), s.Started.UTC().Format(time.RFC3339), s.Reason})
	}
	return writeCSV(w, rows)
}

// RunsCSV writes runs as CSV, a row each, with a heading and a column for each state.
func RunsCSV(w io.Writer, runs []history.Run) error {
	heading := []string{"id", "started", "ms", "state", "request"}
	for _, state := range engine.States {
		heading = append(heading, string(state))
	}
	rows := [][]string{heading}
	for _, r := range runs {
		words := make([]string, len(r.Request))
		for i, word := range r.Request {
			words[i] = plan.Quote(word)
		}
		row := []string{r.ID, r.Started.UTC().Format(time.RFC3339), strconv.FormatInt(r.Ms, 10), r.State, strings.Join(words, " ")}
		for _, state := range engine.States {
			row = append(row, strconv.Itoa(r.Counts[string(state)]))
		}
		rows = append(rows, row)
	}
	return writeCSV(w, rows)
}

func writeCSV(w io.Writer, rows [][]string) error {
	out := csv.NewWriter(w)
	if err := out.WriteAll(rows); err != nil {
		return err
	}
	return out.Error()
}
