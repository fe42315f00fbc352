package cache

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// AcceptError says why what is there cannot be taken for the result of a step.
type AcceptError struct{ Msg string }

func (e *AcceptError) Error() string { return e.Msg }

// Accepted is a step of which what is there was taken for good.
type Accepted struct {
	StepPreview                // what it was before
	Record      history.Record // what was recorded; the zero record: there was nothing to accept
}

// Accept records what is there now as what the last good run of each of some steps left,
// without running them. It returns the records. Outputs that no run made are never stored,
// and count as edited. The error is an [*AcceptError] where that cannot be; then nothing is
// recorded. inputs are those of each step.
func (c *Cache) Accept(ctx context.Context, steps []*plan.Step, inputs [][]plan.Input) ([]history.Record, error) {
	root, err := os.OpenRoot(c.Top)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	records := make([]history.Record, len(steps))
	for i, s := range steps {
		unlock, taken := c.Ledger.TryLock(s.ID())
		if !taken {
			return nil, &AcceptError{fmt.Sprintf("another Tugline runs %q now", s.Name)}
		}
		defer unlock()
		if records[i], err = c.accepted(s, inputs[i], root); err != nil {
			return nil, err
		}
	}
	for i, s := range steps {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if values := s.InstanceID(); values != "" {
			if err := c.Ledger.AddInstance(s.Task.Name, history.Instance{ID: s.ID(), Values: values}); err != nil {
				return nil, err
			}
		}
		if err := c.Ledger.Write(s.ID(), records[i]); err != nil {
			return nil, err
		}
	}
	return records, nil
}

// accepted returns the record of a step by what is there now.
func (c *Cache) accepted(s *plan.Step, inputs []plan.Input, root *os.Root) (r history.Record, err error) {
	if !Declares(s) {
		return r, &AcceptError{fmt.Sprintf("%q declares neither reads nor writes: it always runs", s.Name)}
	}
	last, known := c.Ledger.Read(s.ID())
	listed := last.Listed
	if s.Depfile != "" {
		if listed, err = c.readListed(s); err != nil {
			return r, &AcceptError{fmt.Sprintf("%q: %v", s.Name, err)}
		}
	}
	reads := s.Reads
	if s.Depfile != "" {
		reads = s.ReadsWith(listed)
	}
	found, err := c.match(reads)
	if err != nil {
		return r, err
	}
	outputs, err := c.outputs(s, false)
	if err != nil {
		return r, err
	}
	if err := checkOutputs(s, root, outputs); err != nil {
		var missing *OutputError
		if errors.As(err, &missing) {
			return r, &AcceptError{fmt.Sprintf("%q cannot be accepted: %s, which it writes, is missing or leads out of the project", s.Name, missing.Text.Value)}
		}
		return r, err
	}
	now := fingerprint.Compute(s, inputs, files.SumOf(found), c.World)
	if len(now.Unknown) > 0 {
		return r, &AcceptError{fmt.Sprintf("%q cannot be accepted: there is no key to compare the secret %s with later", s.Name, now.Unknown[0])}
	}
	now.Files = fingerprint.Files(found)
	outputsSum := files.Digest{}
	if len(s.Writes) > 0 {
		outputsSum = files.SumOf(outputs)
	}
	was := make(map[string]fingerprint.File, len(last.Outputs))
	for _, f := range last.Outputs {
		was[f.Path] = f
	}
	written := fingerprint.Files(outputs)
	for i, f := range written {
		if old, recorded := was[f.Path]; known && recorded && old.Mark == f.Mark {
			written[i] = old
		} else {
			written[i].Accepted = true
		}
	}
	return history.Record{
		Call: s.Name, Task: s.Task.Name, Finished: time.Now().UTC(), Ms: last.Ms, Sum: now.Sum, OutputsSum: outputsSum.String(),
		Fingerprint: now, Outputs: written, Stale: last.Stale, EmptyReads: patternsOf(emptyReads(s.Reads, found)), Listed: listed,
	}, nil
}
