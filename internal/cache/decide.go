package cache

import (
	"context"
	"fmt"
	"time"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// Decide returns what is to be done with a step whose inputs are given, as
// things are now. moved says that a step it waits for has done something in this
// run. It changes nothing.
func (c *Cache) Decide(ctx context.Context, s *plan.Step, inputs []plan.Input, moved bool) (Decision, error) {
	v, err := c.decide(ctx, s, inputs, c.Files)
	v.moved = moved
	if err == nil && c.Round != nil && !isAfterFailure(s) {
		err = c.inRound(s, moved, &v)
	}
	return v, err
}

// inRound makes a decision one for a round of a watch: what has no fingerprint that
// decides runs when the round touches it.
func (c *Cache) inRound(s *plan.Step, moved bool, v *Decision) (err error) {
	sum, well := c.Round.Ended(s)
	switch {
	case c.AsIs[s.Task] || s.Skip != "":
	case c.Round.Touched(s.WatchAlso):
		v.Action, v.Reasons = ToRun, reason("watched", "a file of watch_also changed")
		if v.reads == nil {
			v.reads, err = c.match(s.Reads)
		}
	case Declares(s) && !s.Task.Always, moved, !well, sum != v.now.Sum:
	case c.Round.Touched(s.Reads):
	case v.Action == ToRun:
		v.Action, v.Reasons = UpToDate, reason("untouched", "nothing it reads or needs changed in this round")
	}
	return err
}

// decide is Decide for the files of a view.
func (c *Cache) decide(ctx context.Context, s *plan.Step, inputs []plan.Input, in fileView) (Decision, error) {
	switch {
	case s.Skip != "":
		return Decision{Action: Skip, Reasons: reason("skip", s.Skip)}, nil
	case s.Stays():
		return Decision{Action: ToStart}, nil
	case c.AsIs[s.Task]:
		return Decision{Action: UpToDate, Reasons: reason("as-is", "treated as unchanged, as requested")}, nil
	case !Declares(s):
		v := Decision{Action: ToRun, Reasons: reason("undeclared", "declares neither reads nor writes")}
		v.now = fingerprint.Compute(s, inputs, files.Digest{}, c.World)
		if isAfterFailure(s) {
			v.Reasons = calledReason(s)
		} else {
			c.resume(s, &v)
		}
		return v, nil
	}
	v := Decision{Action: ToRun, listed: listedIn(s.Reads)}
	head, known := c.Ledger.Head(s.ID())
	v.head = head
	reads, err := inputsOf(s, &v, known, in)
	if err != nil {
		return v, err
	}
	if v.outputs, err = sumOutputs(s.Writes, in); err != nil {
		return v, err
	}
	v.now = fingerprint.Compute(s, inputs, reads, c.World)
	switch {
	case isAfterFailure(s):
		v.Reasons = calledReason(s)
	case len(v.now.Unknown) > 0:
		v.Reasons = reason("secret", fmt.Sprintf("cannot tell whether the secret %s changed: no key to compare it", v.now.Unknown[0]))
	case c.ForceNeeds || c.Force[s.Task]:
		v.Reasons = reason("forced", "forced")
		c.resume(s, &v)
	case s.Task.Always:
		v.Reasons = reason("always", "always runs")
		c.resume(s, &v)
	default:
		err = c.compare(ctx, s, &v, head, known, in)
		if err == nil && v.Action == ToRun && s.Depfile != "" && !(len(v.Reasons) == 1 && v.Reasons[0].Kind == "failed") {
			err = c.findListed(ctx, s, &v, inputs, in)
		}
	}
	if err == nil && v.Action != UpToDate && v.reads == nil {
		if v.reads, err = match(s.Reads, in); err == nil { // now, while it is known
			v.agree(s, inputs, reads, c.World)
		}
	}
	if err == nil && len(s.Reads) > 0 {
		c.noteEmptyReads(s, &v)
	}
	return v, err
}

// agree makes the fingerprint that of the files in v.reads, should one of them
// have changed since their sum was made.
func (v *Decision) agree(s *plan.Step, inputs []plan.Input, sum files.Digest, w fingerprint.World) {
	if len(s.Reads) == 0 || files.SumOf(v.reads) == sum {
		return
	}
	v.now = fingerprint.Compute(s, inputs, files.SumOf(v.reads), w)
	v.Action = ToRun
}

// isAfterFailure reports whether a step is made since another one failed: then
// it runs, whatever has changed.
func isAfterFailure(s *plan.Step) bool {
	return s.CalledFor != nil && s.CalledFor.Kind == project.IfFailed
}

func calledReason(s *plan.Step) []fingerprint.Reason {
	return reason("called", fmt.Sprintf("called because %q failed", s.CalledFor.Owners[0].Name))
}

// inputsOf returns the sum of what a step reads. One without a record will not be
// left, so its files are found at once.
func inputsOf(s *plan.Step, v *Decision, known bool, in fileView) (files.Digest, error) {
	if known || len(s.Reads) == 0 {
		return sum(s.Reads, in)
	}
	set, err := glob.Compile(plan.Patterns(s.Reads))
	if err != nil {
		return files.Digest{}, err
	}
	found, digest, err := in.MatchAndSum(set)
	v.reads = found
	return digest, err
}

// compare holds a step against its record, of which head is known if there is one.
func (c *Cache) compare(ctx context.Context, s *plan.Step, v *Decision, head history.Head, found bool, in fileView) (err error) {
	v.Saved = time.Duration(head.Ms) * time.Millisecond
	begun, mark, isBegun := c.Ledger.Begun(s.ID())
	switch {
	case isBegun && begun == v.now.Sum && mark == history.Started:
		v.Reasons = reason("failed", "its last run did not succeed")
		return nil
	case found && !isBegun && head.Sum == v.now.Sum && head.OutputsSum == v.outputs.String():
		v.Action = UpToDate
		return nil
	}
	if v.Reasons, err = c.differences(s, v, in); err != nil {
		return err
	}
	if c.storesOutputs(s) && c.inStore(ctx, v.now.Sum) {
		can, err := c.canRestore(ctx, s, v, in)
		if err != nil {
			return err
		}
		if can {
			v.Action = ToRestore
		}
	}
	return nil
}

// differences returns in what a step differs from its last good run.
func (c *Cache) differences(s *plan.Step, v *Decision, in fileView) ([]fingerprint.Reason, error) {
	record, found := c.Ledger.Read(s.ID())
	if !found {
		return reason("first", "first run here"), nil
	}
	reads, err := match(s.Reads, in)
	if err != nil {
		return nil, err
	}
	now := v.now
	now.Files = fingerprint.Files(reads)
	reasons := fingerprint.Compare(record.Fingerprint, now)
	for i := range reasons {
		if r := &reasons[i]; r.Kind == "variable" {
			if place, used := s.PlaceOf(r.What); !place.IsZero() {
				at, of := place.String(), "declaration"
				if used {
					of = "use"
				}
				r.Place, r.PlaceOf = &at, &of
			}
		}
	}
	if len(reasons) == 0 {
		outputs, err := matchOutputs(s.Writes, in)
		if err != nil {
			return nil, err
		}
		reasons = fingerprint.CompareFiles("output", record.Outputs, fingerprint.Files(outputs))
	}
	if len(reasons) == 0 {
		reasons = reason("failed", "its last run did not succeed")
		if _, mark, begun := c.Ledger.Begun(s.ID()); begun && mark == history.Changed {
			reasons = reason("changed", "its inputs changed during its last run")
		}
	}
	return reasons, nil
}

// sum returns the sum of the files that globs mean.
func sum(globs []plan.Glob, in fileView) (files.Digest, error) {
	if len(globs) == 0 {
		return files.Digest{}, nil
	}
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return files.Digest{}, err
	}
	return in.Sum(set)
}

// sumOutputs returns the sum of the outputs that globs mean.
func sumOutputs(globs []plan.Glob, in fileView) (files.Digest, error) {
	if len(globs) == 0 {
		return files.Digest{}, nil
	}
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return files.Digest{}, err
	}
	return in.SumOutputs(set)
}

// matchOutputs returns the outputs that globs mean.
func matchOutputs(globs []plan.Glob, in fileView) ([]files.Found, error) {
	if len(globs) == 0 {
		return nil, nil
	}
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return nil, err
	}
	return in.Outputs(set, 0)
}

// match returns the files that globs mean, as they are.
func (c *Cache) match(globs []plan.Glob) ([]files.Found, error) { return match(globs, c.Files) }

// match returns the files that globs mean.
func match(globs []plan.Glob, in fileView) ([]files.Found, error) {
	if len(globs) == 0 {
		return nil, nil
	}
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return nil, err
	}
	return in.Match(set)
}

// Paths returns the files that globs mean, as they are there now.
func Paths(tree *files.Tree, globs []plan.Glob) ([]string, error) {
	set, err := glob.Compile(plan.Patterns(globs))
	if err != nil {
		return nil, err
	}
	found, err := tree.Match(set)
	paths := make([]string, len(found))
	for i := range found {
		paths[i] = found[i].Path
	}
	return paths, err
}

// Paths returns the files that a step reads and writes, as far as they are
// there.
func (c *Cache) Paths(s *plan.Step) (reads, writes []string, err error) {
	for _, list := range []struct {
		globs []plan.Glob
		paths *[]string
	}{{s.Reads, &reads}, {s.Writes, &writes}} {
		found, err := c.match(list.globs)
		if err != nil {
			return nil, nil, err
		}
		for i := range found {
			*list.paths = append(*list.paths, found[i].Path)
		}
	}
	return reads, writes, nil
}

// resume leaves a step as it is that was finished in the run that is resumed, if
// what it depends on is the same.
func (c *Cache) resume(s *plan.Step, v *Decision) {
	if c.Resumed == nil {
		return
	}
	run, finished, same := c.Resumed(s, v.now.Sum)
	switch {
	case !finished:
	case same && len(v.now.Unknown) == 0:
		v.Action, v.Finished, v.Saved = UpToDate, true, 0
		v.Reasons = reason("done", "finished in run "+run)
	default:
		v.Reasons = append([]fingerprint.Reason{{Kind: "changed", What: run, Text: fmt.Sprintf("changed since run %s", run)}}, v.Reasons...)
	}
}

// Sum returns the sum of the fingerprint of a service as things are now. What a page
// server serves does not count.
func (c *Cache) Sum(s *plan.Step, inputs []plan.Input) (string, error) {
	var reads files.Digest
	var err error
	if s.Task.Service.Serve == nil {
		reads, err = sum(s.Reads, c.Files)
	}
	return fingerprint.Compute(s, inputs, reads, c.World).Sum, err
}

// Sum returns the sum of the fingerprint by which a step was decided, or with which
// it ended; empty: it is not known.
func (d *Decision) Sum() string { return d.now.Sum }

// IsStale reports whether another Tugline has run a step since it was decided.
func (c *Cache) IsStale(s *plan.Step, d *Decision) bool {
	head, _ := c.Ledger.Head(s.ID())
	return head != d.head
}
