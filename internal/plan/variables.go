package plan

import (
	"slices"
	"strings"

	"tugline/internal/project"
	"tugline/internal/secret"
)

// Variable is one variable as a task sees it.
type Variable struct {
	Name  string
	Value string
	About string
	From  Origin   // where the value comes from
	Hides []Origin // weaker values, the strongest first
	// Counts tells why its value decides over whether the task is unchanged; empty: it
	// does not, or no task is asked about.
	Counts string
}

// Origin is a place that gives a variable a value.
type Origin struct {
	Kind  string       // argument, each, path, set, task, part, project, caller, env file or default
	Span  project.Span // in a project file; zero elsewhere
	File  string       // of an env file
	Value string       // what it gives, filled in

	Problem string // why the value cannot be computed; empty: it can
}

// Variables returns the variables that t and the project declare and those
// that --set and the env files bring in, sorted by name. Without t, they are
// those of a task that declares none. An argument without a default is empty;
// a value of each is that of the first instance.
// That a variable cannot be computed is told with it, and is no error.
func Variables(p *project.Project, req Request, t *project.Task) ([]Variable, error) {
	b := newBuilder(p, req)
	sc := b.base(p.File)
	if t != nil {
		args := b.values(t, project.Call{Name: t.Name}, b.base(t.File))
		for _, a := range args.open(t) {
			args.values[a.Name] = append(b.listed(a.Each), "")[:1] // as in the first instance
		}
		sc, _ = b.scopeOf(t, args.variables(t), nil)
	}
	sc.resolve()
	var vars []Variable
	for _, name := range sc.declaredNames(t, req) {
		v := Variable{Name: name}
		for _, o := range sc.origins(name, t, req) {
			if v.From.Kind == "" {
				v.From, v.Value = o, o.Value
			} else {
				v.Hides = append(v.Hides, o)
			}
		}
		v.About = sc.about(t, name)
		vars = append(vars, v)
	}
	if t != nil {
		vars = sc.countsFor(t, vars, req)
	}
	if err := b.problems(); err != nil {
		return nil, err
	}
	for i := range vars {
		vars[i].mask(req.Secrets)
	}
	return vars, nil
}

// countsFor tells of each variable why it counts for a task, and adds those of the caller
// that the task reads.
func (sc *scope) countsFor(t *project.Task, vars []Variable, req Request) []Variable {
	read := map[string]bool{}
	for _, n := range t.ReadsEnv {
		read[n.Value] = true
		if !slices.ContainsFunc(vars, func(v Variable) bool { return v.Name == n.Value }) {
			v := Variable{Name: n.Value}
			for _, o := range lookup(req.Env, n.Value, Origin{Kind: "caller"}) {
				v.From, v.Value = o, o.Value
			}
			vars = append(vars, v)
		}
	}
	mentioned := map[string]bool{}
	s := &Step{Task: t, Run: t.RunOn(req.OS)}
	s.mentions(func(name string, _ *project.Text) { mentioned[name] = true })
	own := map[string]bool{}
	for _, v := range t.Env {
		own[v.Name] = true
	}
	for i := range vars {
		v := &vars[i]
		declared := v.From.Kind == "project" || v.From.Kind == "part" || v.From.Kind == "default"
		switch d := sc.inFiles(v.Name); {
		case read[v.Name]:
			v.Counts = "reads_env"
		case slices.Contains([]string{"argument", "each", "path"}, v.From.Kind):
			v.Counts = v.From.Kind
		case d != nil && (d.Secret || d.NotCounted):
		case own[v.Name]:
			v.Counts = "the task sets it"
		case mentioned[v.Name] && (d != nil || v.From.Kind == "set"):
			v.Counts = "a text mentions it"
		case !t.OnlyEnv && d != nil && !d.Computed() && !d.MustBeSet && (declared || v.From.Kind == "set" || v.From.Kind == "caller" || v.From.Kind == "env file"):
			v.Counts = "the project declares it"
		}
	}
	slices.SortFunc(vars, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return vars
}

// inFiles returns the strongest declaration of a variable in a project file; nil if there
// is none.
func (sc *scope) inFiles(name string) *project.Var {
	for _, layer := range sc.layers {
		for i := range layer {
			if v := &layer[i]; v.Name == name && v.Details != nil && !v.Span.IsZero() {
				return v
			}
		}
	}
	return nil
}

func (v *Variable) mask(secrets *secret.Mask) {
	v.Value = secrets.Text(v.Value)
	v.From.Value, v.From.Problem = secrets.Text(v.From.Value), secrets.Text(v.From.Problem)
	for i := range v.Hides {
		v.Hides[i].Value, v.Hides[i].Problem = secrets.Text(v.Hides[i].Value), secrets.Text(v.Hides[i].Problem)
	}
}

func (sc *scope) declaredNames(t *project.Task, req Request) []string {
	var names []string
	if t != nil {
		for _, a := range t.Args {
			if !a.Rest {
				names = append(names, a.Variable())
			}
		}
	}
	for _, layer := range sc.layers {
		for _, v := range layer {
			names = append(names, v.Name)
		}
	}
	for _, pairs := range append(fileNames(sc.settings), req.Set) {
		for _, pair := range pairs {
			name, _, _ := strings.Cut(pair, "=")
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func fileNames(files []project.Settings) [][]string {
	pairs := make([][]string, len(files))
	for i, f := range files {
		pairs[i] = f.Pairs
	}
	return pairs
}

// origins returns all that gives the variable called name a value, the
// strongest first.
func (sc *scope) origins(name string, t *project.Task, req Request) []Origin {
	var found, defaults []Origin
	for i, layer := range sc.layers {
		for _, v := range layer {
			if v.Name != name || v.MustBeSet {
				continue
			}
			o := Origin{Kind: sc.kindOf(v, i, t), Span: v.Span, Value: sc.expand(v, i)}
			if f, failed := sc.world.failed[v.Span]; failed {
				o.Problem = f.err.Error()
			}
			if v.Default {
				o.Kind = "default"
				defaults = append(defaults, o)
			} else {
				found = append(found, o)
			}
		}
	}
	found = append(found, lookup(req.Env, name, Origin{Kind: "caller"})...)
	for _, f := range slices.Backward(sc.settings) {
		found = append(found, lookup(f.Pairs, name, Origin{Kind: "env file", File: f.Name})...)
	}
	return append(found, defaults...)
}

// kindOf tells what a variable of a layer is: the first holds the arguments,
// what was set for the run, and the env of the task.
func (sc *scope) kindOf(v project.Var, layer int, t *project.Task) string {
	switch {
	case layer == len(sc.layers)-1:
		return "project"
	case layer > 0:
		return "part"
	case sc.paths[v.Name]:
		return "path"
	case !v.Fixed:
		return "task"
	case t != nil && slices.ContainsFunc(t.Args, func(a *project.Arg) bool { return a.Variable() == v.Name && a.Each != nil }):
		return "each"
	case t != nil && slices.ContainsFunc(t.Args, func(a *project.Arg) bool { return a.Variable() == v.Name }):
		return "argument"
	}
	return "set"
}

func lookup(pairs []string, name string, o Origin) []Origin {
	for _, pair := range slices.Backward(pairs) {
		if value, ok := strings.CutPrefix(pair, name+"="); ok {
			o.Value = value
			return []Origin{o}
		}
	}
	return nil
}

func (sc *scope) about(t *project.Task, name string) string {
	if t != nil {
		for _, a := range t.Args {
			if a.Variable() == name {
				return a.About
			}
		}
	}
	for _, layer := range sc.layers {
		for _, v := range layer {
			if v.Name == name && v.Details != nil && v.About != "" {
				return v.About
			}
		}
	}
	return ""
}
