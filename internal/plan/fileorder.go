package plan

import (
	"cmp"
	"container/heap"
	"fmt"
	"path"
	"slices"
	"strings"

	"tugline/internal/glob"
	"tugline/internal/project"
)

// FileNeed is a need that comes from files.
type FileNeed struct {
	Step        *Step // what writes it
	Write, Read Glob  // the two patterns that overlap
}

// writers finds the patterns that may overlap a given one, by the folders with
// which they begin.
type writers struct {
	below map[string]*writers // by the next name of the path
	order []*writers          // those below, in the order in which they came
	here  []written           // their fixed part ends here
}

// written is one pattern of outputs.
type written struct {
	task *project.Task
	step *Step        // nil among the tasks of the project
	call project.Call // of an instance
	glob Glob
	side glob.Side // the same, to be held against others
}

// addWriter enters what one task or step writes.
func (b *builder) addWriter(w *writers, owner written, globs []Glob) {
	for _, g := range globs {
		if g.Not {
			continue
		}
		node := w
		for name := range fixedNames(g.Pattern) {
			if node.below == nil {
				node.below = map[string]*writers{}
			}
			next := node.below[name]
			if next == nil {
				next = &writers{}
				node.below[name] = next
				node.order = append(node.order, next)
			}
			node = next
		}
		owner.glob, owner.side = g, b.side(g)
		node.here = append(node.here, owner)
	}
}

// fixedNames yields the names with which all paths begin that a pattern means.
func fixedNames(pattern string) func(yield func(string) bool) {
	base, _ := glob.Base(pattern)
	return func(yield func(string) bool) {
		if base == "" || base == "." {
			return
		}
		for name := range strings.SplitSeq(path.Clean(base), "/") {
			if !yield(name) {
				return
			}
		}
	}
}

// overlapping calls visit with every entry that overlaps a pattern: those that
// begin with a part of its path, and those that go on from its path.
func (w *writers) overlapping(side glob.Side, visit func(written)) {
	node := w
	node.visitHere(side, visit)
	for name := range fixedNames(side.Pattern) {
		if node = node.below[name]; node == nil {
			return
		}
		node.visitHere(side, visit)
	}
	node.visitBelow(side, visit)
}

func (w *writers) visitHere(side glob.Side, visit func(written)) {
	for _, entry := range w.here {
		if entry.side.Overlaps(side) {
			visit(entry)
		}
	}
}

func (w *writers) visitBelow(side glob.Side, visit func(written)) {
	for _, node := range w.order {
		node.visitHere(side, visit)
		node.visitBelow(side, visit)
	}
}

// takenAway reports whether a list takes all away that a pattern means. The
// pattern is held against it as if it were a path: what matches its wildcards
// matches what they stand for.
func takenAway(globs []Glob, pattern string) bool {
	for _, g := range globs {
		if !g.Not {
			continue
		}
		if set, err := glob.Compile([]glob.Pattern{{Text: g.Pattern}}); err == nil && set.Match(pattern) {
			return true
		}
	}
	return false
}

// takeWriters takes the tasks into the plan that write what s reads: those that
// can be called without arguments, do not also read what they write, and are
// not for request alone.
func (b *builder) takeWriters(s *Step, in callSite) {
	if len(s.Reads) == 0 || s.Skip != "" {
		return
	}
	s.alsoWants = append(s.alsoWants, b.take(s.Reads, s.Task, callSite{trigger: in.trigger, failures: in.failures})...)
}

// writing returns the tasks other than t that may write what patterns mean and
// are to be taken into the plan for that, as they stand in the project.
func (b *builder) writing(patterns []Glob, t *project.Task) []*project.Task {
	if len(patterns) == 0 {
		return nil
	}
	if b.writers == nil {
		b.writers = b.allWriters()
	}
	var found []*project.Task
	seen := map[*project.Task]bool{t: true}
	for _, read := range patterns {
		if read.Not {
			continue
		}
		b.writers.overlapping(b.side(read), func(w written) {
			if !seen[w.task] && !w.task.OnRequest && !takenAway(patterns, w.glob.Pattern) {
				seen[w.task] = true
				found = append(found, w.task)
			}
		})
	}
	slices.SortFunc(found, byPlace)
	return slices.DeleteFunc(found, func(t *project.Task) bool {
		return slices.ContainsFunc(t.Args, (*project.Arg).Required) || b.readsItsOutput(t)
	})
}

// byPlace orders tasks as they stand in the project.
func byPlace(a, b *project.Task) int {
	if a.File != b.File {
		return strings.Compare(a.File.Prefix, b.File.Prefix)
	}
	return cmp.Compare(a.Span.Offset(), b.Span.Offset())
}

// allWriters returns what all tasks of the project may write.
func (b *builder) allWriters() *writers {
	all := &writers{}
	for _, t := range b.plan.Project.Tasks {
		if len(t.Writes) > 0 {
			b.addWriter(all, written{task: t}, b.unfilled(t, t.Writes, nil))
		}
	}
	return all
}

// unfilled returns the patterns of t without a call: what is known of the
// variables is filled in, all else counts as *. values are those of each: one that
// is not given and may hold slashes counts as any number of names.
func (b *builder) unfilled(t *project.Task, paths []project.Paths, values map[string]string) []Glob {
	sc := b.base(t.File)
	if len(t.Env) > 0 {
		sc = sc.with(nil, t.Env)
	}
	args := map[string]string{}
	for _, a := range t.Args {
		args[a.Variable()] = "*"
		if a.Each != nil && a.Each.MayHoldSlash() {
			args[a.Variable()] = "**"
		}
		if value, given := values[a.Name]; given {
			args[a.Variable()] = glob.Escape(value)
		}
	}
	lookup := func(name string) (string, bool) {
		if pattern, isArg := args[name]; isArg {
			return pattern, true
		}
		if sc.late(name) {
			return "*", true
		}
		value, ok := sc.value(name)
		if !ok {
			return "*", true
		}
		return glob.Escape(value), true
	}
	var out []Glob
	for _, p := range paths {
		for _, g := range p.Globs {
			value, err := g.Pattern().Expand(lookup)
			if err == nil && value != "" {
				out = append(out, Glob{Pattern: b.fromTop(deepNames(value), t.File), Not: g.Not, Folder: strings.HasSuffix(value, "/"), Text: g.Text})
			}
		}
	}
	return out
}

// deepNames returns a pattern in which ** within a name stands for any text, slashes
// included: page-**.html means what page-*.html and page-*/**/*.html do.
func deepNames(pattern string) string {
	names := strings.Split(pattern, "/")
	for i, name := range names {
		before, after, deep := strings.Cut(name, "**")
		switch {
		case name == "**" || !deep:
		case strings.Contains(after, "**"): // of several, the first says enough
			return strings.Join(append(names[:i], before+"*"), "/")
		case after == "": // it may be a folder, and means all below then
			names[i] = before + "*"
			if i+1 < len(names) {
				names[i] += "/**"
			}
		case before == "":
			names[i] = "**/*" + after
		default:
			names[i] = "{" + before + "*" + after + "," + before + "*/**/*" + after + "}"
		}
	}
	return strings.Join(names, "/")
}

// readsItsOutput reports whether t may read what it writes, as a formatter does.
func (b *builder) readsItsOutput(t *project.Task) bool {
	if len(t.Reads) == 0 {
		return false
	}
	sample := map[string]string{} // any instance will do
	for _, a := range t.Looped() {
		sample[a.Name] = "x"
	}
	reads := b.unfilled(t, t.Reads, sample)
	for _, w := range b.unfilled(t, t.Writes, sample) {
		if !w.Not && b.readsOf(reads, w) != nil {
			return true
		}
	}
	return false
}

// readsOf returns the pattern of reads that overlaps a written one, or nil.
func (b *builder) readsOf(reads []Glob, written Glob) *Glob {
	if takenAway(reads, written.Pattern) {
		return nil
	}
	side := b.side(written)
	for i := range reads {
		if !reads[i].Not && side.Overlaps(b.side(reads[i])) {
			return &reads[i]
		}
	}
	return nil
}

// orderByFiles adds the needs that come from files to the steps from an index
// on. When that is all of them, it puts them in an order that keeps the needs;
// later ones stand behind all that they may need already.
func (b *builder) orderByFiles(start int) {
	all := &writers{}
	writing := 0
	for _, s := range b.plan.Steps {
		if len(s.Writes) > 0 {
			b.addWriter(all, written{task: s.Task, step: s}, s.Writes)
			writing++
		}
	}
	added := b.reorder
	for _, s := range b.plan.Steps[start:] {
		if len(s.Reads) == 0 || writing == 0 {
			continue
		}
		t := throughs{builder: b, step: s, seen: map[*Step]bool{s: true}}
		for _, read := range s.Reads {
			if read.Not {
				continue
			}
			all.overlapping(b.side(read), func(w written) {
				added = t.add(FileNeed{w.step, w.glob, read}) || added
			})
		}
	}
	if added && start == 0 {
		b.sort()
	}
	if writing > 0 {
		b.checkWriters(all, start)
	}
}

// throughs adds to a step the needs that come from files.
type throughs struct {
	builder *builder

	step  *Step
	seen  map[*Step]bool // itself, and those that are added
	needs map[*Step]bool // all its needs; nil: not asked for yet
}

// add makes the step need the one that writes what it reads.
func (t *throughs) add(via FileNeed) bool {
	s, w := t.step, via.Step
	if t.seen[w] || takenAway(s.Reads, via.Write.Pattern) || takenAway(w.Writes, via.Read.Pattern) {
		return false
	}
	if w.Task.OnRequest || t.builder.readsOf(w.Reads, via.Write) != nil {
		// It changes what is there already: an order that was asked for counts
		// more, and of two such tasks neither comes first for that.
		if t.builder.readsOf(s.Writes, via.Read) != nil || precedes(s, w) {
			return false
		}
	}
	t.seen[w] = true
	if whole := w.end(); whole != w && !precedes(s, whole) {
		via.Step, w = whole, whole // what needs a task waits for its after-calls, too
	}
	s.FileNeeds = append(s.FileNeeds, via)
	if t.needs == nil {
		t.needs = map[*Step]bool{}
		for _, need := range s.Needs {
			t.needs[need] = true
		}
	}
	if !t.needs[w] {
		t.needs[w] = true
		s.Needs = append(s.Needs, w)
	}
	if slices.Contains(s.After, w) {
		s.After = slices.DeleteFunc(slices.Clone(s.After), func(other *Step) bool { return other == w })
	}
	return true
}

// precedes reports whether a must have ended before b starts.
func precedes(a, b *Step) bool {
	seen := map[*Step]bool{}
	var reaches func(s *Step) bool
	reaches = func(s *Step) bool {
		if s == a {
			return true
		}
		if seen[s] {
			return false
		}
		seen[s] = true
		found := false
		s.WaitsFor(func(other *Step) { found = found || reaches(other) })
		return found
	}
	return a != b && reaches(b)
}

// sort puts the steps behind all they wait for, else leaves their order as it
// is (Kahn, "Topological sorting of large networks", 1962), and reports a circle.
func (b *builder) sort() {
	steps := b.plan.Steps
	waits := make([]int, len(steps))
	waiting := make([][]*Step, len(steps))
	for _, s := range steps {
		s.WaitsFor(func(other *Step) {
			waits[s.Index]++
			waiting[other.Index] = append(waiting[other.Index], s)
		})
	}
	ready := &byIndex{}
	for _, s := range steps {
		if waits[s.Index] == 0 {
			heap.Push(ready, s)
		}
	}
	sorted := make([]*Step, 0, len(steps))
	for ready.Len() > 0 {
		s := heap.Pop(ready).(*Step)
		sorted = append(sorted, s)
		for _, other := range waiting[s.Index] {
			if waits[other.Index]--; waits[other.Index] == 0 {
				heap.Push(ready, other)
			}
		}
	}
	if len(sorted) < len(steps) {
		if len(b.found) == 0 { // else it may be no more than a consequence
			b.circle(waits)
		}
		return
	}
	for i, s := range sorted {
		s.Index = i
	}
	b.plan.Steps = sorted
}

// byIndex is a heap of steps, the first in the plan on top.
type byIndex []*Step

func (h byIndex) Len() int           { return len(h) }
func (h byIndex) Less(i, k int) bool { return h[i].Index < h[k].Index }
func (h byIndex) Swap(i, k int)      { h[i], h[k] = h[k], h[i] }
func (h *byIndex) Push(x any)        { *h = append(*h, x.(*Step)) }
func (h *byIndex) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// circle reports a circle among the steps that still wait.
func (b *builder) circle(waits []int) {
	at := slices.IndexFunc(waits, func(n int) bool { return n > 0 })
	s := b.plan.Steps[at]
	var path []*Step
	for !slices.Contains(path, s) { // every one that waits, waits for another one
		path = append(path, s)
		var next *Step
		s.WaitsFor(func(other *Step) {
			if next == nil && waits[other.Index] > 0 {
				next = other
			}
		})
		s = next
	}
	path = append(path[slices.Index(path, s):], s)
	slices.Reverse(path)
	var names []string
	var places []project.Diagnostic
	for i, s := range path {
		names = append(names, s.Name)
		if i > 0 {
			places = append(places, b.waitsFor(s, path[i-1])...)
		}
	}
	d := project.Diagnostic{Msg: "tasks wait for each other in a circle: " + strings.Join(names, " → "), Related: places}
	if len(places) > 0 {
		d.Span = places[0].Span
	}
	b.found = append(b.found, d)
}

// waitsFor tells why s waits for other, with the places.
func (b *builder) waitsFor(s, other *Step) []project.Diagnostic {
	for _, via := range s.FileNeeds {
		if via.Step == other {
			return []project.Diagnostic{
				{Span: via.Write.Text.Span, Msg: fmt.Sprintf("%q writes %s", other.Name, via.Write.Text.Value)},
				{Span: via.Read.Text.Span, Msg: fmt.Sprintf("%q reads %s", s.Name, via.Read.Text.Value)},
			}
		}
	}
	for _, c := range s.Task.Calls() {
		if c.Task == other.Task {
			return []project.Diagnostic{{Span: c.Span, Msg: fmt.Sprintf("%q names %q here", s.Name, other.Name)}}
		}
	}
	return []project.Diagnostic{{Span: s.Task.Span, Msg: fmt.Sprintf("%q was asked for after %q", s.Name, other.Name)}}
}

// checkWriters reports two steps that may write one file, in no order.
func (b *builder) checkWriters(all *writers, start int) {
	told := map[[2]*Step]bool{}
	for _, s := range b.plan.Steps[start:] {
		for _, g := range s.Writes {
			if g.Not {
				continue
			}
			all.overlapping(b.side(g), func(w written) {
				pair := [2]*Step{w.step, s}
				if w.step.Index >= s.Index || told[pair] || takenAway(s.Writes, w.glob.Pattern) || takenAway(w.step.Writes, g.Pattern) {
					return
				}
				told[pair] = true
				if precedes(w.step, s) || precedes(s, w.step) {
					return
				}
				b.found = append(b.found, project.Diagnostic{
					Span: g.Text.Span,
					Msg:  fmt.Sprintf("%q and %q may write the same file, and neither comes first", w.step.Name, s.Name),
					Hint: "make one need the other, or keep their files apart",
					Related: []project.Diagnostic{
						{Span: w.glob.Text.Span, Msg: fmt.Sprintf("%q writes %s here", w.step.Name, w.glob.Text.Value)},
					},
				})
			})
		}
	}
}
