package engine

import (
	"fmt"
	"slices"

	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/plan"
)

// Foreseen is what a run would do with a step.
type Foreseen struct {
	Step    *plan.Step
	Action  Action
	Reasons []fingerprint.Reason
}

// Foresee returns what a run of p would do with each step but the groups, in
// order. It changes nothing.
func (m *Memory) Foresee(p *plan.Plan) ([]Foreseen, error) {
	var all []Foreseen
	pending := map[*plan.Step]bool{} // they may write something
	for _, s := range p.Steps {
		if s.Task.IsGroup() && s.Skip == "" {
			continue
		}
		var inputs []plan.Input
		if declares(s) {
			inputs = s.Inputs()
		}
		v, err := m.Judge(s, inputs)
		if err != nil {
			return nil, err
		}
		f := Foreseen{s, v.Action, v.Reasons}
		if err := f.weigh(pending); err != nil {
			return nil, err
		}
		if err := m.weighConditions(&f, pending); err != nil {
			return nil, err
		}
		if f.Action != Leave && f.Action != Skip {
			pending[s] = true
		}
		all = append(all, f)
	}
	return all, nil
}

// weighConditions makes a verdict uncertain, or none, that rests on conditions
// which are asked when the needs have ended. Scripts are not run for it.
func (m *Memory) weighConditions(f *Foreseen, pending map[*plan.Step]bool) error {
	s := f.Step
	if f.Action == Skip || len(s.When) == 0 && s.Task.When.Run.Value == "" {
		return nil
	}
	if len(s.When) > 0 && !slices.ContainsFunc(s.Needs, func(need *plan.Step) bool { return pending[need] }) {
		missing, err := missingFiles(m.Files, s)
		if missing != "" || err != nil {
			f.Action, f.Reasons = Skip, reason("skip", missing)
			return err
		}
		if s.Task.When.Run.Value == "" {
			return nil
		}
	}
	if f.Action != Leave {
		f.Action = Maybe
		f.Reasons = append(reason("when", "its condition is asked when its needs have ended"), f.Reasons...)
	}
	return nil
}

// weigh makes a verdict uncertain that rests on files which an earlier step
// may still write.
func (f *Foreseen) weigh(pending map[*plan.Step]bool) error {
	var before *plan.Step
	var written []plan.Glob
	for _, via := range f.Step.Through {
		if pending[via.Step] {
			before = via.Step
			written = append(written, via.Step.Writes...)
		}
	}
	if before == nil || f.Action == Skip || len(f.Reasons) > 0 && f.Reasons[0].Kind == "as-is" {
		return nil
	}
	set, err := glob.Compile(plan.Patterns(written))
	if err != nil {
		return err
	}
	if f.Action != Leave {
		var certain []fingerprint.Reason
		for _, r := range f.Reasons {
			if r.Kind != "file" && r.Kind != "output" || r.Kind == "file" && !set.Match(r.What) {
				certain = append(certain, r)
			}
		}
		if len(certain) > 0 {
			f.Action, f.Reasons = ToRun, certain
			return nil
		}
	}
	f.Action = Maybe
	f.Reasons = []fingerprint.Reason{{Kind: "upstream", What: before.Name, Text: fmt.Sprintf("%s may change what it reads", before.Name)}}
	return nil
}
