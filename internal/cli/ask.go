package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"

	"tugline/internal/engine"
	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// ask has the user answer what the steps of a plan ask, each question once. Where
// nobody can answer, that is a missing requirement.
func (a *app) ask(ctx context.Context, pl *plan.Plan, yes bool) error {
	questions, err := pl.Questions()
	if err != nil || yes {
		return err
	}
	questions = slices.DeleteFunc(questions, func(q plan.Question) bool { return a.answered[q] })
	if !output.IsTerminal(a.env.Stdin) {
		var found project.Diagnostics
		for _, q := range questions {
			found = append(found, project.Diagnostic{
				Span: q.Task.Ask.Span, Msg: fmt.Sprintf("task %q asks %q, and there is no terminal to answer on", q.Task.Name, q.Text), Hint: "--yes answers it",
			})
		}
		if len(found) > 0 {
			found.Sort()
			return &engine.MissingError{Diagnostics: found}
		}
		return nil
	}
	answers := bufio.NewReader(a.env.Stdin)
	for _, q := range questions {
		a.tell(fmt.Sprintf("%s: %s (yes or no) ", q.Task.Name, q.Text))
		answer, err := readLine(ctx, answers)
		if err != nil {
			a.tell("\n")
			return err
		}
		if a.answered == nil {
			a.answered = map[plan.Question]bool{}
		}
		a.answered[q] = true
		if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "y" && answer != "yes" {
			return &engine.MissingError{Diagnostics: project.Diagnostics{{Span: q.Task.Ask.Span, Msg: fmt.Sprintf("task %q was not agreed to: nothing was started", q.Task.Name)}}}
		}
	}
	return nil
}

// readLine reads a line, until ctx is done. Then the reading goes on in the
// background: Tugline ends.
func readLine(ctx context.Context, r *bufio.Reader) (string, error) {
	line := make(chan string, 1)
	go func() {
		text, _ := r.ReadString('\n') // without an end it is no yes
		line <- text
	}()
	select {
	case text := <-line:
		return text, nil
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}
