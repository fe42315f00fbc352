package cache

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/store"
)

// Success is what is known of a step that succeeded.
type Success struct {
	Inputs []plan.Input
	Took   time.Duration
	Log    []byte // what it printed; nil: not known
	// Listed is told the files that the depfile lists, as paths from the top folder. Its
	// error, if any, is how the step failed. nil: nobody is.
	Listed func(paths []string) error
}

// Kept is what became of the result of a step that succeeded.
type Kept struct {
	Changed   string // what changed of its inputs while it ran: nothing was kept; empty: nothing
	NotStored string // why its outputs are not in the store, though they should be
	Stale     string // which outputs of earlier runs it no longer made; empty: none
}

// Keep checks the outputs of a step that ended well, keeps them and writes the
// record. That they cannot be kept in the store is no failure.
//
// If something it read changed since it was decided, it may have read either:
// then nothing is kept, and the marker stays, so that it runs again.
func (c *Cache) Keep(ctx context.Context, s *plan.Step, v *Decision, e Success) (k Kept, err error) {
	c.Files.InvalidateAll()
	toStore := c.storesOutputs(s) && len(v.now.Unknown) == 0
	outputs, err := c.outputs(s, toStore)
	if err != nil {
		return k, err
	}
	root, err := os.OpenRoot(c.Top)
	if err != nil {
		return k, err
	}
	defer root.Close()
	if err := checkOutputs(s, root, outputs); err != nil {
		return k, err
	}
	if k.Changed, err = c.changedMeanwhile(s, v); err != nil {
		return k, err
	}
	if k.Changed == "" && s.Depfile != "" {
		if k.Changed, err = c.takeListed(s, v, e, outputs); err != nil {
			return k, err
		}
	}
	sum := v.now.Sum
	if k.Changed != "" {
		v.now.Sum = ""
		return k, c.Ledger.Begin(s.ID(), sum, history.Changed)
	}
	if err := c.readAgain(s, v, e.Inputs, outputs); err != nil {
		return k, err
	}
	was := c.before(s, v)
	stale, other, err := c.staleOutputs(s, v, outputs, was)
	if err != nil {
		return k, err
	}
	if toStore {
		made := store.Made{Took: e.Took, Log: e.Log, Local: c.localTexts(), LocalKey: c.localKey(sum), Beside: was.isBeside}
		err := c.Store.Put(ctx, sum, root, without(outputs, stale), made)
		if err == nil && s.Depfile != "" {
			err = c.keepListed(ctx, s, v, e.Inputs)
		}
		if err != nil {
			k.NotStored = "not kept in the store: " + err.Error()
		}
	}
	k.Stale = c.staleText(stale, other)
	stale = append(stale, other...)
	return k, c.write(s, v, result{outputs, stale, was, e.Took})
}

// without returns outputs without those that are stale.
func without(outputs []files.Found, stale []fingerprint.File) []files.Found {
	if len(stale) == 0 {
		return outputs
	}
	paths := make(map[string]bool, len(stale))
	for _, f := range stale {
		paths[f.Path] = true
	}
	return slices.DeleteFunc(slices.Clone(outputs), func(f files.Found) bool { return paths[f.Path] })
}

// before is what is known of outputs from before a run.
type before struct {
	present  map[string]*files.Found     // what was there
	last     history.Record              // of the last good run
	record   map[string]fingerprint.File // what that left
	everMade []fingerprint.File          // what that or an earlier one made
}

// before returns what is known of the outputs of a step from before it ran.
func (c *Cache) before(s *plan.Step, v *Decision) before {
	b := before{present: make(map[string]*files.Found, len(v.present)), record: map[string]fingerprint.File{}}
	for i := range v.present {
		b.present[v.present[i].Path] = &v.present[i]
	}
	if v.head == (history.Head{}) {
		return b // without a record, it made nothing
	}
	b.last, _ = c.Ledger.Read(s.ID())
	for _, f := range b.last.Outputs {
		b.record[f.Path] = f
		if !f.Beside {
			b.everMade = append(b.everMade, f)
		}
	}
	for _, f := range b.last.Stale {
		if _, known := b.record[f.Path]; !known {
			b.everMade = append(b.everMade, f)
		}
	}
	return b
}

// isBeside reports whether a step did not make an output: it was there before and
// nobody touched it, and it is not what an earlier run of the step made.
func (b before) isBeside(f *files.Found) bool {
	was := b.present[f.Path]
	if was == nil || !was.Untouched(f) {
		return false
	}
	made, recorded := b.record[f.Path]
	return !recorded || made.Beside || made.Mark != markOf(*f)
}

// was returns the mark that an output had before it was changed in place, by this
// run or by an earlier one that left it as it is now.
func (b before) was(f *files.Found) string {
	was := b.present[f.Path]
	switch {
	case was == nil:
		return ""
	case !was.Untouched(f):
		return markOf(*was)
	case b.record[f.Path].Mark == markOf(*f):
		return b.record[f.Path].Was
	}
	return ""
}

// localTexts returns the paths of this checkout, as outputs may hold them.
func (c *Cache) localTexts() []string {
	texts := []string{c.Top}
	if real, err := filepath.EvalSymlinks(c.Top); err == nil && real != c.Top {
		texts = append(texts, real)
	}
	return texts
}

// changedMeanwhile tells what changed of the files that a step reads since it was
// decided; empty: nothing. What it may have written itself, as a formatter does,
// is left out.
func (c *Cache) changedMeanwhile(s *plan.Step, v *Decision) (string, error) {
	if len(s.Reads) == 0 {
		return "", nil
	}
	now, err := c.match(s.Reads)
	if err != nil {
		return "", err
	}
	written, err := glob.Compile(plan.Patterns(s.Writes))
	if err != nil {
		return "", err
	}
	var first string
	count := 0
	note := func(path string) {
		if written.Match(path) {
			return
		}
		if count++; first == "" {
			first = path
		}
	}
	was := v.reads
	for len(was) > 0 || len(now) > 0 {
		switch order := compareFound(was, now); {
		case order < 0:
			note(was[0].Path)
			was = was[1:]
		case order > 0:
			note(now[0].Path)
			now = now[1:]
		default:
			if !was[0].Untouched(&now[0]) {
				note(now[0].Path)
			}
			was, now = was[1:], now[1:]
		}
	}
	if count > 1 {
		return fmt.Sprintf("%s, and %d more,", first, count-1), nil
	}
	return first, nil
}

// compareFound compares the first files of two lists by their places; what is not
// there comes last.
func compareFound(a, b []files.Found) int {
	switch {
	case len(b) == 0:
		return -1
	case len(a) == 0:
		return 1
	case a[0].Path == b[0].Path:
		return 0
	}
	return inOrder(a[0], b[0])
}

// readAgain takes the fingerprint of a step anew if it changed what it reads,
// as a formatter does: what it left is the state in which it ended well.
func (c *Cache) readAgain(s *plan.Step, v *Decision, inputs []plan.Input, outputs []files.Found) error {
	if len(v.reads) == 0 || len(outputs) == 0 {
		return nil
	}
	set, err := glob.Compile(plan.Patterns(c.readsOf(s, v)))
	if err != nil {
		return err
	}
	for i := range outputs {
		if set.Match(outputs[i].Path) {
			if v.reads, err = c.Files.Match(set); err != nil {
				return err
			}
			v.now = fingerprint.Compute(s, inputs, files.SumOf(v.reads), c.World)
			return nil
		}
	}
	return nil
}

// result is what a step left.
type result struct {
	outputs []files.Found
	stale   []fingerprint.File // outputs of earlier runs that it no longer made
	was     before
	took    time.Duration
}

// write keeps the record of a step that ended well, and has the instance found
// again when its values are no more.
func (c *Cache) write(s *plan.Step, v *Decision, r result) error {
	if values := s.InstanceID(); values != "" && v.head == (history.Head{}) {
		if err := c.Ledger.AddInstance(s.Task.Name, history.Instance{ID: s.ID(), Values: values}); err != nil {
			return err
		}
	}
	if err := c.noteFolders(s, r.outputs); err != nil {
		return err
	}
	now := v.now
	now.Files = fingerprint.Files(v.reads)
	outputsSum := files.Digest{}
	if len(s.Writes) > 0 {
		outputsSum = files.SumOf(r.outputs)
	}
	written := fingerprint.Files(r.outputs)
	for i := range r.outputs {
		written[i].Beside, written[i].Was = r.was.isBeside(&r.outputs[i]), r.was.was(&r.outputs[i])
	}
	return c.Ledger.Write(s.ID(), history.Record{
		Call: s.Name, Task: s.Task.Name, Run: c.Run, Finished: time.Now().UTC(), Ms: r.took.Milliseconds(),
		Sum: now.Sum, OutputsSum: outputsSum.String(), Fingerprint: now, Outputs: written, Stale: r.stale, EmptyReads: patternsOf(v.EmptyReads), Listed: v.listed,
	})
}

// noteFolders notes which plain paths of writes turned out to be folders: the next
// plan takes them for some.
func (c *Cache) noteFolders(s *plan.Step, outputs []files.Found) error {
	for _, g := range s.Writes {
		name, plain := glob.Base(g.Pattern)
		if !plain || g.Not || g.Folder {
			continue
		}
		below := func(f files.Found) bool {
			return strings.HasPrefix(f.Path, name+"/") || f.Path == name && f.Kind == files.Folder
		}
		if slices.ContainsFunc(outputs, below) {
			if err := c.Ledger.AddFolder(name); err != nil {
				return err
			}
		}
	}
	return nil
}

func patternsOf(globs []plan.Glob) []string {
	var patterns []string
	for _, g := range globs {
		patterns = append(patterns, g.Pattern)
	}
	return patterns
}
