package session

import (
	"context"
	"slices"

	"tugline/internal/cache"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// Accept records what is there now as the last good run of the tasks that a request
// calls. The error is a [*cache.AcceptError] where that cannot be.
func (s *Session) Accept(ctx context.Context, r Request) ([]cache.Accepted, error) {
	pl, err := s.Plan(ctx, r)
	if err != nil {
		return nil, err
	}
	c := s.Cache(r)
	if !s.create(c) {
		return nil, &cache.AcceptError{Msg: "nothing can be recorded here"}
	}
	preview, err := c.Preview(ctx, pl)
	if err != nil {
		return nil, err
	}
	called := func(t *project.Task) bool {
		return slices.ContainsFunc(r.Calls, func(call project.Call) bool { return s.taskOf(call) == t })
	}
	var all []cache.Accepted
	var steps []*plan.Step
	var inputs [][]plan.Input
	for _, one := range preview.Steps {
		if !called(one.Step.Task) {
			continue
		}
		if one.Step.Stays() {
			return nil, &cache.AcceptError{Msg: "\"" + one.Step.Name + "\" is a service: it has no result to accept"}
		}
		all = append(all, cache.Accepted{StepPreview: one})
		if one.Action != cache.Skip && (one.Action != cache.UpToDate || len(one.Reasons) > 0) {
			steps = append(steps, one.Step)
			inputs = append(inputs, one.Step.Inputs())
		}
	}
	records, err := c.Accept(ctx, steps, inputs)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if at := slices.Index(steps, all[i].Step); at >= 0 {
			all[i].Record = records[at]
		}
	}
	return all, s.Files().Save(s.Ledger.Folder())
}
