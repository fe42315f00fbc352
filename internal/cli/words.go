package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// request is what the words of a run ask for.
type request struct {
	calls []project.Call
	task  *project.Task // the last one that was named; nil: none, or it is not known
	help  *project.Task // tell of this task instead of running
	usage bool          // tell of the command instead of running
}

// place is where a project is looked for, as options say it.
type place struct{ folder, file string }

// readWords reads the words of a run: Tugline's own options, tasks, each with
// its arguments, and the words behind --. It sets the options of flags.
//
// An option behind a task's name is looked up among the task's arguments
// first, then among Tugline's own. Which project is meant must be known for
// that, and -C and --file may stand anywhere: those before the first task lead to
// a project, and if its tasks leave others to Tugline, these to another one. The
// options are set once, when it is known whose they are.
func (a *app) readWords(flags *pflag.FlagSet, words []string) (*project.Project, request, error) {
	from := origin{a.env.Folder, place{"", a.file}}
	blind := &wordReader{flags: flags, folder: from.folder, at: from.place}
	blind.read(words) // without a project nothing is sure, not even what is wrong
	if blind.usage && len(blind.calls) == 0 {
		return nil, blind.request, nil
	}
	p, r, err := a.readIn(blind.before, from, flags, words)
	if p == nil && blind.at != blind.before { // an option behind a task may lead to the project
		p, r, err = a.readIn(blind.at, from, flags, words)
	}
	if err == nil && r.at != r.in {
		if p, r, err = a.readIn(r.at, from, flags, words); err == nil && r.at != r.in {
			err = &usageError{msg: "it is not clear whether -C or --file behind a task is the task's or Tugline's", hint: "put Tugline's before the task"}
		}
	}
	if err == nil {
		err = optionError(flags.Parse(r.own))
	}
	if err == nil {
		err = a.checkColor()
	}
	if err != nil {
		return nil, request{}, err
	}
	return p, r.request, r.problems()
}

// origin is where words are read, whatever they say.
type origin struct {
	folder string
	place
}

// readIn reads words as they are meant in the project at a place. There is no
// project if it cannot be loaded.
func (a *app) readIn(at place, from origin, flags *pflag.FlagSet, words []string) (*project.Project, *wordReader, error) {
	a.env.Folder, a.file = from.folder, at.file
	if err := a.goTo(at.folder); err != nil {
		return nil, nil, err
	}
	p, err := a.load()
	if err != nil {
		return nil, nil, err
	}
	r := &wordReader{flags: flags, folder: a.env.Folder, base: a.base, in: at, at: from.place}
	return p, r, r.read(words)
}

// optionError returns an error of the library that reads options in our words; nil
// for none.
func optionError(err error) error {
	if err == nil {
		return nil
	}
	hint := "see tugline help for the options"
	var invalid *pflag.InvalidValueError
	var bare *pflag.ValueRequiredError
	var unknown *pflag.NotExistError
	switch {
	case errors.As(err, &invalid):
		kind := map[string]string{"int": "a whole number", "bool": "true or false", "duration": "a duration such as 50ms or 2s"}[invalid.GetFlag().Value.Type()]
		if kind != "" {
			return &usageError{msg: fmt.Sprintf("--%s takes %s, not %q", invalid.GetFlag().Name, kind, invalid.GetValue()), hint: hint}
		}
		return &usageError{msg: fmt.Sprintf("--%s does not take %q", invalid.GetFlag().Name, invalid.GetValue()), hint: hint}
	case errors.As(err, &bare):
		return &usageError{msg: fmt.Sprintf("--%s needs a value", bare.GetFlag().Name), hint: hint}
	case errors.As(err, &unknown) && unknown.GetSpecifiedShortnames() != "":
		return &usageError{msg: fmt.Sprintf("there is no option -%s", unknown.GetSpecifiedName()), hint: hint}
	case errors.As(err, &unknown):
		return &usageError{msg: fmt.Sprintf("there is no option --%s", unknown.GetSpecifiedName()), hint: hint}
	}
	return &usageError{msg: err.Error(), hint: hint}
}

// wordReader parts words between tasks and Tugline itself.
type wordReader struct {
	request
	base   *project.File // in which names are looked up; nil while it is not known: then no task has arguments
	flags  *pflag.FlagSet
	folder string
	own    []string // Tugline's options, with their values
	wrong  []unknownOption

	in     place // where the words are read
	at     place // that Tugline's options lead to
	before place // that those before the first task lead to
}

// unknownOption is an option that neither the task before it nor Tugline has.
type unknownOption struct {
	word string
	task *project.Task // nil: it stood before the first task
}

func (r *wordReader) read(words []string) error {
	defer func() {
		if len(r.calls) == 0 {
			r.before = r.at
		}
	}()
	for i := 0; i < len(words); i++ {
		word := words[i]
		switch {
		case word == "--":
			return r.rest(words[i+1:])
		case len(word) > 1 && word[0] == '-':
			used, err := r.option(word, words[i+1:])
			if err != nil {
				return err
			}
			i += used
		default:
			if len(r.calls) == 0 {
				r.before = r.at
			}
			r.calls = append(r.calls, project.Call{Text: word, Name: word})
			r.task = nil
			if r.base != nil {
				r.task = r.base.Task(word)
			}
		}
	}
	return nil
}

func (r *wordReader) rest(words []string) error {
	if len(r.calls) == 0 {
		return &usageError{msg: "words after -- need a task before them"}
	}
	last := &r.calls[len(r.calls)-1]
	for _, w := range words {
		last.Rest = append(last.Rest, project.Literal(w))
	}
	return nil
}

// option reads one option; next are the words behind it, of which it returns
// how many are its value.
func (r *wordReader) option(word string, next []string) (used int, err error) {
	if word == "--help" || word == "-h" {
		r.help, r.usage = r.task, true
		return 0, nil
	}
	name, value, given := strings.Cut(strings.TrimPrefix(word, "--"), "=")
	if r.task != nil && strings.HasPrefix(word, "--") {
		if arg := r.task.Arg(name); arg != nil {
			return r.argument(arg, value, given, next)
		}
	}
	flag := r.flags.Lookup(name)
	if !strings.HasPrefix(word, "--") {
		flag, given = r.shorthand(word)
	}
	switch {
	case flag == nil:
		r.wrong = append(r.wrong, unknownOption{word, r.task})
		return 0, nil
	case given || flag.NoOptDefVal != "":
		r.own = append(r.own, word)
		if !strings.HasPrefix(word, "--") {
			_, value, _ = strings.Cut(word, flag.Shorthand)
			value = strings.TrimPrefix(value, "=")
		}
		r.goTo(flag, value)
		return 0, nil
	case len(next) == 0:
		return 0, &usageError{msg: word + " needs a value"}
	}
	r.own = append(r.own, word, next[0])
	r.goTo(flag, next[0])
	return 1, nil
}

// goTo notes where an option of Tugline's leads to.
func (r *wordReader) goTo(flag *pflag.Flag, value string) {
	switch flag.Name {
	case "folder":
		r.at.folder = value
	case "file":
		r.at.file = value
	}
}

// shorthand returns the last option of a word such as -qj or -j4, and whether
// the word holds its value.
func (r *wordReader) shorthand(word string) (flag *pflag.Flag, given bool) {
	for i := 1; i < len(word); i++ {
		flag = r.flags.ShorthandLookup(word[i : i+1])
		if flag == nil {
			return nil, false
		}
		if flag.NoOptDefVal == "" {
			return flag, i+1 < len(word)
		}
	}
	return flag, false
}

// argument reads the value of a task's argument.
func (r *wordReader) argument(arg *project.Arg, value string, given bool, next []string) (used int, err error) {
	switch {
	case !given && arg.Type == project.ArgFlag:
		value = "true"
	case !given && len(next) == 0:
		return 0, &usageError{msg: fmt.Sprintf("--%s of task %q needs a value", arg.Name, r.task.Name)}
	case !given:
		value, used = next[0], 1
	}
	call := &r.calls[len(r.calls)-1]
	call.Args = append(call.Args, project.CallArg{Name: arg.Name, Value: project.Literal(r.path(arg, value))})
	return used, nil
}

// path returns a path as it is meant from where the task runs, which may be
// another folder than the one the user stands in.
func (r *wordReader) path(arg *project.Arg, value string) string {
	if arg.Type != project.ArgFile && arg.Type != project.ArgFolder || value == "" || filepath.IsAbs(value) {
		return value
	}
	if len(r.task.Folder.Refers()) > 0 {
		return filepath.Join(r.folder, value) // where it runs is not known yet
	}
	folder := filepath.Join(r.task.File.Folder, r.task.Folder.Value)
	path, err := filepath.Rel(folder, filepath.Join(r.folder, value))
	if err != nil {
		return filepath.Join(r.folder, value)
	}
	return path
}

// problems returns what is wrong with the words, all at once.
func (r *wordReader) problems() error {
	if r.usage {
		return nil
	}
	var found project.Diagnostics
	for _, o := range r.wrong {
		found = append(found, r.unknown(o))
	}
	for i, c := range r.calls {
		if t := r.base.Task(c.Name); t != nil && t.Absent == "" && !r.tellsOf(c) {
			if d := r.meantForArgument(t, i); d != nil {
				found = append(found, *d)
				break
			}
			found = append(found, t.CheckCall(c)...)
			found = append(found, r.checkPaths(t, c)...)
		}
	}
	if len(found) > 0 {
		return found
	}
	return nil
}

// meantForArgument tells of a word that stands behind the task of a call as if it were one
// of its arguments; nil: none does.
func (r *wordReader) meantForArgument(t *project.Task, call int) *project.Diagnostic {
	if len(r.wrong) > 0 || call+1 >= len(r.calls) || r.base.Task(r.calls[call+1].Name) != nil || len(r.base.Near(r.calls[call+1].Name)) > 0 {
		return nil
	}
	word, c := r.calls[call+1].Name, r.calls[call]
	given := func(a *project.Arg) bool {
		return slices.ContainsFunc(c.Args, func(g project.CallArg) bool { return g.Name == a.Name })
	}
	var free *project.Arg
	for _, a := range t.Args {
		if !a.Rest && a.Type != project.ArgFlag && !given(a) && (free == nil || a.Required() && !free.Required()) {
			free = a
		}
	}
	name := r.base.NameOf(t)
	switch {
	case free != nil:
		return &project.Diagnostic{
			Msg: fmt.Sprintf("there is no task %q, and the arguments of %q are options", word, name), Hint: fmt.Sprintf("such as tugline %s --%s %s", name, free.Name, plan.Quote(word)),
		}
	case t.RestArg() != nil:
		return &project.Diagnostic{Msg: fmt.Sprintf("there is no task %q, and %q takes words behind --", word, name), Hint: fmt.Sprintf("such as tugline %s -- %s", name, plan.Quote(word))}
	}
	return nil
}

// tellsOf reports whether a command tells of the task of a call as it is declared, so that it
// needs no arguments: show does, unless a script is wanted.
func (r *wordReader) tellsOf(c project.Call) bool {
	script := r.flags.Lookup(scriptOption)
	return script != nil && script.Value.String() == "false" && len(c.Args)+len(c.Rest) == 0
}

// renamedOptions are options of older versions, and what they are called now.
var renamedOptions = map[string]string{"--force-all": "--force-needs"}

// unknown explains an option that neither the task nor Tugline has.
func (r *wordReader) unknown(o unknownOption) project.Diagnostic {
	name, _, _ := strings.Cut(o.word, "=")
	var known []string
	r.flags.VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			known = append(known, "--"+f.Name)
		}
	})
	msg := fmt.Sprintf("there is no option %s", name)
	var options []string
	if o.task != nil {
		options = o.task.Options()
		msg = fmt.Sprintf("neither task %q nor Tugline has an option %s", o.task.Name, name)
	}
	lists := "Tugline options: " + strings.Join(known, " ")
	if len(options) > 0 {
		lists = "task options: " + strings.Join(options, " ") + "; " + lists
	}
	if now := renamedOptions[name]; slices.Contains(known, now) {
		return project.Diagnostic{Msg: fmt.Sprintf("the option %s is called %s now", name, now)}
	}
	hint := project.DidYouMeanOption(name, append(options, known...))
	hint = strings.TrimPrefix(hint+" "+lists, " ")
	return project.Diagnostic{Msg: msg, Hint: hint}
}

// checkPaths reports arguments that should name a file or a folder and do not.
func (r *wordReader) checkPaths(t *project.Task, c project.Call) project.Diagnostics {
	var found project.Diagnostics
	for _, ca := range c.Args {
		arg := t.Arg(ca.Name)
		value, _ := ca.Value.Fixed()
		if arg == nil || arg.Type != project.ArgFile && arg.Type != project.ArgFolder || value == "" {
			continue
		}
		path := value
		if !filepath.IsAbs(path) {
			path = filepath.Join(t.File.Folder, t.Folder.Value, value)
		}
		info, err := os.Stat(path)
		if err != nil || info.IsDir() != (arg.Type == project.ArgFolder) {
			found = append(found, project.Diagnostic{Msg: fmt.Sprintf("--%s of task %q must be an existing %s, not %q", arg.Name, t.Name, arg.Type, value)})
		}
	}
	return found
}

// runWords runs what the words of cmd ask for: the default task, if they name
// none; without that, it lists the tasks.
func (a *app) runWords(cmd *cobra.Command, words []string, options *runOptions) error {
	return a.runRequest(cmd, words, options, func() {})
}

// runRequest is runWords; override is called when the options of words are set.
func (a *app) runRequest(cmd *cobra.Command, words []string, options *runOptions, override func()) error {
	options.words = words
	p, r, done, err := a.readRequest(cmd, words)
	if err != nil || done {
		return err
	}
	override()
	if err := options.check(allFlags(cmd)); err != nil {
		return err
	}
	if err := a.checkNames(r.calls); err != nil {
		return err
	}
	return a.run(cmd.Context(), p, r.calls, options)
}

// readRequest reads the words of a command that runs something. If they ask for help,
// it is given, and nothing more is to be done.
func (a *app) readRequest(cmd *cobra.Command, words []string) (p *project.Project, r request, done bool, err error) {
	p, r, err = a.readWords(allFlags(cmd), words)
	switch {
	case err != nil:
		return nil, r, false, err
	case r.help != nil:
		return nil, r, true, a.print(taskHelp(r.help, a.base))
	case r.usage:
		return nil, r, true, cmd.Help()
	}
	return p, r, false, nil
}

// checkNames reports a call of a task that is not there.
func (a *app) checkNames(calls []project.Call) error {
	for _, c := range calls {
		if _, err := a.task(c.Name); err != nil {
			return err
		}
	}
	return nil
}

// taskHelp returns the help of one task, as it is called in base: its texts and
// its arguments.
func taskHelp(t *project.Task, base *project.File) string {
	var b strings.Builder
	if t.About != "" {
		b.WriteString(strings.TrimSpace(t.About) + "\n\n")
	}
	b.WriteString("Usage:\n  tugline " + base.NameOf(t))
	for _, a := range t.Args {
		b.WriteString(" " + argUse(a))
	}
	b.WriteString("\n")
	if len(t.Args) > 0 {
		b.WriteString("\nArguments:\n")
	}
	for _, a := range t.Args {
		name := "--" + a.Name
		if a.Rest {
			name = "-- …"
		}
		b.WriteString(strings.TrimRight(fmt.Sprintf("  %-18s %s", name, strings.Join(argFacts(a), "; ")), " ") + "\n")
	}
	return b.String()
}

// argUse returns an argument as it stands in a call: [--copies INT].
func argUse(a *project.Arg) string {
	use := "--" + a.Name + " " + strings.ToUpper(string(a.Type))
	switch {
	case a.Rest:
		return "[-- WORDS…]"
	case a.Type == project.ArgFlag:
		return "[--" + a.Name + "]"
	case len(a.Choices) > 0:
		use = "--" + a.Name + " " + strings.Join(a.Choices, "|")
	}
	if a.Many {
		use += " …"
	}
	if a.Required() {
		return use
	}
	return "[" + use + "]"
}

// argFacts returns what there is to know of an argument.
func argFacts(a *project.Arg) []string {
	var facts []string
	add := func(condition bool, format string, args ...any) {
		if condition {
			facts = append(facts, fmt.Sprintf(format, args...))
		}
	}
	add(a.About != "", "%s", a.About)
	add(a.Type != project.ArgText && a.Type != project.ArgFlag, "%s", a.Type)
	add(len(a.Choices) > 0, "one of %s", strings.Join(a.Choices, ", "))
	add(a.Min != nil, "at least %v", deref(a.Min))
	add(a.Max != nil, "at most %v", deref(a.Max))
	add(a.Pattern != "", "must match %s", a.Pattern)
	add(a.Many, "may be repeated")
	add(a.Each != nil, "may be repeated, or a glob")
	add(a.HasDefault && a.Default != "", "%s if not given", a.Default)
	add(a.Required(), "required")
	return facts
}

func deref(f *float64) float64 {
	if f == nil {
		return 0
	}
	return *f
}
