package project

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/alecthomas/units"

	"tugline/internal/parallel"
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
func (d *decoder) at(p place) Span { return p.in(d.file.Source) }

func (d *decoder) decode(root *table) {
	// A task starts with the file's shell and echo, wherever they stand.
	slices.SortStableFunc(root.entries, func(a, b *entry) int {
		switch {
		case a.key != "task" && b.key == "task":
			return -1
		case a.key == "task" && b.key != "task":
			return 1
		}
		return 0
	})
	decodeTable(d, root, topKeys, d.file, "key")
	d.register()
}

// decodeTable hands every entry of t to its key. what names the kind of key
// in a message.
func decodeTable[T any](d *decoder, t *table, keys []key[T], into T, what string) {
	for _, e := range t.entries {
		at := slices.IndexFunc(keys, func(k key[T]) bool { return k.name == e.key })
		if at < 0 {
			if now := renamed(e.key, names(keys)); now != "" {
				d.report(d.at(e.at), "", "%q is called %q now", e.key, now)
			} else {
				d.report(d.at(e.at), DidYouMean(e.key, names(keys)), "unknown %s %q", what, e.key)
			}
			continue
		}
		keys[at].set(d, into, e)
	}
}

// renamedKeys are keys of older versions, and what they are called now, by the
// table in which they stand.
var renamedKeys = map[string][]string{"env_files": {"env_file"}, "required": {"must_be_set", "must_exist"}}

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
func (d *decoder) tasks(f *File, e *entry) {
	if !d.is(e.key, &e.val, kindTable) {
		return
	}
	entries := e.val.table.entries
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
func (d *decoder) task(f *File, e *entry) *Task {
	t := &Task{Name: f.Prefix + e.key, OwnName: e.key, File: f, Span: d.at(e.at), Shell: f.shell, Echo: f.echo, When: &noWhen, Retry: &noRetry}
	if !validTaskName(e.key) {
		d.report(d.at(e.at), nameRule, "the task name %q is not allowed", e.key)
	}
	if !d.is("task", &e.val, kindTable) {
		return nil
	}
	decodeTable(d, e.val.table, taskKeys, t, "task key")
	d.checkVariables(t)
	d.checkCompose(t, e.val.table)
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
func (d *decoder) is(key string, v *value, want kind) bool {
	if v.kind == want {
		return true
	}
	hint := ""
	if want == kindText && v.kind != kindList && v.kind != kindTable {
		raw := d.at(v.at).bytes()
		hint = fmt.Sprintf("put it in quotes: %q", raw)
	}
	d.report(d.at(v.at), hint, "%q must be %s, not %s", key, want, v.kind)
	return false
}

func (d *decoder) text(e *entry) Text {
	if !d.is(e.key, &e.val, kindText) {
		return Text{}
	}
	return Text{e.val.text, d.at(e.val.at)}
}

func (d *decoder) yes(e *entry) bool {
	return d.is(e.key, &e.val, kindBool) && e.val.yes()
}

func (d *decoder) count(e *entry) int {
	if !d.is(e.key, &e.val, kindInteger) {
		return 0
	}
	n, _ := e.val.whole()
	if n < 1 || n > 1<<20 {
		d.report(d.at(e.val.at), "", "%q must be at least 1 and at most %d, not %d", e.key, 1<<20, n)
		return 0
	}
	return int(n)
}

// texts reads a string, or a list of strings.
func (d *decoder) texts(e *entry) []Text {
	out := make([]Text, 0, e.val.length())
	d.eachText(e, func(t Text) { out = append(out, t) })
	return out
}

// eachText calls visit with a string, or with each of a list of strings.
func (d *decoder) eachText(e *entry, visit func(Text)) {
	switch e.val.kind {
	case kindText:
		visit(Text{e.val.text, d.at(e.val.at)})
	case kindList:
		for i := range e.val.list.items {
			item := &e.val.list.items[i]
			if item.kind != kindText {
				d.report(d.at(item.at), "", "%q must hold strings, not %s", e.key, item.kind)
				continue
			}
			visit(Text{item.text, d.at(item.at)})
		}
	default:
		d.report(d.at(e.val.at), "", "%q must be a string or a list of strings, not %s", e.key, e.val.kind)
	}
}

func (d *decoder) scripts(e *entry) []Text {
	scripts := d.texts(e)
	for _, s := range scripts {
		if strings.TrimSpace(s.Value) == "" {
			d.report(s.Span, "", "%q holds no command", e.key)
		}
	}
	if len(scripts) == 0 && e.val.kind == kindList && len(e.val.list.items) == 0 {
		d.report(d.at(e.val.at), "", "%q holds no command", e.key)
	}
	return scripts
}

// systemNames are the systems that os.<system> may name.
var systemNames = []string{"linux", "darwin", "windows", "unix"}

func (d *decoder) systems(e *entry) map[string][]Text {
	if !d.is(e.key, &e.val, kindTable) {
		return nil
	}
	out := map[string][]Text{}
	for _, se := range e.val.table.entries {
		if !slices.Contains(systemNames, se.key) {
			d.report(d.at(se.at), DidYouMean(se.key, systemNames), "unknown system %q", se.key)
			continue
		}
		if d.is("os."+se.key, &se.val, kindTable) {
			var run []Text
			decodeTable(d, se.val.table, systemKeys, &run, "key of a system")
			out[se.key] = run
		}
	}
	return out
}

func (d *decoder) aliases(e *entry) []Name {
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

func (d *decoder) shell(e *entry) Shell {
	texts := d.texts(e)
	s := Shell{Span: d.at(e.val.at)}
	for _, t := range texts {
		s.Args = append(s.Args, t.Value)
	}
	switch {
	case len(s.Args) == 0 && e.val.kind == kindList && len(e.val.list.items) == 0, len(s.Args) > 0 && s.Args[0] == "":
		d.report(d.at(e.val.at), `such as "builtin" or "bash"`, "%q names no program", e.key)
	case len(s.Args) == 1 && s.Args[0] == "builtin":
		s.Args = nil
	case e.val.kind == kindText && strings.ContainsAny(s.Args[0], " \t"):
		d.report(d.at(e.val.at), `give the program and its arguments as a list: ["python3", "-u"]`, "%q must be one program", e.key)
	}
	return s
}

func (d *decoder) env(e *entry) []Var {
	if !d.is(e.key, &e.val, kindTable) {
		return nil
	}
	out := make([]Var, 0, len(e.val.table.entries))
	for _, ve := range e.val.table.entries {
		switch {
		case !validVarName(ve.key):
			d.report(d.at(ve.at), "names have letters, digits and _, and do not begin with a digit", "the variable name %q is not allowed", ve.key)
			continue
		case strings.HasPrefix(ve.key, "TUGLINE_"):
			d.report(d.at(ve.at), "", "%q is set by Tugline itself", ve.key)
			continue
		}
		v := Var{Name: ve.key, Span: d.at(ve.at), Details: &plain}
		if ve.val.kind == kindTable {
			v.Details = &Details{}
			d.longVar(&v, ve)
		} else if !d.is(ve.key, &ve.val, kindText) {
			continue
		} else {
			v.Value = d.template(ve)
		}
		out = append(out, v)
	}
	return out
}

// longVar reads a variable in its long form.
func (d *decoder) longVar(v *Var, e *entry) {
	t := e.val.table
	decodeTable(d, t, varKeys, v, "key of a variable")
	var given *entry // what gives the value
	for _, e := range t.entries {
		if !slices.Contains([]string{"value", "default", "run", "file"}, e.key) {
			continue
		}
		if given != nil {
			d.report(d.at(e.at), "", "%q has a value already, by %q", v.Name, given.key)
		}
		given = e
	}
	switch {
	case given == nil && !v.MustBeSet && len(d.file.skipped) == 0:
		d.report(d.at(e.at), `give it "value", "default", "run" or "file", or "must_be_set = true"`, "%q has no value", v.Name)
	case given != nil && v.MustBeSet:
		d.report(d.at(t.get("must_be_set").at), "", "%q has a value, by %q, so it need not be set from outside", v.Name, given.key)
	}
	for _, key := range []string{"run", "file"} {
		if e := t.get(key); e != nil && e.val.kind == kindText && strings.TrimSpace(e.val.text) == "" {
			d.report(d.at(e.val.at), "", "%q of %q is empty", key, v.Name)
		}
	}
}

func (d *decoder) envFiles(e *entry) []EnvFile {
	items := []value{e.val}
	if e.val.kind == kindList {
		items = e.val.list.items
	}
	var out []EnvFile
	for _, item := range items {
		f := EnvFile{Path: Text{item.text, d.at(item.at)}}
		switch {
		case item.kind == kindTable:
			decodeTable(d, item.table, envFileKeys, &f, "key of an env file")
		case item.kind != kindText:
			d.report(d.at(item.at), "", "%q must hold strings or tables, not %s", e.key, item.kind)
			continue
		}
		if f.Path.Value == "" {
			d.report(d.at(item.at), "", "%q names no file", e.key)
		}
		out = append(out, f)
	}
	return out
}

// choice reads a text that must be one of some.
func (d *decoder) choice(e *entry, allowed []string) string {
	t := d.text(e)
	if t.Value != "" && !slices.Contains(allowed, t.Value) {
		d.report(t.Span, DidYouMean(t.Value, allowed), "%q must be one of %s, not %q", e.key, strings.Join(allowed, ", "), t.Value)
	}
	return t.Value
}

// duration reads a span of time, as Go writes it.
func (d *decoder) duration(e *entry) time.Duration {
	t := d.text(e)
	if t.Span.IsZero() {
		return 0
	}
	span, err := time.ParseDuration(t.Value)
	if err != nil || span <= 0 {
		d.report(t.Span, `such as "500ms", "2s" or "1h30m"`, "%q is no span of time: %q", e.key, t.Value)
	}
	return span
}

func (d *decoder) retry(e *entry) *Retry {
	r := &Retry{Factor: 1}
	if !d.is(e.key, &e.val, kindTable) {
		return r
	}
	decodeTable(d, e.val.table, retryKeys, r, "key of retry")
	if e.val.table.get("times") == nil && len(d.file.skipped) == 0 {
		d.report(d.at(e.at), "such as { times = 3 }", "%q does not say how many times", e.key)
	}
	return r
}

// locks reads names of locks.
func (d *decoder) locks(e *entry) []Name {
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

// tracks reads names of variables.
func (d *decoder) tracks(e *entry) []Name {
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
func (d *decoder) store(e *entry) int64 {
	if !d.is(e.key, &e.val, kindTable) {
		return 0
	}
	var limit int64
	for _, se := range e.val.table.entries {
		if se.key != "limit" {
			d.report(d.at(se.at), DidYouMean(se.key, []string{"limit"}), "unknown key of the store %q", se.key)
			continue
		}
		if !d.is(se.key, &se.val, kindText) {
			continue
		}
		bytes, err := units.ParseStrictBytes(se.val.text)
		if err != nil || bytes <= 0 {
			d.report(d.at(se.val.at), `such as "8GiB"`, "%q is no size", se.val.text)
			continue
		}
		limit = bytes
	}
	return limit
}

// parts reads the files that this one takes in. They are opened later.
func (d *decoder) parts(e *entry) []*Part {
	if !d.is(e.key, &e.val, kindTable) {
		return nil
	}
	var out []*Part
	for _, pe := range e.val.table.entries {
		p := &Part{Name: pe.key, Span: d.at(pe.at)}
		if !validTaskName(pe.key) {
			d.report(d.at(pe.at), nameRule, "the part name %q is not allowed", pe.key)
			continue
		}
		switch {
		case pe.val.kind == kindTable:
			decodeTable(d, pe.val.table, partKeys, p, "key of a part")
		case d.is(pe.key, &pe.val, kindText):
			p.Path = Text{pe.val.text, d.at(pe.val.at)}
		default:
			continue
		}
		if p.Path.Value == "" && len(d.file.skipped) == 0 {
			d.report(d.at(pe.at), `such as docs = "docs"`, "the part %q names no folder and no file", pe.key)
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
	{"file", formText, "The path, relative to the folder of the project file.", func(d *decoder, f *EnvFile, e *entry) { f.Path = d.text(e) }},
	{"must_exist", formBool, "It must be there.", func(d *decoder, f *EnvFile, e *entry) { f.MustExist = d.yes(e) }},
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
func (d *decoder) template(e *entry) Text {
	t := d.text(e)
	if err := t.checkTemplate(); err != nil {
		d.report(t.Span, `write \$ for a plain dollar`, "%s", err)
	}
	return t
}

func (d *decoder) calls(e *entry) []Call {
	out := make([]Call, 0, e.val.length())
	d.eachText(e, func(t Text) {
		if c, ok := d.parseCall(e.key, t); ok {
			out = append(out, c)
		}
	})
	return out
}
