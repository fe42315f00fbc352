package engine

import (
	"fmt"
	"slices"
	"strconv"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// failedStep returns the first step with commands that failed below one that
// failed; nil if there is none.
func (l *loop) failedStep(s *plan.Step) *plan.Step {
	if l.state[s.Index] != Failed {
		return nil
	}
	if s.Works() {
		return s
	}
	below := s.Entries
	if s.Of != nil {
		below = append([]*plan.Step{s.Of}, below...)
	}
	for _, entry := range below {
		if f := l.failedStep(entry); f != nil {
			return f
		}
	}
	return nil
}

// failureEnv returns the variables that tell a step of the failure after which
// it is called.
func (l *loop) failureEnv(s *plan.Step) []string {
	if s.For == nil || s.For.Kind == project.Then {
		return nil
	}
	for _, owner := range s.For.Owners {
		f := l.failedStep(owner)
		if f == nil {
			continue
		}
		env := []string{"TUGLINE_FAILED_TASK=" + f.Name}
		if code := l.summary.Results[f.Index].Failure.Code; code != 0 { // else it gave none, as after a time-out
			env = append(env, "TUGLINE_EXIT_CODE="+strconv.Itoa(code))
		}
		if l.cfg.Log != nil {
			env = append(env, "TUGLINE_FAILED_LOG="+l.cfg.Log(f))
		}
		return env
	}
	return nil
}

// noteFailure notes a failure in every ward around it, and ends what it is to end.
func (l *loop) noteFailure(f *plan.Step) {
	var inner *plan.Ward
	for w := f.Ward; ; w = w.Around {
		if !slices.ContainsFunc(l.failures[w], func(other failure) bool { return other.inner == inner }) {
			l.failures[w] = append(l.failures[w], failure{inner, f})
		}
		if w == nil {
			break
		}
		inner = w
	}
	for s, cancel := range l.cancels {
		if by, how := l.afterFailure(s); by != nil && how == "abort" && l.wish(s).level == plan.Ordinary {
			cancel(fmt.Errorf("%w because %q failed", errAborted, by.Name))
		}
	}
}

// failure is the first one that happened in a ward, or in one directly inside it.
type failure struct {
	inner *plan.Ward // where it happened; nil: in the ward itself
	step  *plan.Step
}

// afterFailure returns the first failure that keeps a step from starting, and what it
// does: drain or abort. nil: there is none.
func (l *loop) afterFailure(s *plan.Step) (by *plan.Step, how string) {
	var inner *plan.Ward
	for w := s.Ward; ; w = w.Around {
		for _, f := range l.failures[w] {
			if f.inner == inner && inner != nil || f.step == s {
				continue // it is noted in that ward
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

// policy returns what a failure in a ward does to the others of it.
func (l *loop) policy(w *plan.Ward) string {
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
