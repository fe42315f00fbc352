package plan

import "tugline/internal/project"

// Trigger tells when steps are wanted that somebody's calls bring in.
type Trigger struct {
	Kind project.Kind // DirectCalls, Then, IfFailed, Finally or AtEnd
	// Owners are those whose end decides, each a Body, a Start (of DirectCalls) or
	// an Outcome; of AtEnd the end of the call.
	Owners []*Step
	Level  Level
}

// Level tells in spite of what a step is started.
type Level int

// The levels, the later ones including the earlier ones.
const (
	Ordinary  Level = iota
	AfterFail       // a failure elsewhere does not keep it from starting
	Final           // nor does an interrupt
)

// Outcomes is a set of ways in which a step may end. One that has ended has two of
// them: a way to end, and Started or NotStarted.
type Outcomes uint8

// The ways to end, and what counts for finally besides.
const (
	Succeeded Outcomes = 1 << iota // it ran, was restored or needed nothing
	Failed
	Skipped
	Stopped
	Blocked
	Started // its first command has, or the first of what it calls
	NotStarted

	// AnyEnd is what is known of a step of which nothing is known, but for what
	// happens elsewhere.
	AnyEnd = Succeeded | Failed | Skipped | Started | NotStarted

	ways = Succeeded | Failed | Skipped | Stopped | Blocked
)

// may reports whether one of some is possible.
func (o Outcomes) may(some Outcomes) bool { return o&some != 0 }

// must reports whether, of all, nothing but some is possible.
func (o Outcomes) must(some, all Outcomes) bool { return o&all != 0 && o&all&^some == 0 }

// Made tells whether calls are made.
type Made int

// What can be known of calls.
const (
	NotMade Made = iota
	MayBeMade
	IsMade
)

// Decide tells whether the calls of t are made, by the ways in which its owners may
// end. It is the one place that says so, for a run and for what looks ahead.
func (t *Trigger) Decide(of func(owner *Step) Outcomes) Made {
	const bad = Failed | Stopped | Blocked
	var may, must, mayNot, mustNot bool
	for _, owner := range t.Owners {
		o := of(owner)
		switch t.Kind {
		case project.DirectCalls, project.Then: // one ended well, and none badly
			may, must = may || o.may(Succeeded), must || o.must(Succeeded, ways)
			mayNot, mustNot = mayNot || o.may(bad), mustNot || o.must(bad, ways)
		case project.IfFailed:
			may, must = may || o.may(Failed), must || o.must(Failed, ways)
		case project.AtEnd:
			may, must = true, true
		case project.Finally:
			may, must = may || o.may(Started), must || o.must(Started, Started|NotStarted)
		}
	}
	switch {
	case !may || mustNot:
		return NotMade
	case must && !mayNot:
		return IsMade
	}
	return MayBeMade
}
