package engine

import (
	"fmt"
	"strings"

	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// Scripts holds what is run for the scripts of a plan's steps, made ready once.
type Scripts struct {
	ready map[*project.Text]script
}

// script is one script, ready to run.
type script struct {
	program *shell.Program // of the built-in shell; or:
	args    []string       // the interpreter and its arguments
}

// MissingError says that something which a step needs is not there: an
// interpreter, or commands for this system.
type MissingError struct{ project.Diagnostics }

// Unwrap returns the findings.
func (e *MissingError) Unwrap() error { return e.Diagnostics }

// Prepare parses every script of p and finds the interpreters they need. The
// error is a [project.Diagnostics] when scripts cannot be run as they are
// written, else a [*MissingError] when interpreters are missing.
func Prepare(p *plan.Plan) (*Scripts, error) {
	c := checker{scripts: &Scripts{ready: make(map[*project.Text]script, len(p.Steps))}}
	for _, s := range p.Steps {
		c.step(s)
	}
	if len(c.wrong) > 0 {
		c.wrong.Sort()
		return nil, c.wrong
	}
	if len(c.missing) > 0 {
		c.missing.Sort()
		return nil, &MissingError{c.missing}
	}
	return c.scripts, nil
}

type checker struct {
	scripts        *Scripts
	wrong, missing project.Diagnostics
}

func (c *checker) step(s *plan.Step) {
	if len(s.Run) == 0 && !s.Task.IsGroup() {
		c.missing = append(c.missing, project.Diagnostic{
			Span: s.Task.Span, Msg: fmt.Sprintf("task %q has no commands for this system", s.Name), Hint: `give it "run"`,
		})
	}
	lookPath := func(name string) (string, error) { return shell.LookPath(s.Environ(), s.Folder)(name) }
	for i := range s.Run {
		text := &s.Run[i]
		args, err := shell.Interpreter(text.Value, s.Task.Shell.Args, lookPath)
		if err != nil {
			span := s.Task.Shell.Span
			if strings.HasPrefix(text.Value, "#!") || span.IsZero() {
				line, _, _ := strings.Cut(text.Value, "\n")
				span = text.At(0, len(line))
			}
			c.missing = append(c.missing, project.Diagnostic{Span: span, Msg: fmt.Sprintf("task %q: %v", s.Name, err), Hint: "install it, or mend the PATH"})
			continue
		}
		ready := script{args: args}
		if args == nil {
			var problems []shell.Problem
			ready.program, problems = shell.Parse(text.Value)
			for _, p := range problems {
				c.wrong = append(c.wrong, project.Diagnostic{
					Span: text.At(p.Offset, p.Length), Msg: fmt.Sprintf("task %q: %s", s.Name, p.Msg), Hint: p.Hint,
				})
			}
		}
		c.scripts.ready[text] = ready
	}
}
