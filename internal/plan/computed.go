package plan

import (
	"fmt"
	"regexp"

	"tugline/internal/project"
	"tugline/internal/secret"
)

// refer finds which computed and required variables the commands of s refer
// to, directly or through the values of others, and fills in the former.
func (b *builder) refer(s *Step) {
	if !b.world.asks && !needAnswers(s.Task.Env) {
		return
	}
	seen := map[string]bool{}
	var names []string // in the order in which they are met
	var follow func(name string)
	follow = func(name string) {
		if seen[name] {
			return
		}
		seen[name] = true
		names = append(names, name)
		for _, layer := range s.scope.layers {
			for _, v := range layer {
				if v.Name == name && !v.Fixed {
					for _, other := range append(v.Value.Refers(), v.File.Refers()...) {
						follow(other)
					}
				}
			}
		}
	}
	s.mentions(func(name string, _ *project.Text) { follow(name) })
	for _, v := range s.Task.Env {
		follow(v.Name) // what a task declares it refers to
	}
	for _, n := range s.Task.ReadsEnv {
		follow(n.Value)
	}
	for _, name := range names {
		b.resolve(s, name)
	}
}

// mentions calls visit with each variable that a text of s mentions, also more than once.
func (s *Step) mentions(visit func(name string, text *project.Text)) {
	script := func(text *project.Text, shell project.Shell) {
		for _, name := range project.RefersInScript(text.Value, shell) {
			visit(name, text)
		}
	}
	template := func(text *project.Text) {
		for _, name := range text.Refers() {
			visit(name, text)
		}
	}
	for i := range s.Run {
		script(&s.Run[i], s.Task.Shell)
	}
	if w := s.Task.When; w.Run.Value != "" {
		script(&w.Run, project.Shell{})
	}
	if hold := s.Task.HoldUntil; hold != nil {
		template(&hold.Port)
		template(&hold.HTTP)
		template(&hold.File)
		script(&hold.Run, project.Shell{})
	}
	if service := s.Task.Service; service != nil {
		for _, text := range service.Texts() {
			template(&text)
		}
		script(&service.Ready.Run, project.Shell{})
	}
	for _, paths := range [][]project.Paths{s.Task.Reads, s.Task.Writes} {
		for _, p := range paths {
			for i := range p.Globs {
				template(&p.Globs[i].Text)
			}
		}
	}
	template(&s.Task.Folder)
	template(&s.Task.Depfile)
}

// PlaceOf returns where a task uses a variable: where it says that it reads it, or the
// first of its texts that mentions it. used is false if none does; then the place is where
// the variable is declared, which may be nowhere.
func (s *Step) PlaceOf(name string) (place project.Span, used bool) {
	for _, n := range s.Task.ReadsEnv {
		if n.Value == name {
			return n.Span, true
		}
	}
	s.mentions(func(mentioned string, text *project.Text) {
		if mentioned != name || used {
			return
		}
		used, place = true, text.Span
		if at := regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\b`).FindStringIndex(text.Value); at != nil {
			place = text.At(at[0], len(name))
		}
	})
	if d := s.scope.inFiles(name); !used && d != nil {
		place = d.Span
	}
	return place, used
}

// needAnswers reports whether one of vars is computed or required.
func needAnswers(vars []project.Var) bool {
	for _, v := range vars {
		if v.Computed() || v.MustBeSet {
			return true
		}
	}
	return false
}

// resolve fills in a variable that is computed late and reports a required one
// that is not set.
func (b *builder) resolve(s *Step, name string) {
	if s.scope.late(name) {
		value, _ := s.scope.value(name)
		s.computed = append(s.computed, name+"="+value)
		if b.req.NoCompute {
			s.Uncomputed = append(s.Uncomputed, name)
		}
		return
	}
	d := s.scope.declared(name)
	_, set := s.scope.caller[name]
	if d != nil && set {
		s.outside = append(s.outside, name)
	}
	if d == nil || set || s.scope.strongest(name) != nil || b.told[name] {
		return
	}
	if b.told == nil {
		b.told = map[string]bool{}
	}
	b.told[name] = true
	b.required = append(b.required, project.Diagnostic{
		Span: d.Span, Msg: fmt.Sprintf("the variable %q is not set, and task %q needs it", name, s.Task.Name), Hint: d.About,
	})
}

// late reports whether the value of name is known only when it is asked for:
// it is computed, or its text leads to one that is.
func (sc *scope) late(name string) bool {
	return (sc.world.asks || len(sc.layers) > 0 && needAnswers(sc.layers[0])) && sc.leadsToComputed(name, map[string]bool{})
}

func (sc *scope) leadsToComputed(name string, seen map[string]bool) bool {
	v := sc.strongest(name)
	if v == nil || v.Fixed || seen[name] {
		return false
	}
	if v.Computed() {
		return true
	}
	seen[name] = true
	for _, other := range v.Value.Refers() {
		if sc.leadsToComputed(other, seen) {
			return true
		}
	}
	return false
}

// strongest returns the variable of a project file that gives name its value;
// nil if something else does, or nothing.
func (sc *scope) strongest(name string) *project.Var {
	for _, layer := range sc.layers {
		for i := range layer {
			v := &layer[i]
			if _, outside := sc.caller[name]; v.Name == name && !v.MustBeSet && !(v.Default && outside) {
				return v
			}
		}
	}
	return nil
}

// declared returns the variable that only declares name, or nil.
func (sc *scope) declared(name string) *project.Var {
	for _, layer := range sc.layers {
		for i := range layer {
			if layer[i].Name == name && layer[i].MustBeSet {
				return &layer[i]
			}
		}
	}
	return nil
}

// world is what all scopes of a plan share: what is asked of the world, and
// what was found.
type world struct {
	compute func(v *project.Var, env []string, file string) (string, error)
	values  map[computation]string
	failed  map[project.Span]failure // of computed variables, by their places
	asks    bool                     // a variable of a project file is computed or required
	found   project.Diagnostics

	secrets     *secret.Mask
	secretNames map[string]bool // the variables whose values are secret
}

// failure is a variable that cannot be computed.
type failure struct {
	variable *project.Var
	err      error
}

// report adds the variables that cannot be computed to what was found wrong.
func (w *world) report() {
	for _, f := range w.failed {
		at := f.variable.Run.Span
		if at.IsZero() {
			at = f.variable.File.Span
		}
		w.found = append(w.found, project.Diagnostic{Span: at, Msg: fmt.Sprintf("the variable %q cannot be computed: %v", f.variable.Name, f.err)})
	}
}

func newWorld(p *project.Project, req Request) *world {
	w := &world{compute: req.Compute, values: map[computation]string{}, failed: map[project.Span]failure{}, secrets: req.Secrets, secretNames: map[string]bool{}}
	for _, f := range p.Files {
		w.asks = w.asks || needAnswers(f.Env) || needAnswers(f.ParentEnv)
		w.noteSecrets(f.Env)
		w.noteSecrets(f.ParentEnv)
	}
	for _, t := range p.Tasks {
		w.noteSecrets(t.Env)
	}
	return w
}

func (w *world) noteSecrets(vars []project.Var) {
	for i := range vars {
		if vars[i].Secret {
			w.secretNames[vars[i].Name] = true
		}
	}
}

// computation is one computed variable: once for the project, or once for each
// scope of a task that declares it itself.
type computation struct {
	scope *scope
	place project.Span
}

// computedValue returns the value of a computed variable of a layer, asked for
// once.
func (sc *scope) computedValue(v *project.Var, layer int) string {
	if layer > 0 && sc.below != nil {
		return sc.below.computedValue(v, layer)
	}
	if sc.around != nil {
		if own := len(sc.layers) - len(sc.around.layers); layer > own {
			return sc.around.computedValue(v, layer-own)
		}
	}
	key := computation{sc, v.Span}
	if value, done := sc.world.values[key]; done {
		return value
	}
	value, err := sc.compute(v)
	if err != nil {
		sc.world.failed[v.Span] = failure{v, err}
	}
	sc.world.values[key] = value
	if sc.world.secretNames[v.Name] {
		sc.world.secrets.Add(value)
	}
	return value
}

func (sc *scope) compute(v *project.Var) (string, error) {
	if sc.world.compute == nil {
		return "", nil
	}
	file, err := v.File.Expand(func(name string) (string, bool) {
		if name == here {
			return v.Span.Source.Folder(), true
		}
		return sc.value(name)
	})
	if err != nil {
		return "", err
	}
	sc.resolve()
	env := append(sc.environ(), here+"="+v.Span.Source.Folder())
	for _, name := range project.RefersInScript(v.Run.Value, project.Shell{}) {
		if name != v.Name && sc.late(name) {
			value, _ := sc.value(name)
			env = append(env, name+"="+value)
		}
	}
	return sc.world.compute(v, env, file)
}
