package cache

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// EmptyRead is a pattern of reads that matches nothing.
type EmptyRead struct {
	Task *project.Task
	Text project.Text // as it is written
	Near string       // a pattern like it that matches something; empty: none is known
}

// emptyReads returns the patterns of reads that match none of the files found for them all.
func emptyReads(reads []plan.Glob, found []files.Found) []plan.Glob {
	if len(reads) == 1 && len(found) > 0 {
		return nil
	}
	var empty []plan.Glob
	for _, g := range reads {
		if g.Not || g.Listed {
			continue
		}
		set, err := glob.Compile([]glob.Pattern{{Text: g.Pattern}})
		if err == nil && !slices.ContainsFunc(found, func(f files.Found) bool { return set.Match(f.Path) }) {
			empty = append(empty, g)
		}
	}
	return empty
}

// noteEmptyReads notes in a decision which patterns of reads match nothing. An unchanged
// step reads what its record tells of.
func (c *Cache) noteEmptyReads(s *plan.Step, v *Decision) {
	if v.reads != nil || v.Action != UpToDate {
		v.EmptyReads = emptyReads(s.Reads, v.reads)
		return
	}
	if !v.head.EmptyReads {
		return
	}
	record, _ := c.Ledger.Read(s.ID()) // its head was read just now
	for _, g := range s.Reads {
		if slices.Contains(record.EmptyReads, g.Pattern) {
			v.EmptyReads = append(v.EmptyReads, g)
		}
	}
}

// EmptyReadsOf returns the patterns of reads of steps that match nothing now, and that no
// task is to fill.
func (c *Cache) EmptyReadsOf(steps []*plan.Step) ([]EmptyRead, error) {
	var all EmptyReads
	for _, s := range steps {
		if !s.Works() || s.Skip != "" || len(s.Reads) == 0 {
			continue
		}
		found, err := c.match(s.Reads)
		if err != nil {
			return nil, err
		}
		all.Add(s, withoutWriters(s, emptyReads(s.Reads, found)))
	}
	return all.List(c), nil
}

// EmptyReads gathers the patterns of reads that match nothing for any step of a task.
type EmptyReads struct {
	order []project.Span
	reads map[project.Span]*emptyRead
}

type emptyRead struct {
	EmptyRead
	glob    plan.Glob
	matches bool // for another instance
}

// Add adds a step of which it is known which patterns match nothing.
func (e *EmptyReads) Add(s *plan.Step, empty []plan.Glob) {
	if e.reads == nil {
		e.reads = map[project.Span]*emptyRead{}
	}
	for _, g := range s.Reads {
		at := g.Text.Span
		if g.Not || g.Listed || at.IsZero() {
			continue
		}
		isEmpty := slices.ContainsFunc(empty, func(other plan.Glob) bool { return other.Text.Span == at })
		known := e.reads[at]
		if known == nil {
			known = &emptyRead{EmptyRead: EmptyRead{Task: s.Task, Text: g.Text}, glob: g}
			e.reads[at] = known
			e.order = append(e.order, at)
		}
		known.matches = known.matches || !isEmpty
	}
}

// List returns the patterns in the order in which they were met.
func (e *EmptyReads) List(c *Cache) []EmptyRead {
	var all []EmptyRead
	for _, at := range e.order {
		if r := e.reads[at]; !r.matches {
			r.Near = c.near(r.glob)
			all = append(all, r.EmptyRead)
		}
	}
	return all
}

// near returns a pattern with another ending, or for a plain path another name, that
// matches something; empty: there is none.
func (c *Cache) near(g plan.Glob) string {
	name := path.Base(g.Pattern)
	if _, plain := glob.Base(g.Pattern); plain {
		entries, _ := os.ReadDir(filepath.Join(c.Top, filepath.FromSlash(path.Dir(g.Pattern)))) // then nothing is near
		names := make([]string, len(entries))
		for i, e := range entries {
			names[i] = e.Name()
		}
		return replaceEnd(g.Text.Value, name, project.Nearest(name, names))
	}
	ending := path.Ext(name)
	if len(ending) < 2 || strings.ContainsAny(ending, "*?[]{}\\") {
		return ""
	}
	set, err := glob.Compile([]glob.Pattern{{Text: strings.TrimSuffix(g.Pattern, ending) + ".*"}})
	if err != nil {
		return ""
	}
	found, err := c.Files.Match(set)
	if err != nil {
		return ""
	}
	var endings []string
	for i := range found {
		endings = append(endings, path.Ext(found[i].Path))
	}
	slices.Sort(endings)
	return replaceEnd(g.Text.Value, ending, project.Nearest(ending, slices.Compact(endings)))
}

// replaceEnd returns a text with the first of some ends in place of the one that it has.
func replaceEnd(text, end string, with []string) string {
	start, has := strings.CutSuffix(text, end)
	if !has || len(with) == 0 || with[0] == end {
		return ""
	}
	return start + with[0]
}
