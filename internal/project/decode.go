package project

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/alecthomas/units"

	"tugline/internal/parallel"
	"tugline/internal/toml"
)

// decoder makes a File of a TOML tree and gathers what is wrong on the way.
type decoder struct {
	file *File
	diagnostics
}

// diagnostics gathers what is wrong.
type diagnostics struct{ found Diagnostics }

func (d *diagnostics) report(span Span, hint, format string, args ...any) {
	d.found = append(d.found, Diagnostic{Span: span, Msg: fmt.Sprintf(format, args...), Hint: hint})
}

// at returns p as a place in the file.
func (d *decoder) at(p toml.Place) Span { return Span{d.file.Source, p.Offset, p.Size} }

func (d *decoder) decode(root *toml.Table) {
	// A task starts with the file's shell and echo, wherever they stand.
	slices.SortStableFunc(root.Entries, func(a, b *toml.Entry) int {
		switch {
		case a.Key != "task" && b.Key == "task":
			return -1
		case a.Key == "task" && b.Key != "task":
			return 1
		}
		return 0
	})
	decodeTable(d, root, topKeys, d.file, "key")
	d.register()
}

// decodeTable hands every entry of t to its key. what names the kind of key
// in a message.
func decodeTable[T any](d *decoder, t *toml.Table, keys []key[T], into T, what string) {
	for _, e := range t.Entries {
		at := slices.IndexFunc(keys, func(k key[T]) bool { return k.name == e.Key })
		if at < 0 {
			if now := renamed(e.Key, names(keys)); now != "" {
				d.report(d.at(e.At), "", "%q is called %q now", e.Key, now)
			} else {
				d.report(d.at(e.At), meant(e.Key, names(keys)), "unknown %s %q", what, e.Key)
			}
			continue
		}
		keys[at].set(d, into, e)
	}
}

// renamedKeys are keys of older versions, and what they are called now, by the
// table in which they stand.
var renamedKeys = map[string][]string{"env_files": {"env_file"}, "tracks": {"reads_env"}, "required": {"must_be_set", "must_exist"}}

// habits are words that people write out of habit, and the keys that they mean, by the
// table in which they stand.
var habits = map[string][]string{
	"cmd": {"run"}, "cmds": {"run"}, "command": {"run"}, "commands": {"run"}, "script": {"run"}, "scripts": {"run"}, "exec": {"run"}, "steps": {"calls", "run"},
	"deps": {"needs"}, "dependencies": {"needs"}, "depends": {"needs"}, "depends_on": {"needs"}, "prerequisites": {"needs"}, "before": {"needs"}, "pre": {"needs"},
	"after": {"then"}, "post": {"then"}, "inputs": {"reads"}, "input": {"reads"}, "sources": {"reads"}, "srcs": {"reads"}, "src": {"reads"}, "files": {"reads"},
	"outputs": {"writes"}, "output": {"writes"}, "outs": {"writes"}, "out": {"writes"}, "generates": {"writes"}, "produces": {"writes"}, "artifacts": {"writes"},
	"description": {"about"}, "desc": {"about"}, "summary": {"about"}, "help": {"about"}, "doc": {"about"}, "comment": {"about"},
	"dir": {"folder"}, "directory": {"folder"}, "cwd": {"folder"}, "workdir": {"folder"}, "working_dir": {"folder"}, "path": {"folder"},
	"environment": {"env"}, "variables": {"env"}, "vars": {"env"}, "arguments": {"args"}, "params": {"args"}, "parameters": {"args"}, "options": {"args"},
	"alias": {"aliases"}, "hidden": {"unlisted"}, "private": {"unlisted"}, "internal": {"unlisted"}, "silent": {"echo"}, "quiet": {"echo"},
	"if": {"when"}, "condition": {"when"}, "unless": {"when"}, "foreach": {"each"}, "for_each": {"each"}, "for": {"each"}, "matrix": {"each"}, "loop": {"each"},
	"confirm": {"ask"}, "prompt": {"ask"}, "interactive": {"terminal"}, "tty": {"terminal"}, "retries": {"retry"}, "attempts": {"retry"}, "cache": {"store"}, "force": {"always"},
	"watch": {"watch_also"}, "tasks": {"task"}, "targets": {"task"}, "include": {"parts"}, "includes": {"parts"}, "import": {"parts"}, "imports": {"parts"}, "dotenv": {"env_file"},
	"parallel": {"jobs"}, "concurrency": {"jobs"}, "name": {"title", "about"}, "optional": {"default"}, "values": {"choices"}, "enum": {"choices"}, "regex": {"pattern"}, "required": {"must_be_set"},
}

// meant returns a hint that names the key which an unknown one may stand for: what it
// means out of habit, or else what it may be a slip of.
func meant(key string, keys []string) string {
	for _, right := range habits[strings.ToLower(key)] {
		if slices.Contains(keys, right) {
			return Suggest([]string{right})
		}
	}
	return DidYouMean(key, keys)
}

// renamed returns what a key is called now that is none of keys; empty: it is no
// older name.
func renamed(key string, keys []string) string {
	for _, now := range renamedKeys[key] {
		if slices.Contains(keys, now) {
			return now
		}
	}
	return ""
}

// tasks reads all tasks of f, many of them on all processors.
func (d *decoder) tasks(f *File, e *toml.Entry) {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return
	}
	entries := e.Value.Table.Entries
	tasks := make([]*Task, len(entries))
	var mu sync.Mutex // protects d.found
	parallel.Do(len(entries), 512, func(from, to int) {
		share := &decoder{file: f}
		for i := from; i < to; i++ {
			tasks[i] = share.task(f, entries[i])
		}
		mu.Lock()
		defer mu.Unlock()
		d.found = append(d.found, share.found...)
	})
	f.Tasks = slices.DeleteFunc(tasks, func(t *Task) bool { return t == nil })
}

// task returns the task that e defines in f; nil if e is no table.
func (d *decoder) task(f *File, e *toml.Entry) *Task {
	t := &Task{Name: f.Prefix + e.Key, OwnName: e.Key, File: f, Span: d.at(e.At), Shell: f.shell, Echo: f.echo, When: &noWhen, Retry: &noRetry}
	if !validTaskName(e.Key) {
		d.report(d.at(e.At), nameRule, "the task name %q is not allowed", e.Key)
	}
	if !d.is("task", &e.Value, toml.KindTable) {
		return nil
	}
	decodeTable(d, e.Value.Table, taskKeys, t, "task key")
	d.checkVariables(t)
	d.checkCompose(t, e.Value.Table)
	return t
}

// validCallName reports whether name may be a task as a call names it, with
// parts before it.
func validCallName(name string) bool {
	if validTaskName(name) {
		return true
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(name, "/"), "/") {
		if !validTaskName(part) {
			return false
		}
	}
	return true
}

func validTaskName(name string) bool {
	for i, r := range name {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && (r != '-' || i == 0) {
			return false
		}
	}
	return name != ""
}

// is reports whether v is of the kind want, and reports it as wrong if not.
func (d *decoder) is(key string, v *toml.Value, want toml.Kind) bool {
	if v.Kind == want {
		return true
	}
	hint := ""
	if want == toml.KindText && v.Kind != toml.KindList && v.Kind != toml.KindTable {
		raw := d.at(v.At).bytes()
		hint = fmt.Sprintf("put it in quotes: %q", raw)
	}
	d.report(d.at(v.At), hint, "%q must be %s, not %s", key, want, v.Kind)
	return false
}

func (d *decoder) text(e *toml.Entry) Text {
	if !d.is(e.Key, &e.Value, toml.KindText) {
		return Text{}
	}
	return Text{e.Value.Text, d.at(e.Value.At)}
}

func (d *decoder) yes(e *toml.Entry) bool {
	return d.is(e.Key, &e.Value, toml.KindBool) && e.Value.Bool()
}

func (d *decoder) count(e *toml.Entry) int {
	if !d.is(e.Key, &e.Value, toml.KindInteger) {
		return 0
	}
	n, _ := e.Value.Whole()
	if n < 1 || n > 1<<20 {
		d.report(d.at(e.Value.At), "", "%q must be at least 1 and at most %d, not %d", e.Key, 1<<20, n)
		return 0
	}
	return int(n)
}

// texts reads a string, or a list of strings.
func (d *decoder) texts(e *toml.Entry) []Text {
	out := make([]Text, 0, e.Value.Length())
	d.eachText(e, func(t Text) { out = append(out, t) })
	return out
}

// eachText calls visit with a string, or with each of a list of strings.
func (d *decoder) eachText(e *toml.Entry, visit func(Text)) {
	switch e.Value.Kind {
	case toml.KindText:
		visit(Text{e.Value.Text, d.at(e.Value.At)})
	case toml.KindList:
		for i := range e.Value.List.Items {
			item := &e.Value.List.Items[i]
			if item.Kind != toml.KindText {
				d.report(d.at(item.At), "", "%q must hold strings, not %s", e.Key, item.Kind)
				continue
			}
			visit(Text{item.Text, d.at(item.At)})
		}
	default:
		d.report(d.at(e.Value.At), "", "%q must be a string or a list of strings, not %s", e.Key, e.Value.Kind)
	}
}

func (d *decoder) scripts(e *toml.Entry) []Text {
	scripts := d.texts(e)
	for _, s := range scripts {
		if strings.TrimSpace(s.Value) == "" {
			d.report(s.Span, "", "%q holds no command", e.Key)
		}
	}
	if len(scripts) == 0 && e.Value.Kind == toml.KindList && len(e.Value.List.Items) == 0 {
		d.report(d.at(e.Value.At), "", "%q holds no command", e.Key)
	}
	return scripts
}

// systemText returns the text for a system, as Go names it.
func systemText(texts map[string]Text, system string) (Text, bool) {
	if text, ok := texts[system]; ok {
		return text, true
	}
	text, ok := texts["unix"]
	return text, ok && system != "windows"
}

// systemTexts reads texts by system.
func (d *decoder) systemTexts(e *toml.Entry) map[string]Text {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	out := map[string]Text{}
	for _, se := range e.Value.Table.Entries {
		if !slices.Contains(systemNames, se.Key) {
			d.report(d.at(se.At), DidYouMean(se.Key, systemNames), "unknown system %q", se.Key)
			continue
		}
		out[se.Key] = d.template(se)
	}
	return out
}

// systemNames are the systems that os.<system> may name.
var systemNames = []string{"linux", "darwin", "windows", "unix"}

func (d *decoder) systems(e *toml.Entry) map[string][]Text {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	out := map[string][]Text{}
	for _, se := range e.Value.Table.Entries {
		if !slices.Contains(systemNames, se.Key) {
			d.report(d.at(se.At), DidYouMean(se.Key, systemNames), "unknown system %q", se.Key)
			continue
		}
		if d.is("os."+se.Key, &se.Value, toml.KindTable) {
			var run []Text
			decodeTable(d, se.Value.Table, systemKeys, &run, "key of a system")
			out[se.Key] = run
		}
	}
	return out
}

func (d *decoder) aliases(e *toml.Entry) []Name {
	var out []Name
	for _, t := range d.texts(e) {
		if !validTaskName(t.Value) {
			d.report(t.Span, nameRule, "the alias %q is not allowed", t.Value)
			continue
		}
		out = append(out, Name(t))
	}
	return out
}

func (d *decoder) shell(e *toml.Entry) Shell {
	texts := d.texts(e)
	s := Shell{Span: d.at(e.Value.At)}
	for _, t := range texts {
		s.Args = append(s.Args, t.Value)
	}
	switch {
	case len(s.Args) == 0 && e.Value.Kind == toml.KindList && len(e.Value.List.Items) == 0, len(s.Args) > 0 && s.Args[0] == "":
		d.report(d.at(e.Value.At), `such as "auto" or "bash"`, "%q names no program", e.Key)
	case len(s.Args) == 1 && s.Args[0] == "auto":
		s.Args = nil
	case len(s.Args) == 1 && s.Args[0] == "builtin":
		s.Args, s.Only = nil, true
	case e.Value.Kind == toml.KindText && strings.ContainsAny(s.Args[0], " \t"):
		d.report(d.at(e.Value.At), `give the program and its arguments as a list: ["python3", "-u"]`, "%q must be one program", e.Key)
	}
	return s
}

func (d *decoder) env(e *toml.Entry) []Var {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	out := make([]Var, 0, len(e.Value.Table.Entries))
	for _, ve := range e.Value.Table.Entries {
		switch {
		case !validVarName(ve.Key):
			d.report(d.at(ve.At), "names have letters, digits and _, and do not begin with a digit", "the variable name %q is not allowed", ve.Key)
			continue
		case strings.HasPrefix(ve.Key, "TUGLINE_"):
			d.report(d.at(ve.At), "", "%q is set by Tugline itself", ve.Key)
			continue
		}
		v := Var{Name: ve.Key, Span: d.at(ve.At), Details: &plain}
		if ve.Value.Kind == toml.KindTable {
			v.Details = &Details{}
			d.longVar(&v, ve)
		} else if !d.is(ve.Key, &ve.Value, toml.KindText) {
			continue
		} else {
			v.Value = d.template(ve)
		}
		out = append(out, v)
	}
	return out
}

// longVar reads a variable in its long form.
func (d *decoder) longVar(v *Var, e *toml.Entry) {
	t := e.Value.Table
	decodeTable(d, t, varKeys, v, "key of a variable")
	bySystem, isBySystem := systemText(v.systems, runtime.GOOS)
	var given *toml.Entry // what gives the value
	for _, e := range t.Entries {
		if !slices.Contains([]string{"value", "default", "run", "file"}, e.Key) {
			continue
		}
		if given != nil {
			d.report(d.at(e.At), "", "%q has a value already, by %q", v.Name, given.Key)
		}
		given = e
	}
	if os := t.Get("os"); os != nil {
		switch {
		case given != nil && given.Key != "value":
			d.report(d.at(os.At), `give it "value", which holds on the other systems`, "%q has a value already, by %q", v.Name, given.Key)
		case isBySystem:
			v.Value, given = bySystem, os
		case given == nil && !v.MustBeSet:
			d.report(d.at(os.At), `give it "value", which holds on the other systems`, "%q has no value on %s", v.Name, runtime.GOOS)
			given = os
		}
	}
	switch {
	case given == nil && !v.MustBeSet && len(d.file.skipped) == 0:
		d.report(d.at(e.At), `give it "value", "default", "run" or "file", or "must_be_set = true"`, "%q has no value", v.Name)
	case given != nil && v.MustBeSet:
		d.report(d.at(t.Get("must_be_set").At), "", "%q has a value, by %q, so it need not be set from outside", v.Name, given.Key)
	}
	for _, key := range []string{"run", "file"} {
		if e := t.Get(key); e != nil && e.Value.Kind == toml.KindText && strings.TrimSpace(e.Value.Text) == "" {
			d.report(d.at(e.Value.At), "", "%q of %q is empty", key, v.Name)
		}
	}
}

func (d *decoder) envFiles(e *toml.Entry) []EnvFile {
	items := []toml.Value{e.Value}
	if e.Value.Kind == toml.KindList {
		items = e.Value.List.Items
	}
	var out []EnvFile
	for _, item := range items {
		f := EnvFile{Path: Text{item.Text, d.at(item.At)}}
		switch {
		case item.Kind == toml.KindTable:
			decodeTable(d, item.Table, envFileKeys, &f, "key of an env file")
		case item.Kind != toml.KindText:
			d.report(d.at(item.At), "", "%q must hold strings or tables, not %s", e.Key, item.Kind)
			continue
		}
		if f.Path.Value == "" {
			d.report(d.at(item.At), "", "%q names no file", e.Key)
		}
		out = append(out, f)
	}
	return out
}

// choice reads a text that must be one of some.
func (d *decoder) choice(e *toml.Entry, allowed []string) string {
	t := d.text(e)
	if t.Value != "" && !slices.Contains(allowed, t.Value) {
		d.report(t.Span, DidYouMean(t.Value, allowed), "%q must be one of %s, not %q", e.Key, strings.Join(allowed, ", "), t.Value)
	}
	return t.Value
}

// duration reads a span of time, as Go writes it.
func (d *decoder) duration(e *toml.Entry) time.Duration {
	t := d.text(e)
	if t.Span.IsZero() {
		return 0
	}
	span, err := time.ParseDuration(t.Value)
	if err != nil || span <= 0 {
		d.report(t.Span, `such as "500ms", "2s" or "1h30m"`, "%q is no span of time: %q", e.Key, t.Value)
	}
	return span
}

func (d *decoder) retry(e *toml.Entry) *Retry {
	r := &Retry{Factor: 1}
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return r
	}
	decodeTable(d, e.Value.Table, retryKeys, r, "key of retry")
	if e.Value.Table.Get("times") == nil && len(d.file.skipped) == 0 {
		d.report(d.at(e.At), "such as { times = 3 }", "%q does not say how many times", e.Key)
	}
	return r
}

// codes reads a list of exit codes.
func (d *decoder) codes(e *toml.Entry) []int {
	if !d.is(e.Key, &e.Value, toml.KindList) {
		return nil
	}
	var out []int
	for i := range e.Value.List.Items {
		item := &e.Value.List.Items[i]
		n, whole := item.Whole()
		if item.Kind != toml.KindInteger || !whole || n < 1 || n > 255 {
			d.report(d.at(item.At), "such as [75]", "%q holds exit codes from 1 to 255", e.Key)
			continue
		}
		out = append(out, int(n))
	}
	if len(e.Value.List.Items) == 0 {
		d.report(d.at(e.Value.At), "such as [75]", "%q holds no exit code", e.Key)
	}
	return out
}

// locks reads names of locks.
func (d *decoder) locks(e *toml.Entry) []Name {
	var out []Name
	for _, t := range d.texts(e) {
		if !validTaskName(t.Value) {
			d.report(t.Span, nameRule, "the name %q of a lock is not allowed", t.Value)
			continue
		}
		out = append(out, Name(t))
	}
	return out
}

// readsEnv reads names of variables.
func (d *decoder) readsEnv(e *toml.Entry) []Name {
	var out []Name
	for _, t := range d.texts(e) {
		if !validVarName(t.Value) {
			d.report(t.Span, "", "%q is no name of a variable", t.Value)
			continue
		}
		out = append(out, Name(t))
	}
	return out
}

// store reads the settings of the store, of which there is one: its limit.
func (d *decoder) store(e *toml.Entry) int64 {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return 0
	}
	var limit int64
	for _, se := range e.Value.Table.Entries {
		if se.Key != "limit" {
			d.report(d.at(se.At), DidYouMean(se.Key, []string{"limit"}), "unknown key of the store %q", se.Key)
			continue
		}
		if !d.is(se.Key, &se.Value, toml.KindText) {
			continue
		}
		bytes, err := units.ParseStrictBytes(se.Value.Text)
		if err != nil || bytes <= 0 {
			d.report(d.at(se.Value.At), `such as "8GiB"`, "%q is no size", se.Value.Text)
			continue
		}
		limit = bytes
	}
	return limit
}

// parts reads the files that this one takes in. They are opened later.
func (d *decoder) parts(e *toml.Entry) []*Part {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	var out []*Part
	for _, pe := range e.Value.Table.Entries {
		p := &Part{Name: pe.Key, Span: d.at(pe.At)}
		if !validTaskName(pe.Key) {
			d.report(d.at(pe.At), nameRule, "the part name %q is not allowed", pe.Key)
			continue
		}
		switch {
		case pe.Value.Kind == toml.KindTable:
			decodeTable(d, pe.Value.Table, partKeys, p, "key of a part")
		case d.is(pe.Key, &pe.Value, toml.KindText):
			p.Path = Text{pe.Value.Text, d.at(pe.Value.At)}
		default:
			continue
		}
		if p.Path.Value == "" && len(d.file.skipped) == 0 {
			d.report(d.at(pe.At), `such as docs = "docs"`, "the part %q names no folder and no file", pe.Key)
			continue
		}
		out = append(out, p)
	}
	return out
}

// nameRule tells how tasks and parts may be called.
const nameRule = "names have letters, digits, - and _, and do not begin with -"

// envFileKeys are the keys of an env file in its long form.
var envFileKeys = []key[*EnvFile]{
	{"file", formText, "The path, relative to the folder of the project file.", func(d *decoder, f *EnvFile, e *toml.Entry) { f.Path = d.text(e) }},
	{"must_exist", formBool, "It must be there.", func(d *decoder, f *EnvFile, e *toml.Entry) { f.MustExist = d.yes(e) }},
}

// ValidVariable reports whether a variable may be called name.
func ValidVariable(name string) bool {
	return validVarName(name) && !strings.HasPrefix(name, "TUGLINE_")
}

func validVarName(name string) bool {
	for i, r := range []byte(name) {
		letter := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || r < '0' || r > '9') {
			return false
		}
	}
	return name != ""
}

// template reads a string in which variables expand.
func (d *decoder) template(e *toml.Entry) Text {
	t := d.text(e)
	if err := t.checkTemplate(); err != nil {
		d.report(t.Span, `write \$ for a plain dollar`, "%s", err)
	}
	return t
}

func (d *decoder) calls(e *toml.Entry) []Call {
	out := make([]Call, 0, e.Value.Length())
	d.eachText(e, func(t Text) {
		if c, ok := d.parseCall(e.Key, t); ok {
			out = append(out, c)
		}
	})
	return out
}
