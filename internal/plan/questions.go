package plan

import (
	"slices"

	"tugline/internal/project"
)

// Question is what is to be answered with yes before anything starts.
type Question struct {
	Task *project.Task
	Text string
}

// Questions returns what the steps of p ask, each once. Of instances that are
// not known yet, and of what they call, the text is not filled in.
func (p *Plan) Questions() ([]Question, error) {
	var all []Question
	add := func(q Question) {
		if !slices.Contains(all, q) {
			all = append(all, q)
		}
	}
	seen := map[*project.Task]bool{}
	var unfilled func(t *project.Task)
	unfilled = func(t *project.Task) {
		if seen[t] {
			return
		}
		seen[t] = true
		if t.Ask.Value != "" {
			add(Question{t, t.Ask.Value})
		}
		for _, c := range t.Calls() {
			unfilled(c.Task)
		}
	}
	for _, s := range p.Steps {
		switch {
		case s.Loop != nil:
			unfilled(s.Task)
		case s.Previous == nil && s.Role != Outcome && s.Skip == "" && s.Task.Ask.Value != "":
			text, err := s.Expand(s.Task.Ask)
			if err != nil {
				return nil, project.Diagnostics{{Span: s.Task.Ask.Span, Msg: err.Error()}}
			}
			add(Question{s.Task, p.builder.req.Secrets.Text(text)})
		}
	}
	return all, nil
}
