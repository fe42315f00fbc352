package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"tugline/internal/glob"
	"tugline/internal/project"
)

// scopeOf returns the variables of a call of t, and where it runs.
func (b *builder) scopeOf(t *project.Task, args []project.Var, rest []string) (*scope, string) {
	sc := b.base(t.File)
	paths := pathVariables(t)
	if len(args)+len(paths)+len(t.Env)+len(rest) > 0 {
		sc = sc.with(slices.Concat(args, paths), t.Env)
		sc.rest, sc.file = rest, t.File
		for _, v := range paths {
			if sc.paths == nil {
				sc.paths = map[string]bool{}
			}
			sc.paths[v.Name] = true
		}
	}
	folder := b.folder(t, sc)
	sc.folder = folder
	sc.resolve()
	return sc, folder
}

// folder returns where t runs.
func (b *builder) folder(t *project.Task, sc *scope) string {
	if t.Folder.Value == "" {
		return t.File.Folder
	}
	folder, err := t.Folder.Expand(sc.value)
	if err != nil {
		b.found = append(b.found, project.Diagnostic{Span: t.Folder.Span, Msg: err.Error()})
	}
	if filepath.IsAbs(folder) {
		return folder
	}
	return filepath.Join(t.File.Folder, folder)
}

// scope finds the values of variables, the strongest layer first. A value may
// refer to other variables, which are then the strongest of their name, and to
// its own name, which is then the next weaker one.
type scope struct {
	layers   [][]project.Var
	caller   map[string]string  // the caller's environment, and below it the env files
	fromEnv  map[string]bool    // the variables of the caller's environment
	settings []project.Settings // the env files
	fixed    []string           // set by Tugline itself, stronger than all
	rest     []string           // the words behind --, for "$@" in calls
	world    *world
	below    *scope          // of a task: the same without the first layer, the scope of its file
	around   *scope          // of a part: the scope of the file that takes it in
	file     *project.File   // of a task with named paths: where they count from
	folder   string          // and where it runs
	paths    map[string]bool // the variables of the first layer that are such paths
	resolved bool
	overlaid bool // values has only what the first layer sets
	values   map[string]string
	env      []string
	open     []reference // being resolved now
}

// reference is a variable in one of the layers.
type reference struct {
	name  string
	layer int
}

// base returns the scope of the tasks of f that have no variables of their own.
func (b *builder) base(f *project.File) *scope {
	if sc := b.bases[f]; sc != nil {
		return sc
	}
	sc := &scope{
		world: b.world, fromEnv: b.fromEnv,
		fixed: []string{
			"TUGLINE_PROJECT=" + b.plan.Project.Folder,
			here + "=" + f.Folder,
			"TUGLINE_FROM=" + b.req.From,
			"TUGLINE_RUN=" + b.req.Run,
			"TUGLINE_OS=" + b.req.OS,
			"TUGLINE_ARCH=" + b.req.Arch,
			"TUGLINE_JOBS=" + strconv.Itoa(b.req.Jobs),
			"TUGLINE_CHANGED=" + strings.Join(b.req.Changed, "\n"),
		},
	}
	files := b.req.Files // those of the command line are the strongest
	if f.Parent == nil {
		sc.layers = [][]project.Var{fixedVars(b.req.Set), f.Env}
	} else {
		sc.around = b.base(f.Parent)
		sc.layers = slices.Concat(sc.around.layers[:1], [][]project.Var{f.ParentEnv, f.Env}, sc.around.layers[1:])
		files = sc.around.settings
	}
	own := b.envFiles(f)
	if sc.around != nil && len(own) == 0 {
		sc.settings, sc.caller = sc.around.settings, sc.around.caller
	} else {
		sc.settings = slices.Concat(files[:len(files)-len(b.req.Files)], own, b.req.Files)
		sc.caller = callerVars(b.req.Env, sc.settings)
	}
	b.bases[f] = sc
	return sc
}

// envFiles asks for the env files that f names.
func (b *builder) envFiles(f *project.File) []project.Settings {
	if b.req.EnvFiles == nil || len(f.EnvFiles) == 0 {
		return nil
	}
	files, err := b.req.EnvFiles(f)
	if err != nil && b.failed == nil {
		b.failed = err
	}
	return files
}

// callerVars returns the caller's environment, and below it the env files.
func callerVars(env []string, files []project.Settings) map[string]string {
	caller := make(map[string]string, len(env))
	for _, file := range files {
		for _, pair := range file.Pairs {
			name, value, _ := strings.Cut(pair, "=")
			caller[name] = value
		}
	}
	for _, pair := range env {
		if name, value, ok := strings.Cut(pair, "="); ok && name != "" {
			caller[name] = value
		}
	}
	return caller
}

// fixedVars returns variables for NAME=value pairs.
func fixedVars(pairs []string) []project.Var {
	vars := make([]project.Var, 0, len(pairs))
	for _, pair := range slices.Backward(pairs) { // the last one of a name counts
		name, value, _ := strings.Cut(pair, "=")
		vars = append(vars, project.FixedVar(name, value))
	}
	return vars
}

// with returns a scope for a task: its arguments are stronger than what was
// set for the run, its env is weaker than that.
func (sc *scope) with(args, env []project.Var) *scope {
	own := env
	if set := sc.layers[0]; len(args)+len(set) > 0 {
		own = slices.Concat(args, set, env)
	}
	return &scope{layers: append([][]project.Var{own}, sc.layers[1:]...), caller: sc.caller, fromEnv: sc.fromEnv, settings: sc.settings, fixed: sc.fixed, world: sc.world, below: sc}
}

// resolve finds all values, once. What is wrong with them is noted in world.
func (sc *scope) resolve() {
	if sc.resolved {
		return
	}
	sc.resolved = true
	defer sc.hide()
	if sc.below != nil && !sc.changesBelow() {
		sc.overlay()
		return
	}
	sc.values = make(map[string]string, len(sc.caller)+8)
	for _, pair := range sc.fixed {
		name, value, _ := strings.Cut(pair, "=")
		sc.values[name] = value
	}
	for name := range sc.caller {
		sc.value(name)
	}
	for _, layer := range sc.layers {
		for _, v := range layer {
			if !sc.late(v.Name) {
				sc.value(v.Name)
			}
		}
	}
}

// here is the variable that holds the folder of the file which defines
// something: for a variable its own file, for commands that of their task.
const here = "TUGLINE_HERE"

// hide tells the mask of all values of sc that are secret.
func (sc *scope) hide() {
	for name := range sc.world.secretNames {
		if !sc.late(name) {
			value, _ := sc.value(name)
			sc.world.secrets.Add(value)
		}
		sc.world.secrets.Add(sc.caller[name])
	}
}

// changesBelow reports whether a value of the scope below refers to a name
// that sc sets anew, so that all must be found again.
func (sc *scope) changesBelow() bool {
	for _, v := range sc.layers[0] {
		for _, layer := range sc.below.layers {
			for _, other := range layer {
				if strings.Contains(other.Value.Value, "$") && strings.Contains(other.Value.Value, v.Name) {
					return true
				}
			}
		}
	}
	return false
}

// overlay finds the values of sc's own variables alone; the others are those
// of the scope below, which most scopes of a project share.
func (sc *scope) overlay() {
	sc.below.resolve()
	sc.overlaid = true
	for _, v := range sc.layers[0] {
		if strings.Contains(v.Value.Value, "$") && !sc.late(v.Name) { // else nothing can go wrong
			sc.value(v.Name)
		}
	}
}

// environ returns all variables as NAME=value; a later one of the same name
// replaces an earlier one. The slice is the caller's.
func (sc *scope) environ() []string {
	if sc.overlaid {
		env := sc.below.environ()
		for _, v := range sc.layers[0] {
			if v.MustBeSet || sc.late(v.Name) {
				continue
			}
			value, _ := sc.value(v.Name)
			env = append(env, v.Name+"="+value)
		}
		return env
	}
	if sc.env == nil {
		sc.env = make([]string, 0, len(sc.values))
		for name, value := range sc.values {
			sc.env = append(sc.env, name+"="+value)
		}
		slices.Sort(sc.env)
	}
	return append(make([]string, 0, len(sc.env)+8), sc.env...)
}

// value returns the strongest value of the variable called name.
func (sc *scope) value(name string) (string, bool) {
	if value, ok := sc.values[name]; ok {
		return value, true
	}
	if sc.overlaid && !sc.sets(name) {
		return sc.below.value(name)
	}
	value, ok := sc.from(0, name)
	if ok && sc.values != nil {
		if !sc.late(name) { // the others are only for those that refer to them
			sc.values[name] = value
		}
	}
	if !ok && sc.declared(name) != nil {
		return "", true // whether it matters is seen from who refers to it
	}
	return value, ok
}

// sets reports whether the strongest layer has a variable called name.
func (sc *scope) sets(name string) bool {
	return slices.ContainsFunc(sc.layers[0], func(v project.Var) bool { return v.Name == name })
}

// from returns the value of name in the given layer or a weaker one.
func (sc *scope) from(layer int, name string) (string, bool) {
	for ; layer < len(sc.layers); layer++ {
		for _, v := range sc.layers[layer] {
			if _, outside := sc.caller[name]; v.Name == name && !v.MustBeSet && !(v.Default && outside) {
				return sc.expand(v, layer), true
			}
		}
	}
	value, ok := sc.caller[name]
	return value, ok
}

func (sc *scope) expand(v project.Var, layer int) string {
	if v.Fixed {
		return v.Value.Value
	}
	ref := reference{v.Name, layer}
	if slices.Contains(sc.open, ref) {
		sc.report(v, fmt.Sprintf("the value of %q refers to itself, by way of %s", v.Name, sc.cycle(ref)))
		return ""
	}
	sc.open = append(sc.open, ref)
	defer func() { sc.open = sc.open[:len(sc.open)-1] }()
	if v.Computed() {
		return sc.computedValue(&v, layer)
	}
	lookup := func(name string) (string, bool) {
		switch name {
		case v.Name:
			return sc.from(layer+1, name)
		case here:
			return v.Span.Source.Folder(), true
		}
		return sc.value(name)
	}
	isPath := layer == 0 && sc.paths[v.Name]
	if isPath { // a pattern: a backslash in it takes the meaning from a star
		plain := lookup
		lookup = func(name string) (string, bool) {
			value, ok := plain(name)
			return glob.Escape(value), ok
		}
	}
	value, err := v.Value.Expand(lookup)
	if err != nil {
		sc.report(v, err.Error())
	}
	if isPath {
		return sc.fromFolder(glob.Unescape(value))
	}
	return value
}

// cycle names the variables between the two ends of a cycle that closes at ref.
func (sc *scope) cycle(ref reference) string {
	var names []string
	for _, r := range sc.open[slices.Index(sc.open, ref)+1:] {
		names = append(names, fmt.Sprintf("%q", r.name))
	}
	return strings.Join(names, " and ")
}

func (sc *scope) report(v project.Var, msg string) {
	at := v.Value.Span
	if at.IsZero() {
		at = v.Span
	}
	sc.world.found = append(sc.world.found, project.Diagnostic{Span: at, Msg: msg})
}
