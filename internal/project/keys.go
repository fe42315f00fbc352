package project

import "tugline/internal/toml"

// key is one key of the project file: what it is called, what it holds, and
// what is done with it. The reader, the hints, the schema and the reference
// are all made from these tables.
type key[T any] struct {
	name  string
	form  form
	about string // for the schema and the reference; Markdown, one sentence
	set   func(*decoder, T, *toml.Entry)
}

// topKeys are the keys that stand at the top of the file.
var topKeys = []key[*File]{
	{"title", formText, "What the project is called.", func(d *decoder, f *File, e *toml.Entry) {
		f.Title = d.text(e).Value
	}},
	{"default", formCalls, "What a bare `tugline` runs; without it, a bare `tugline` lists the tasks.", func(d *decoder, f *File, e *toml.Entry) {
		f.Default = d.calls(e)
	}},
	{"jobs", formCount, "How many tasks may run at once; the number of processors when left out.", func(d *decoder, f *File, e *toml.Entry) {
		f.Jobs = d.count(e)
	}},
	{"shell", formShell, "What runs the scripts: `\"auto\"` (the default: the built-in shell for plain scripts, bash for the others), `\"builtin\"`, a program, or a program with its arguments.", func(d *decoder, f *File, e *toml.Entry) {
		f.shell = d.shell(e)
	}},
	{"after_failure", formAfter, "What a failure does to the other tasks: `\"drain\"` (the default) starts nothing new, `\"abort\"` ends what runs, too, `\"continue\"` runs all that does not need the failed one.", func(d *decoder, f *File, e *toml.Entry) {
		f.After = d.choice(e, AfterFailure)
	}},
	{"echo", formBool, "Show each command as it starts; `true` when left out.", func(d *decoder, f *File, e *toml.Entry) {
		f.echo = d.yes(e)
	}},
	{"env", formEnv, "Variables for every task.", func(d *decoder, f *File, e *toml.Entry) {
		f.Env = d.env(e)
	}},
	{"ignore", formTexts, "Patterns of files that are never read: they do not count for any task, of this file and its parts.", func(d *decoder, f *File, e *toml.Entry) {
		f.Ignore = d.globs(e)
	}},
	{"output", formOutput, "How the output of tasks is shown: `\"auto\"` (the default), `\"lines\"`, `\"blocks\"` or `\"direct\"`.", func(d *decoder, f *File, e *toml.Entry) {
		f.Output = d.choice(e, Outputs)
	}},
	{"keep_runs", formCount, "How many runs are remembered; 50 when left out.", func(d *decoder, f *File, e *toml.Entry) {
		f.KeepRuns = d.count(e)
	}},
	{"lists", formLists, "Lists of values, by name, for `each`: the values themselves, or a table.", func(d *decoder, f *File, e *toml.Entry) {
		f.Lists = d.lists(e)
	}},
	{"store", formStore, "The store of kept outputs: `limit`, such as `\"8GiB\"`, is how large it may become.", func(d *decoder, f *File, e *toml.Entry) {
		f.StoreLimit = d.store(e)
	}},
	{"env_file", formEnvFiles, "One env file, such as `.env`, or a list of them, weaker than the caller's environment; a later one is stronger. `{ file, must_exist }` is the long form.", func(d *decoder, f *File, e *toml.Entry) {
		f.EnvFiles = d.envFiles(e)
	}},
	{"parts", formParts, "Other project files, by name: a folder or a `.toml` file, or `{ path, optional, env }`. Their tasks get the name as a prefix, `docs/lint`, and run in their own folder.", func(d *decoder, f *File, e *toml.Entry) {
		f.Parts = d.parts(e)
	}},
	{"task", formTasks, "The tasks, by name.", (*decoder).tasks},
}

// taskKeys are the keys of a task.
var taskKeys = []key[*Task]{
	{"about", formText, "What it does: the first line shows in lists, all of it in help.", func(d *decoder, t *Task, e *toml.Entry) {
		t.About = d.text(e).Value
	}},
	{"aliases", formTexts, "Other names of the task.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Aliases = d.aliases(e)
	}},
	{"unlisted", formBool, "Leave it out of lists; it can still be called.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Unlisted = d.yes(e)
	}},
	{"run", formTexts, "One shell script, or a list of them, run one after the other; it stops at the first failure.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Run = d.scripts(e)
	}},
	{"os", formSystems, "`os.linux.run`, `os.darwin.run`, `os.windows.run`, `os.unix.run` (all but Windows): the scripts on that system, in place of `run`.", func(d *decoder, t *Task, e *toml.Entry) {
		t.runOn = d.systems(e)
	}},
	{"stays", formBool, "It is a service: `run` is a program that keeps running. What needs it starts once it is ready.", func(d *decoder, t *Task, e *toml.Entry) {
		t.stays = d.yes(e)
		t.service()
	}},
	{"ready", formReady, "When a service is ready: `port`, `http`, `log`, `run`, and a `timeout`.", func(d *decoder, t *Task, e *toml.Entry) {
		if d.is(e.Key, &e.Value, toml.KindTable) {
			decodeTable(d, e.Value.Table, readyKeys, &t.service().Ready, "key of ready")
		}
	}},
	{"restart", formRestart, "Whether a service is started again: `\"never\"` (the default), or `\"on-failure\"`. In a watch, changes restart it too.", func(d *decoder, t *Task, e *toml.Entry) {
		t.service().Restart = d.choice(e, Restarts) == "on-failure"
	}},
	{"grace", formText, "How long a service has to end after the polite signal, such as `\"10s\"`; 5 seconds when left out.", func(d *decoder, t *Task, e *toml.Entry) {
		t.service().Grace = d.duration(e)
	}},
	{"serve", formServe, "A built-in page server, in place of `run`: `roots`, `port`, `host`, `refresh`, `not_found`.", func(d *decoder, t *Task, e *toml.Entry) {
		t.service().Serve = d.serve(e)
	}},
	{"shell", formShell, "What runs the scripts of this task.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Shell = d.shell(e)
	}},
	{"folder", formText, "Where it runs, relative to the folder of the file (the default).", func(d *decoder, t *Task, e *toml.Entry) {
		t.Folder = d.template(e)
	}},
	{"env", formEnv, "Variables for this task alone.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Env = d.env(e)
	}},
	{"args", formArgs, "Arguments, by name: options on the command line, variables in the commands.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Args = append(d.args(e), t.Args...)
	}},
	{"needs", formCalls, "Calls that must end well first; independent ones run at the same time.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Needs = d.calls(e)
	}},
	{"calls", formOrdered, "Calls that are made one after the other; those of an inner list are made at the same time.", ordered(DirectCalls)},
	{"then", formOrdered, "Calls made after this task ended well.", ordered(Then)},
	{"if_failed", formOrdered, "Calls made after it failed for good; they see `TUGLINE_FAILED_TASK`, `TUGLINE_EXIT_CODE`, `TUGLINE_FAILED_LOG` and `TUGLINE_FAILED_CALLS`.", ordered(IfFailed)},
	{"finally", formOrdered, "Calls made after it ended, however it ended, once it had started.", ordered(Finally)},
	{"at_end", formOrdered, "Calls made last of all, however it ended: reports. They undo nothing, nothing waits for them, and `resume` takes no notice of them.", ordered(AtEnd)},
	{"each", formEach, "One instance per value: by name of the option and variable, a name of `[lists]` or such a list in place. Several names give all combinations.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Args = append(t.Args, d.each(e)...)
	}},
	{"at_once", formCount, "How many instances may run at the same time.", func(d *decoder, t *Task, e *toml.Entry) { t.AtOnce = d.count(e) }},
	{"after_failure", formAfter, "What a failure among its calls or instances does to the others of them, as at the top.", func(d *decoder, t *Task, e *toml.Entry) {
		t.After = d.choice(e, AfterFailure)
	}},
	{"lock", formTexts, "Names of locks: tasks that share one never overlap, in this or any other Tugline on the project.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Locks = d.locks(e)
	}},
	{"ask", formText, "A question to answer before anything of the run starts; `--yes` answers it.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Ask = d.template(e)
	}},
	{"terminal", formBool, "It owns the terminal: it runs alone, with keyboard and screen.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Terminal = d.yes(e)
	}},
	{"reads", formPaths, "Patterns of the files that go in: a list, or a table that names them. A named plain path is a variable, too.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Reads = d.paths(e)
	}},
	{"writes", formPaths, "Patterns of the files that come out, in the same form. Each must match something after a good run. The folders in which they lie are made before it starts; a pattern that ends with `/` is a folder, and is made, too.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Writes = d.paths(e)
	}},
	{"reads_env", formTexts, "Names of the variables that its programs read. With it, only these count as inputs, those that its texts mention and those that it declares itself; without, all that the project declares. An empty list: none.", func(d *decoder, t *Task, e *toml.Entry) {
		t.ReadsEnv, t.OnlyEnv = d.readsEnv(e), true
	}},
	{"when", formWhen, "Run it only if all of this holds: `os`, `arch`, `env`, `files`, `run`; a bare text is `run`. Otherwise it is skipped, and what needs it goes on.", func(d *decoder, t *Task, e *toml.Entry) {
		t.When = d.when(e)
	}},
	{"require", formRequire, "Tools, files and checks that must be there before anything of the run starts: a list of tables.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Require = d.require(e)
	}},
	{"retry", formRetry, "Try again when it failed: `times` is how many further attempts there are, `wait` the time before the first of them, such as `\"2s\"`, `factor` by how much each wait is longer than the one before, `on` the exit codes after which it is tried again.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Retry = d.retry(e)
	}},
	{"timeout", formText, "How long one attempt may take, such as `\"5m\"`; then it is ended and has failed.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Timeout = d.duration(e)
	}},
	{"hold_until", formHold, "What it waits for before it starts, if it is going to run: `port`, `http`, `file` or `run`, `every`, and a `timeout`. It takes no place among the jobs meanwhile.", func(d *decoder, t *Task, e *toml.Entry) {
		t.HoldUntil = d.hold(e)
	}},
	{"always", formBool, "Run even if nothing changed.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Always = d.yes(e)
	}},
	{"on_request", formBool, "Never take it into a plan only because it writes what another task reads.", func(d *decoder, t *Task, e *toml.Entry) {
		t.OnRequest = d.yes(e)
	}},
	{"clear_writes", formBool, "Before it runs, delete the outputs that its last good run left, unless they were edited since: what it no longer makes is gone then.", func(d *decoder, t *Task, e *toml.Entry) {
		t.ClearWrites = d.yes(e)
	}},
	{"depfile", formText, "A file in which its program lists what it read: rules as compilers write them for make, or a path a line, counted from the folder where it runs. After a good run these count as `reads`.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Depfile = d.template(e)
	}},
	{"store", formBool, "Keep copies of the outputs, to restore them later; `true` when left out.", func(d *decoder, t *Task, e *toml.Entry) {
		t.NoStore = d.is(e.Key, &e.Value, toml.KindBool) && !e.Value.Bool()
	}},
	{"watch_also", formTexts, "Patterns of files beside `reads`: when one of them changes in a watch, the task runs in that round, whatever its fingerprint says.", func(d *decoder, t *Task, e *toml.Entry) {
		t.WatchAlso = d.globs(e)
	}},
	{"echo", formBool, "Show each command of this task as it starts.", func(d *decoder, t *Task, e *toml.Entry) {
		t.Echo = d.yes(e)
	}},
}

// partKeys are the keys of a part in its long form.
var partKeys = []key[*Part]{
	{"path", formText, "The folder or the `.toml` file, relative to the folder of the file that takes it in.", func(d *decoder, p *Part, e *toml.Entry) { p.Path = d.text(e) }},
	{"optional", formBool, "It need not be there; calls of its tasks are then skipped.", func(d *decoder, p *Part, e *toml.Entry) { p.Optional = d.yes(e) }},
	{"env", formEnv, "Variables for the part, stronger than its own.", func(d *decoder, p *Part, e *toml.Entry) { p.Env = d.env(e) }},
}

// retryKeys are the keys of retry.
var retryKeys = []key[*Retry]{
	{"times", formCount, "How many further attempts there are.", func(d *decoder, r *Retry, e *toml.Entry) { r.Times = d.count(e) }},
	{"wait", formText, "The time before the first of them, such as `\"2s\"`; none when left out.", func(d *decoder, r *Retry, e *toml.Entry) { r.Wait = d.duration(e) }},
	{"on", formCodes, "The exit codes after which it is tried again, such as `[75]`; other failures, and time-outs, count at once. Every failure when left out.", func(d *decoder, r *Retry, e *toml.Entry) {
		r.On = d.codes(e)
	}},
	{"factor", formNumber, "By how much each wait is longer than the one before; 1 when left out.", func(d *decoder, r *Retry, e *toml.Entry) {
		if f := d.number(e); f != nil {
			r.Factor = *f
			if r.Factor < 1 {
				d.report(d.at(e.Value.At), "", "%q must be at least 1", e.Key)
			}
		}
	}},
}

// systemKeys are the keys of os.<system>.
var systemKeys = []key[*[]Text]{
	{"run", formTexts, "The scripts on this system.", func(d *decoder, run *[]Text, e *toml.Entry) {
		*run = d.scripts(e)
	}},
}

// varKeys are the keys of a variable in its long form.
var varKeys = []key[*Var]{
	{"value", formText, "The value; what stands for it in the short form.", func(d *decoder, v *Var, e *toml.Entry) {
		v.Value = d.template(e)
	}},
	{"os", formSystemTexts, "The value by system: `os.linux`, `os.darwin`, `os.windows`, and `os.unix` for all but Windows; `value` elsewhere.", func(d *decoder, v *Var, e *toml.Entry) {
		v.systems = d.systemTexts(e)
	}},
	{"default", formText, "The value unless the caller or an env file sets the variable.", func(d *decoder, v *Var, e *toml.Entry) {
		v.Value, v.Default = d.template(e), true
	}},
	{"run", formText, "A script whose output is the value. It runs once, before the tasks, if one of them refers to the variable; it must change nothing.", func(d *decoder, v *Var, e *toml.Entry) {
		v.Run = d.text(e)
	}},
	{"file", formText, "A file whose text, trimmed, is the value.", func(d *decoder, v *Var, e *toml.Entry) { v.File = d.template(e) }},
	{"must_be_set", formBool, "It must be set by the caller or an env file, for the tasks that refer to it.", func(d *decoder, v *Var, e *toml.Entry) { v.MustBeSet = d.yes(e) }},
	{"secret", formBool, "The value is never shown: it reads `•••` in every output and record.", func(d *decoder, v *Var, e *toml.Entry) { v.Secret = d.yes(e) }},
	{"counts", formBool, "A change of it makes tasks run again; `true` when left out.", func(d *decoder, v *Var, e *toml.Entry) {
		v.NotCounted = d.is(e.Key, &e.Value, toml.KindBool) && !e.Value.Bool()
	}},
	{"about", formText, "What it is for.", func(d *decoder, v *Var, e *toml.Entry) { v.About = d.text(e).Value }},
	{"example", formText, "A value to show in a sample env file.", func(d *decoder, v *Var, e *toml.Entry) { v.Example = d.text(e).Value }},
}

// names returns the names of keys, in their order.
func names[T any](keys []key[T]) []string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = k.name
	}
	return out
}

// KeyDoc describes one key for the reference.
type KeyDoc struct {
	Name, Holds, About string
}

// TopKeys returns the keys at the top of the file, in the order of the reference.
func TopKeys() []KeyDoc { return docs(topKeys) }

// TaskKeys returns the keys of a task, in the order of the reference.
func TaskKeys() []KeyDoc { return docs(taskKeys) }

// ArgKeys returns the keys of an argument, in the order of the reference.
func ArgKeys() []KeyDoc { return docs(argKeys) }

// VarKeys returns the keys of a variable, in the order of the reference.
func VarKeys() []KeyDoc { return docs(varKeys) }

// PartKeys returns the keys of a part, in the order of the reference.
func PartKeys() []KeyDoc { return docs(partKeys) }

// ListKeys returns the keys of a list, in the order of the reference.
func ListKeys() []KeyDoc { return docs(listKeys) }

// WhenKeys returns the keys of when, in the order of the reference.
func WhenKeys() []KeyDoc { return docs(whenKeys) }

// RequireKeys returns the keys of an entry of require, in the order of the reference.
func RequireKeys() []KeyDoc { return docs(requireKeys) }

// ReadyKeys returns the keys of ready, in the order of the reference.
func ReadyKeys() []KeyDoc { return docs(readyKeys) }

// HoldKeys returns the keys of hold_until, in the order of the reference.
func HoldKeys() []KeyDoc { return docs(holdKeys) }

// ServeKeys returns the keys of serve, in the order of the reference.
func ServeKeys() []KeyDoc { return docs(serveKeys) }

func docs[T any](keys []key[T]) []KeyDoc {
	out := make([]KeyDoc, len(keys))
	for i, k := range keys {
		out[i] = KeyDoc{k.name, k.form.String(), k.about}
	}
	return out
}
