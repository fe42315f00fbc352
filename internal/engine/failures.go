package engine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// failedSteps returns the steps that failed below one that failed, in their order: those
// with commands, and those that waited in vain before they called others.
func (l *loop) failedSteps(s *plan.Step, seen map[*plan.Step]bool) []*plan.Step {
	if l.state[s.Index] != Failed || seen[s] {
		return nil
	}
	seen[s] = true
	if s.Works() || l.summary.Results[s.Index].Failure != nil {
		return []*plan.Step{s}
	}
	var all []*plan.Step
	if s.Previous != nil {
		all = l.failedSteps(s.Previous, seen)
	}
	for _, entry := range s.Called {
		all = append(all, l.failedSteps(entry, seen)...)
	}
	return all
}

// failureEnv returns the variables that tell a step of the failure after which
// it is called.
func (l *loop) failureEnv(s *plan.Step) []string {
	if s.CalledFor == nil || s.CalledFor.Kind == project.Then {
		return nil
	}
	var all []*plan.Step
	seen := map[*plan.Step]bool{}
	for _, owner := range s.CalledFor.Owners {
		all = append(all, l.failedSteps(owner, seen)...)
	}
	if len(all) == 0 {
		return nil
	}
	names := make([]string, len(all))
	for i, f := range all {
		names[i] = f.Name
	}
	f := all[0]
	env := []string{"TUGLINE_FAILED_TASK=" + f.Name, "TUGLINE_FAILED_CALLS=" + strings.Join(names, "\n")}
	if failure := l.summary.Results[f.Index].Failure; failure != nil && failure.Code != 0 { // else it gave none, as after a time-out
		env = append(env, "TUGLINE_EXIT_CODE="+strconv.Itoa(failure.Code))
	}
	if l.cfg.Log != nil {
		env = append(env, "TUGLINE_FAILED_LOG="+l.cfg.Log(f))
	}
	return env
}

// noteFailure notes a failure in every failure scope around it, and ends what it is to end.
func (l *loop) noteFailure(f *plan.Step) {
	var inner *plan.FailureScope
	for w := f.FailureScope; ; w = w.Outer {
		if !slices.ContainsFunc(l.failures[w], func(other failure) bool { return other.inner == inner }) {
			l.failures[w] = append(l.failures[w], failure{inner, f})
		}
		if w == nil {
			break
		}
		inner = w
	}
	for s, cancel := range l.cancels {
		if by, how := l.afterFailure(s); by != nil && how == "abort" && l.triggered(s).level == plan.Ordinary {
			cancel(fmt.Errorf("%w because %q failed", errAborted, by.Name))
		}
	}
	l.cancelHolds()
}

// failure is the first one that happened in a failure scope, or in one directly inside it.
type failure struct {
	inner *plan.FailureScope // where it happened; nil: in the scope itself
	step  *plan.Step
}

// afterFailure returns the first failure that keeps a step from starting, and what it
// does: drain or abort. nil: there is none.
func (l *loop) afterFailure(s *plan.Step) (by *plan.Step, how string) {
	var inner *plan.FailureScope
	for w := s.FailureScope; ; w = w.Outer {
		for _, f := range l.failures[w] {
			if f.inner == inner && inner != nil || f.step == s {
				continue // it is noted in that scope
			}
			if how = l.policy(w); how != "continue" {
				return f.step, how
			}
		}
		if w == nil {
			return nil, ""
		}
		inner = w
	}
}

// policy returns what a failure does to the others of its scope.
func (l *loop) policy(w *plan.FailureScope) string {
	switch {
	case l.cfg.AfterAll != "":
		return l.cfg.AfterAll
	case w != nil:
		return w.After
	case l.cfg.After != "":
		return l.cfg.After
	}
	return "drain"
}
