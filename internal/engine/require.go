package engine

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// Checked is a requirement, held against what is there.
type Checked struct {
	Task    *project.Task
	Require *project.Requirement
	Path    string // of the tool or the file; empty: it is not there
	Version string // of the tool; empty: not asked for, or not found out
	Problem string // empty: all is well
}

// CheckRequirements looks for all that the steps of p require, each once. The
// second result is a [*MissingError] with all that is missing, or nil.
func CheckRequirements(ctx context.Context, exec Exec, p *plan.Plan, grace time.Duration) ([]Checked, error) {
	var all []Checked
	var missing project.Diagnostics
	seen := map[string]bool{}
	for _, required := range requiredBy(p) {
		s, t, r := required.step, required.task, required.require
		file, err := s.Expand(r.File)
		if err != nil && s.Loop != nil {
			continue // it depends on values that are not known yet
		}
		if err != nil {
			return nil, project.Diagnostics{{Span: r.File.Span, Msg: err.Error()}}
		}
		key := fmt.Sprintf("%q", []string{t.File.Folder, s.Folder, r.Tool, r.Version.Value, file, r.Run.Value})
		if seen[key] {
			continue
		}
		seen[key] = true
		c := Checked{Task: t, Require: r}
		c.look(ctx, exec, s, file, grace)
		all = append(all, c)
		if c.Problem != "" {
			missing = append(missing, project.Diagnostic{Span: r.Span, Msg: fmt.Sprintf("task %q needs %s", t.Name, c.Problem), Hint: r.Hint})
		}
	}
	if len(missing) > 0 {
		missing.Sort()
		return all, &MissingError{slices.CompactFunc(missing, same)}
	}
	return all, nil
}

// required is what a task requires, with a step in whose environment that is
// looked for: one of its own, or one that may bring it in.
type required struct {
	step    *plan.Step
	task    *project.Task
	require *project.Requirement
}

// requiredBy returns what the steps of p require, and what those may bring in
// whose instances are not known yet.
func requiredBy(p *plan.Plan) []required {
	var all []required
	for _, s := range p.Steps {
		seen := map[*project.Task]bool{}
		var visit func(t *project.Task)
		visit = func(t *project.Task) {
			if seen[t] || t.Absent != "" {
				return
			}
			seen[t] = true
			for i := range t.Require {
				all = append(all, required{s, t, &t.Require[i]})
			}
			if s.Loop != nil {
				for _, c := range t.Calls() {
					visit(c.Task)
				}
			}
		}
		if s.Skip == "" && (s.Loop != nil || len(s.Task.Require) > 0) {
			visit(s.Task)
		}
	}
	return all
}

// look finds what c requires for s, and says what is wrong with it.
func (c *Checked) look(ctx context.Context, exec Exec, s *plan.Step, file string, grace time.Duration) {
	r, env := c.Require, s.Environ()
	if r.Tool != "" {
		path, err := shell.LookPath(env, s.Folder)(r.Tool)
		if err != nil {
			c.Problem = fmt.Sprintf("the tool %q, which was not found", r.Tool)
			return
		}
		c.Path = path
		if r.Version.Value != "" && !c.version(ctx, exec, s, env, grace) {
			return
		}
	}
	if file != "" {
		if !filepath.IsAbs(file) {
			file = filepath.Join(c.Task.File.Folder, file)
		}
		if _, err := os.Stat(file); err != nil {
			c.Problem = fmt.Sprintf("the file %q, which does not exist", r.File.Value)
			return
		}
		c.Path = file
	}
	if r.Run.Value != "" {
		if _, err := Output(ctx, exec, r.Run, env, s.Folder, grace); err != nil {
			first, _, _ := strings.Cut(strings.TrimSpace(r.Run.Value), "\n")
			c.Problem = fmt.Sprintf("what %q checks: %v", first, err)
		}
	}
}

// aVersion matches what a program may print as its version.
var aVersion = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\d+(\.\d+)+([-+][0-9A-Za-z.-]+)?|\d+`) })

// version asks the tool for its version, and reports whether it is in the range.
func (c *Checked) version(ctx context.Context, exec Exec, s *plan.Step, env []string, grace time.Duration) bool {
	r := c.Require
	script, asked := project.Text{Value: plan.Quote(c.Path) + " --version 2>&1"}, c.Path+" --version"
	if r.From.Value != "" {
		script, asked = r.From, r.From.Value
	}
	printed, err := Output(ctx, exec, script, env, s.Folder, grace)
	c.Version = aVersion().FindString(printed)
	switch {
	case err != nil:
		c.Problem = fmt.Sprintf("%s %s, and %s does not tell which one it is: %v", r.Tool, r.Version.Value, asked, err)
	case c.Version == "":
		first, _, _ := strings.Cut(strings.TrimSpace(printed), "\n")
		c.Problem = fmt.Sprintf("%s %s, and %s does not tell which one it is: it prints %q", r.Tool, r.Version.Value, asked, first)
	case !r.Accepts(c.Version):
		c.Problem = fmt.Sprintf("%s %s, but %s is %s", r.Tool, r.Version.Value, c.Path, c.Version)
	}
	return c.Problem == ""
}
