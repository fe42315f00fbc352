package plan

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"tugline/internal/glob"
	"tugline/internal/project"
)

// Loop is a call of a task with instances, some of whose values are not known
// before other steps have ended.
type Loop struct {
	Uncomputed bool // they are not to be asked for

	task *project.Task
	call project.Call
	args arguments
	open []*project.Arg
	in   callSite
}

// Listed asks for the values of a list: for the paths that Globs match, from
// the top folder with slashes and sorted; for the lines of a file; or for what
// a script prints.
type Listed struct {
	Globs  []Glob
	Lines  string // a path, absolute or from Folder; empty: no file
	Run    project.Text
	Env    []string
	Folder string // absolute: of the file in which the list stands
}

// open returns the arguments of which the call means all values.
func (a arguments) open(t *project.Task) []*project.Arg {
	var open []*project.Arg
	for _, arg := range t.Args {
		if arg.Each != nil && a.values[arg.Name] == nil {
			open = append(open, arg)
		}
	}
	return open
}

// loop is add for a call that means several instances.
func (b *builder) loop(t *project.Task, c project.Call, args arguments, open []*project.Arg, in callSite) *Step {
	key := call{t, args.key(), in.owner}
	if s := b.steps[key]; s != nil {
		b.want(s.end(), in)
		return s.end()
	}
	s := &Step{Name: args.name(t, c), Task: t, Role: Outcome, CalledFor: in.owner, FailureScope: in.failures, Folder: t.File.Folder}
	b.steps[key] = s
	s.scope = b.base(t.File)
	system := project.When{OS: t.When.OS, Arch: t.When.Arch}
	if s.Skip = system.Fails(b.req.OS, b.req.Arch, nil); s.Skip != "" {
		b.append(s, in)
		return s
	}
	made := b.madeValues(t, open, in)
	loop := &Loop{task: t, call: c, args: args, open: open, in: in}
	for _, arg := range open {
		loop.Uncomputed = loop.Uncomputed || arg.Each.Run.Value != "" && b.req.NoCompute
	}
	if len(made) == 0 && !loop.Uncomputed {
		s.Called, s.Skip = b.instances(loop)
		s.Needs, s.alsoWants = s.Called, s.Called
		b.append(s, in)
		return b.closeLoop(s, in)
	}
	s.Loop, s.Needs, s.alsoWants = loop, made, made
	s.Run = t.RunOn(b.req.OS)
	s.Reads, s.Writes = b.unfilled(t, t.Reads, nil), b.unfilled(t, t.Writes, nil)
	b.takeWriters(s, in)
	b.append(s, in)
	if t.HasAfterCalls() {
		return b.follow(s, End, nil, in)
	}
	return s
}

// closeLoop adds the after-calls of a loop whose instances are known, and the
// step that ends with them.
func (b *builder) closeLoop(s *Step, in callSite) *Step {
	whole := s
	if after := b.loopAfterCalls(s, in); len(after) > 0 {
		whole = b.follow(s, End, after, in)
	}
	b.loopAtEnd(s, whole, in)
	return whole
}

// ofInstances returns the ends of the instances whose after-calls a loop makes, and their
// first steps.
func ofInstances(s *Step) (ends, firsts []*Step) {
	for _, end := range s.Called {
		if end.Role != End { // else it was called alone before, and makes its own
			ends, firsts = append(ends, end), append(firsts, end.First())
		}
	}
	return ends, firsts
}

func (b *builder) loopAtEnd(s, whole *Step, in callSite) {
	ends, firsts := ofInstances(s)
	b.atEnd(whole, ends, firsts, in)
}

func (b *builder) loopAfterCalls(s *Step, in callSite) []*Step {
	ends, firsts := ofInstances(s)
	if len(ends) == 0 || !s.Task.HasAfterCalls() {
		return nil
	}
	return b.afterCalls(ends, firsts, in)
}

// Answers are what was asked for lists, by list.
type Answers map[*project.List]Answer

// Answer is what the world says of a list.
type Answer struct {
	Values []string
	Err    error
}

// Lists returns what [Plan.Expand] needs to know of the world for a step, whose
// needs have ended, by list.
func (p *Plan) Lists(s *Step) map[*project.List]Listed {
	questions := map[*project.List]Listed{}
	for _, arg := range s.Loop.open {
		if question, err := p.builder.question(arg.Each); err == nil && len(arg.Each.List) == 0 {
			questions[arg.Each] = question
		}
	}
	return questions
}

// Expand adds the instances of a step whose values are known now that what it
// needs has ended: s.Loop is nil afterwards. answers are those to its Lists;
// what is not among them is asked of the request. It returns the new steps, which
// stand at the end of the plan. The error is as that of [New].
func (p *Plan) Expand(s *Step, answers Answers) ([]*Step, error) {
	b, start, in := p.builder, len(p.Steps), s.Loop.in
	b.found, b.world.found, b.lists, b.answers = nil, nil, nil, answers
	loop := s.Loop
	s.Loop, s.Reads, s.Writes = nil, nil, nil
	if p.expanded == nil {
		p.expanded = map[*project.Task]bool{}
	}
	p.expanded[s.Task] = true
	s.Called, s.Skip = b.instances(loop)
	s.Needs = append(s.Needs, s.Called...)
	if whole := s.Last; whole != nil {
		whole.Called = b.loopAfterCalls(s, in)
		whole.Needs = append(whole.Needs, whole.Called...)
		b.loopAtEnd(s, whole, in)
	} else {
		b.loopAtEnd(s, s, in)
	}
	if err := b.finish(start); err != nil {
		return nil, err
	}
	return p.Steps[start:], nil
}

// instances adds the instances of a loop. skip tells why there is none.
func (b *builder) instances(l *Loop) (ends []*Step, skip string) {
	in := callSite{trigger: l.in.trigger, owner: l.in.owner, failures: l.in.failures, looped: true}
	if l.task.AtOnce > 0 {
		in.limited = true
	}
	if l.task.After != "" {
		in.failures = &FailureScope{l.task.After, in.failures}
	}
	combinations, empty := b.combinations(l)
	if empty != nil {
		return nil, fmt.Sprintf("there is no value for %q", empty.Name)
	}
	seen := make(map[*Step]bool, len(combinations))
	for _, args := range combinations {
		if end := b.instance(l.task, l.call, args, in); !seen[end] {
			seen[end] = true
			ends = append(ends, end)
		}
	}
	return ends, ""
}

// combinations returns the arguments of all instances of a loop. empty is an
// argument that has no values.
func (b *builder) combinations(l *Loop) (all []arguments, empty *project.Arg) {
	all = []arguments{l.args}
	for _, arg := range l.open {
		values := l.args.picked(arg.Name, b.listed(arg.Each))
		if len(values) == 0 {
			return nil, arg
		}
		var next []arguments
		for _, args := range all {
			for _, value := range values {
				one := args
				one.picks = nil
				if one.values = maps.Clone(args.values); one.values == nil {
					one.values = map[string][]string{}
				}
				one.values[arg.Name] = []string{value}
				one.given = append(slices.Clone(args.given), given{arg.Name, value})
				next = append(next, one)
			}
		}
		all = next
	}
	return all, nil
}

// checkValues reports values for each that a call gives and the list does not
// have, as far as that is known.
func (b *builder) checkValues(t *project.Task, c project.Call, args arguments) {
	for _, g := range slices.Concat(args.given, args.picks) {
		arg := t.Arg(g.name)
		if arg.Each == nil || b.unknown(arg.Each, t) {
			continue
		}
		values := b.listed(arg.Each)
		if slices.ContainsFunc(values, func(value string) bool {
			return value == g.value || slices.Contains(args.picks, g) && isPicked(g.value, value)
		}) {
			continue
		}
		d := project.Diagnostic{Span: c.Span, Msg: fmt.Sprintf("there is no value %q for --%s of task %q", g.value, g.name, t.Name), Hint: project.DidYouMean(g.value, values)}
		if d.Hint == "" && len(values) > 0 {
			d.Hint = "there is " + strings.Join(values[:min(8, len(values))], ", ")
			if len(values) > 8 {
				d.Hint += fmt.Sprintf(" and %d more", len(values)-8)
			}
		}
		b.found = append(b.found, d)
	}
}

// madeValues returns the steps that write what tells the values of a loop.
func (b *builder) madeValues(t *project.Task, open []*project.Arg, in callSite) []*Step {
	var made []*Step
	for _, arg := range open {
		for _, s := range b.take(b.listPatterns(arg.Each), t, in) {
			if !slices.Contains(made, s) {
				made = append(made, s)
			}
		}
	}
	return made
}

// listPatterns returns the patterns of the files that tell the values of a list.
func (b *builder) listPatterns(l *project.List) []Glob {
	if l.Lines.Value != "" {
		path, err := l.Lines.Expand(b.base(l.File).value)
		if err != nil {
			return nil // reported where the values are asked for
		}
		return []Glob{{Pattern: b.fromTop(glob.Escape(filepath.ToSlash(path)), l.File), Text: l.Lines}}
	}
	return b.globs([]project.Paths{{Globs: l.Files}}, l.File, b.base(l.File).value)
}

// listed returns the values of a list, each once. They are asked for once,
// unless a step may have made them since.
func (b *builder) listed(l *project.List) []string {
	if values, known := b.lists[l]; known {
		return values
	}
	if b.lists == nil {
		b.lists = map[*project.List][]string{}
	}
	b.lists[l] = b.valuesOf(l)
	return b.lists[l]
}

// valuesOf asks for the values of a list.
func (b *builder) valuesOf(l *project.List) []string {
	var values []string
	var err error
	if len(l.List) > 0 {
		values = b.fixedValues(l)
	} else {
		values, err = b.askFor(l)
	}
	if err != nil {
		b.found = append(b.found, project.Diagnostic{Span: l.Span, Msg: fmt.Sprintf("the values of %q: %v", l.Name, err)})
	}
	seen := map[string]bool{}
	return slices.DeleteFunc(values, func(value string) bool {
		twice := seen[value]
		seen[value] = true
		return twice
	})
}

// fixedValues returns the values that a list names.
func (b *builder) fixedValues(l *project.List) []string {
	sc := b.base(l.File)
	sc.resolve()
	var values []string
	for _, text := range l.List {
		value, err := text.Expand(sc.value)
		if err != nil {
			b.found = append(b.found, project.Diagnostic{Span: text.Span, Msg: err.Error()})
		}
		values = append(values, value)
	}
	return values
}

// askFor returns the values that only the world knows.
func (b *builder) askFor(l *project.List) ([]string, error) {
	question, err := b.question(l)
	if err != nil {
		return nil, err
	}
	answer, answered := b.answers[l]
	if !answered && b.req.List != nil {
		answer.Values, answer.Err = b.req.List(question)
	}
	values := slices.Clone(answer.Values)
	if len(l.Files) > 0 {
		for i := range values {
			values[i] = b.fileValue(l, question.Globs, values[i])
		}
	}
	return values, answer.Err
}

// question returns what is to be asked of the world for a list.
func (b *builder) question(l *project.List) (Listed, error) {
	sc := b.base(l.File)
	sc.resolve()
	question := Listed{Folder: l.File.Folder}
	switch {
	case len(l.Files) > 0:
		question.Globs = b.listPatterns(l)
	case l.Lines.Value != "":
		path, err := l.Lines.Expand(sc.value)
		if err != nil {
			return question, err
		}
		question.Lines = filepath.FromSlash(path)
	default:
		question.Run, question.Env = l.Run, append(sc.environ(), here+"="+l.File.Folder)
		for _, name := range project.RefersInScript(l.Run.Value, project.Shell{}) {
			if sc.late(name) {
				value, _ := sc.value(name)
				question.Env = append(question.Env, name+"="+value)
			}
		}
	}
	return question, nil
}

// fileValue returns the value that a file stands for, whose path counts from
// the top folder.
func (b *builder) fileValue(l *project.List, globs []Glob, file string) string {
	var base string
	for _, g := range globs {
		set, err := glob.Compile([]glob.Pattern{{Text: g.Pattern}})
		if err == nil && !g.Not && set.Match(file) {
			folder, plain := glob.Base(g.Pattern)
			if plain && folder == file {
				folder = filepath.ToSlash(filepath.Dir(filepath.FromSlash(folder)))
			}
			base = folder
			break
		}
	}
	if base == "." {
		base = ""
	}
	if l.As == "" || l.As == "path" {
		rel, err := filepath.Rel(l.File.Folder, filepath.Join(b.plan.Project.Folder, filepath.FromSlash(file)))
		if err == nil {
			file = filepath.ToSlash(rel)
		}
	}
	return l.Value(file, base)
}

// take adds the tasks that write what patterns mean, for the task t. Of a task
// with instances, only those are added that may write it.
func (b *builder) take(patterns []Glob, t *project.Task, in callSite) []*Step {
	var taken []*Step
	for _, w := range b.writing(patterns, t) {
		if len(w.Looped()) == 0 {
			taken = append(taken, b.add(w, project.Call{Text: w.Name, Name: w.Name, Task: w}, b.base(w.File), in))
			continue
		}
		for _, c := range b.instancesWriting(w, patterns) {
			taken = append(taken, b.add(w, c, b.base(w.File), in))
		}
	}
	return taken
}

// instancesWriting returns the calls of a task with instances that may write
// what patterns mean: of all of them, if their values are not known yet.
func (b *builder) instancesWriting(t *project.Task, patterns []Glob) []project.Call {
	whole := project.Call{Text: t.Name, Name: t.Name, Task: t}
	byInstance, known := b.byInstance[t]
	if !known {
		if variants := b.variants(t); variants != nil {
			byInstance = &writers{}
			for _, v := range variants {
				b.addWriter(byInstance, written{task: t, call: v.call}, b.unfilled(t, t.Writes, v.values))
			}
		}
		if b.byInstance == nil {
			b.byInstance = map[*project.Task]*writers{}
		}
		b.byInstance[t] = byInstance
	}
	if byInstance == nil {
		return []project.Call{whole}
	}
	var calls []project.Call
	seen := map[string]bool{}
	for _, read := range patterns {
		if read.Not {
			continue
		}
		byInstance.overlapping(b.side(read), func(w written) {
			if !seen[w.call.Text] && !takenAway(patterns, w.glob.Pattern) {
				seen[w.call.Text] = true
				calls = append(calls, w.call)
			}
		})
	}
	slices.SortFunc(calls, func(a, b project.Call) int { return strings.Compare(a.Text, b.Text) })
	return calls
}

// variant is one instance of a task, without its other arguments.
type variant struct {
	call   project.Call
	values map[string]string // by name of each
}

// variants returns the instances of a task; one without values, if it has none;
// nil if they are not known.
func (b *builder) variants(t *project.Task) []variant {
	c := project.Call{Text: t.Name, Name: t.Name, Task: t}
	open := t.Looped()
	for _, arg := range open {
		if b.unknown(arg.Each, t) {
			return nil
		}
	}
	combinations, _ := b.combinations(&Loop{task: t, call: c, open: open})
	all := []variant{}
	for _, args := range combinations {
		v := variant{c, map[string]string{}}
		for _, g := range args.given {
			v.values[g.name] = g.value
			v.call.Args = append(v.call.Args, project.CallArg{Name: g.name, Value: project.Literal(g.value)})
		}
		v.call.Text = args.name(t, c)
		all = append(all, v)
	}
	return all
}

// unknown reports whether the values of a list for t are not known while
// planning: a task may make them, or they are not to be computed.
func (b *builder) unknown(l *project.List, t *project.Task) bool {
	return l.Run.Value != "" && b.req.NoCompute || len(b.writing(b.listPatterns(l), t)) > 0
}
