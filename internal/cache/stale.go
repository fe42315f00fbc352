package cache

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// staleOutputs returns what earlier runs of a step made and the run that just ended did
// not, as far as it is still there as they left it: outputs is what stands there now. The
// first list is of those that the patterns of writes mean, the second one of the others.
func (c *Cache) staleOutputs(s *plan.Step, v *Decision, outputs []files.Found, b before) (meant, other []fingerprint.File, err error) {
	if len(b.record) == 0 {
		return nil, nil, nil
	}
	there := make(map[string]bool, len(outputs))
	u := untouched{reads: v.reads, last: b.last}
	for i := range outputs {
		f := &outputs[i]
		there[f.Path] = true
		made, recorded := b.record[f.Path]
		switch was := b.present[f.Path]; {
		case f.Kind == files.Folder:
		case was == nil || !was.Untouched(f):
			u.touched++
			if recorded && made.Mark == markOf(*f) {
				u.rewritten = append(u.rewritten, f.Path)
			}
		case recorded && !made.Beside && made.Mark == markOf(*f):
			u.left = append(u.left, made)
		}
	}
	read := readBy(b.last)
	for _, f := range b.everMade {
		if there[f.Path] || read[f.Path] {
			continue
		}
		mark, err := c.markNow(f.Path)
		if err != nil {
			return nil, nil, err
		}
		if mark == f.Mark && mark != folderMark {
			other = append(other, f)
		}
	}
	return u.stale(s, v), other, nil
}

// untouched is what is known of the outputs that a run left as an earlier one had made them.
type untouched struct {
	left      []fingerprint.File
	touched   int            // how many others it made, or made anew
	rewritten []string       // of these, the ones that are as they were before
	reads     []files.Found  // what the run read
	last      history.Record // of the last run
}

// stale returns the outputs that the run no longer makes. A program that writes only
// what is out of date leaves the others untouched, too; so one of these signs is needed:
//
//   - It was stale before.
//   - A file with its name was read by the last run and is gone.
//   - The run wrote at least as many files as it left, and no file with the name of the
//     output is read any more; or the commands are other ones.
//   - An output was written again though the file with its name had not changed: the
//     program writes all that it makes.
func (u *untouched) stale(s *plan.Step, v *Decision) []fingerprint.File {
	if len(u.left) == 0 {
		return nil
	}
	last := make(map[string]string, len(u.last.Fingerprint.Files))
	for _, f := range u.last.Fingerprint.Files {
		last[f.Path] = f.Mark
	}
	living, same, gone := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for i := range u.reads {
		f := &u.reads[i]
		addStems(living, f.Path)
		if last[f.Path] == markOf(*f) {
			addStems(same, f.Path)
		}
		delete(last, f.Path)
	}
	for p := range last {
		addStems(gone, p)
	}
	nameIn := func(stems map[string]bool, p string) bool { return stems[nameOf(p)] }
	before := map[string]bool{}
	for _, f := range u.last.Stale {
		before[f.Path] = true
	}
	var stale, rest []fingerprint.File
	for _, f := range u.left {
		if before[f.Path] || nameIn(gone, f.Path) && !nameIn(living, f.Path) {
			stale = append(stale, f)
		} else {
			rest = append(rest, f)
		}
	}
	writesAll := slices.ContainsFunc(u.rewritten, func(p string) bool { return nameIn(same, p) })
	many := u.touched > 0 && u.touched >= len(rest)
	others := many && commandsOf(u.last.Fingerprint) != commandsOf(v.now)
	for _, f := range rest {
		if writesAll || others || many && !nameIn(living, f.Path) {
			stale = append(stale, f)
		}
	}
	return stale
}

// stem returns a name up to its first dot that does not begin it.
func stem(name string) string {
	if dot := strings.Index(name[min(1, len(name)):], "."); dot >= 0 {
		return name[:dot+1]
	}
	return name
}

// nameOf returns the name by which an output is known: that of its folder, if it is the index
// of that.
func nameOf(p string) string {
	name := stem(path.Base(p))
	if dir := path.Dir(p); name == "index" && dir != "." {
		return stem(path.Base(dir))
	}
	return name
}

// addStems adds the stems of all parts of a path.
func addStems(to map[string]bool, p string) {
	for part := range strings.SplitSeq(p, "/") {
		to[stem(part)] = true
	}
}

func commandsOf(f fingerprint.Fingerprint) string {
	var b strings.Builder
	for _, item := range f.Items {
		if item.Kind == "command" {
			b.WriteString(item.Value + "\x00")
		}
	}
	return b.String()
}

// staleText tells of stale outputs; empty: there are none. Those of other patterns are
// left out if a task may make them now.
func (c *Cache) staleText(meant, other []fingerprint.File) string {
	var paths []string
	for _, f := range meant {
		paths = append(paths, f.Path)
	}
	for _, f := range other {
		if c.Writes == nil || !c.Writes(f.Path) {
			paths = append(paths, f.Path)
		}
	}
	switch len(paths) {
	case 0:
		return ""
	case 1:
		return fmt.Sprintf("stale: %s; tugline sweep --stale deletes it", paths[0])
	}
	return fmt.Sprintf("stale: %s; tugline sweep --stale deletes them", someOf(paths))
}

// Stale returns the outputs of earlier runs that nobody has changed since, sorted by
// call: those that the last run of their call no longer made, and those that no pattern
// of written means, none of which takes away.
func (c *Cache) Stale(written []plan.Glob) ([]Made, error) {
	patterns := make([]string, len(written))
	for i, g := range written {
		patterns[i] = g.Pattern
	}
	tasks, err := glob.NewUnion(patterns)
	if err != nil {
		return nil, err
	}
	records := c.Ledger.All()
	made, formatted := writtenBy(records)
	var all []Made
	for _, r := range records {
		left := Made{Record: r}
		noted := map[string]bool{}
		for _, f := range r.Stale {
			mark, err := c.markNow(f.Path)
			if err != nil {
				return nil, err
			}
			noted[f.Path] = true
			meant := slices.ContainsFunc(r.Outputs, func(out fingerprint.File) bool { return out.Path == f.Path })
			if mark == f.Mark && !made[f.Path] && (meant || !tasks.Match(f.Path)) {
				left.Paths = append(left.Paths, f.Path)
			}
		}
		if slices.ContainsFunc(r.Outputs, func(f fingerprint.File) bool { return !tasks.Match(f.Path) }) {
			last, err := c.made(r, formatted)
			if err != nil {
				return nil, err
			}
			left.Paths = append(left.Paths, slices.DeleteFunc(last.Paths, func(p string) bool { return noted[p] || tasks.Match(p) })...)
		}
		if len(left.Paths) > 0 {
			all = append(all, left)
		}
	}
	slices.SortFunc(all, func(a, b Made) int { return strings.Compare(a.Record.Call, b.Record.Call) })
	return all, nil
}

// Forget takes stale outputs that were removed out of the records that tell of them, so
// that their tasks are not made anew for want of them.
func (c *Cache) Forget(stale []Made, removed []string) error {
	gone := make(map[string]bool, len(removed))
	for _, p := range removed {
		gone[p] = true
	}
	for _, left := range stale {
		r := left.Record
		noted := map[string]bool{}
		for _, f := range r.Stale {
			noted[f.Path] = gone[f.Path]
		}
		isGone := func(f fingerprint.File) bool { return noted[f.Path] }
		if !slices.ContainsFunc(r.Stale, isGone) {
			continue
		}
		unlock, taken := c.Ledger.TryLock(r.ID)
		if !taken {
			continue // another Tugline runs it, and writes a new record
		}
		outputs := len(r.Outputs)
		r.Stale = slices.DeleteFunc(slices.Clone(r.Stale), isGone)
		r.Outputs = slices.DeleteFunc(slices.Clone(r.Outputs), isGone)
		err := error(nil)
		if len(r.Outputs) < outputs {
			err = c.sumRecorded(&r)
		}
		_, _, begun := c.Ledger.Begun(r.ID)
		if err == nil && !begun {
			err = c.Ledger.Write(r.ID, r)
		}
		unlock()
		if err != nil {
			return fmt.Errorf("noting what was deleted: %w", err)
		}
	}
	return nil
}

// sumRecorded makes the sum of the outputs of a record that of those it still has, if
// they are as it tells.
func (c *Cache) sumRecorded(r *history.Record) error {
	globs := make([]glob.Pattern, len(r.Outputs))
	for i, f := range r.Outputs {
		globs[i] = glob.Pattern{Text: glob.Escape(f.Path)}
	}
	set, err := glob.Compile(globs)
	if err != nil {
		return err
	}
	found, err := c.Files.Outputs(set, 0)
	if err != nil {
		return err
	}
	if len(fingerprint.CompareFiles("output", r.Outputs, fingerprint.Files(found))) == 0 {
		r.OutputsSum = files.SumOf(found).String()
	}
	return nil
}
