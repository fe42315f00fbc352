package engine

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"tugline/internal/parallel"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// Scripts holds what is run for the scripts of a plan's steps, made ready once.
type Scripts struct {
	mu    sync.RWMutex // protects the fields below
	ready map[*project.Text]script
	kept  int // bytes of the scripts whose programs are kept
}

// keptScripts is how many bytes of scripts are kept parsed. A parsed one takes
// some seventy times its length, and parsing it again less time than a step takes.
const keptScripts = 16 << 10

// of returns what is run for a script.
func (s *Scripts) of(text *project.Text) script {
	s.mu.RLock()
	ready := s.ready[text]
	s.mu.RUnlock()
	if ready.program == nil && ready.args == nil {
		ready.program, _ = shell.Parse(text.Value) // it was found good before
	}
	return ready
}

// add makes the scripts of further steps ready. The error is as that of [Prepare].
func (s *Scripts) add(steps []*plan.Step) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := checker{scripts: s}
	c.steps(steps)
	return c.result()
}

// script is one script, ready to run.
type script struct {
	args    []string       // the interpreter and its arguments; or:
	program *shell.Program // of the built-in shell; nil: it is to be parsed again
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
	c.steps(p.Steps)
	return c.scripts, c.result()
}

// Examine looks at every script of tasks as [Prepare] does, without a plan.
// Tasks that have commands for other systems alone are left out.
func Examine(tasks []*project.Task, system string, lookPath func(string) (string, error)) error {
	c := checker{scripts: &Scripts{ready: map[*project.Text]script{}}}
	for _, t := range tasks {
		if run := t.RunOn(system); len(run) > 0 {
			c.task(t, run, lookPath)
		}
	}
	return c.result()
}

type checker struct {
	scripts        *Scripts
	parsed         []parsing // for the built-in shell or bash
	wrong, missing project.Diagnostics
}

// parsing is a script that is still to be parsed.
type parsing struct {
	task     *project.Task
	text     *project.Text
	lookPath func(string) (string, error)
	keep     bool           // the program is kept
	program  *shell.Program // nil: not kept, or not good
	problems []shell.Problem
	examined shell.Examined // of a script whose text decides what runs it
	settled  bool           // the built-in shell runs it, and what was parsed is not kept
}

// parse parses the script.
func (p *parsing) parse() {
	if p.task.Shell.Only {
		p.program, p.problems = shell.Parse(p.text.Value)
	} else if p.examined = shell.Examine(p.text.Value); p.examined.InBuiltin() && !p.keep {
		p.examined, p.settled = shell.Examined{}, true
	}
	if !p.keep {
		p.program = nil
	}
}

func (c *checker) steps(steps []*plan.Step) {
	for _, s := range steps {
		lookPath := func(name string) (string, error) { return shell.LookPath(s.Environ(), s.Folder)(name) }
		switch {
		case s.Loop != nil: // its instances are not known yet, but what they may run is
			c.reachable(s.Task, lookPath, map[*project.Task]bool{})
		case s.Role == plan.Body && s.Skip == "":
			c.task(s.Task, s.Run, lookPath)
		}
	}
}

// reachable looks at the scripts of a task and of all that it names.
func (c *checker) reachable(t *project.Task, lookPath func(string) (string, error), seen map[*project.Task]bool) {
	if seen[t] || t.Absent != "" {
		return
	}
	seen[t] = true
	c.task(t, t.RunOn(runtime.GOOS), lookPath)
	for _, call := range t.Calls() {
		c.reachable(call.Task, lookPath, seen)
	}
}

// parse parses the scripts that were met, on all processors.
func (c *checker) parse() {
	parallel.Do(len(c.parsed), 32, func(from, to int) {
		for i := from; i < to; i++ {
			c.parsed[i].parse()
		}
	})
	for _, p := range c.parsed {
		ready := script{program: p.program}
		if p.task.Shell.Only {
			shell.SayWhereParsed(context.Background(), p.text.Value, p.problems, p.lookPath)
		} else if !p.settled {
			chosen, problems := p.examined.Choose(context.Background(), p.text.Value, p.lookPath)
			ready.program, ready.args, p.problems = chosen.Program, chosen.Args, problems
			if !p.keep {
				ready.program = nil
			}
		}
		c.scripts.ready[p.text] = ready
		for _, problem := range p.problems {
			c.wrong = append(c.wrong, project.Diagnostic{
				Span: p.text.At(problem.Offset, problem.Length), Msg: fmt.Sprintf("task %q: %s", p.task.Name, problem.Msg), Hint: problem.Hint,
			})
		}
	}
	c.parsed = nil
}

func (c *checker) result() error {
	c.parse()
	if len(c.wrong) > 0 {
		c.wrong.Sort()
		return slices.CompactFunc(c.wrong, same)
	}
	if len(c.missing) > 0 {
		c.missing.Sort()
		return &MissingError{slices.CompactFunc(c.missing, same)}
	}
	return nil
}

// same reports whether two findings say the same, as those of two calls of one
// task do.
func same(a, b project.Diagnostic) bool { return a.Span == b.Span && a.Msg == b.Msg }

// task looks at the scripts of a task.
func (c *checker) task(t *project.Task, run []project.Text, lookPath func(string) (string, error)) {
	if len(run) == 0 && !t.IsGroup() && (t.Service == nil || t.Service.Serve == nil) {
		c.missing = append(c.missing, project.Diagnostic{
			Span: t.Span, Msg: fmt.Sprintf("task %q has no commands for this system", t.Name), Hint: `give it "run"`,
		})
	}
	for i := range run {
		text := &run[i]
		if _, done := c.scripts.ready[text]; done {
			continue // another call of the task
		}
		args, err := shell.Interpreter(text.Value, t.Shell.Args, lookPath)
		if err != nil {
			span := t.Shell.Span
			if strings.HasPrefix(text.Value, "#!") || span.IsZero() {
				line, _, _ := strings.Cut(text.Value, "\n")
				span = text.At(0, len(line))
			}
			c.missing = append(c.missing, project.Diagnostic{Span: span, Msg: fmt.Sprintf("task %q: %v", t.Name, err), Hint: "install it, or mend the PATH"})
			continue
		}
		if args == nil {
			c.scripts.kept += len(text.Value)
			c.parsed = append(c.parsed, parsing{task: t, text: text, lookPath: lookPath, keep: c.scripts.kept <= keptScripts})
		}
		c.scripts.ready[text] = script{args: args}
	}
}
