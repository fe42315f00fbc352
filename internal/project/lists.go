package project

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"tugline/internal/toml"
)

// List tells where values come from: one of List, Files, Lines and Run.
type List struct {
	Name  string // in [lists], or of the each in which it stands
	Span  Span   // of the name, or of the whole
	File  *File  // in which it stands: paths count from its folder
	List  []Text // the values, unexpanded
	Files []Glob // unexpanded: a value for each file
	As    string // what of a file's path is the value: one of ways; empty: path
	Lines Text   // unexpanded: a file with a value on each line; empty: none
	Run   Text   // a script that prints a value on each line; empty: none
}

// ways are what of a file's path may be a value.
var ways = []string{"path", "name", "stem", "below"}

// MayHoldSlash reports whether a value of the list may hold a slash.
func (l *List) MayHoldSlash() bool {
	if len(l.Files) > 0 {
		return l.As != "name" && l.As != "stem"
	}
	return len(l.List) == 0 || slices.ContainsFunc(l.List, func(value Text) bool { return strings.ContainsAny(value.Value, "/$") })
}

// Value returns what of a file's path is the value. base is the fixed part of
// the pattern that matched it; both have slashes and count from one folder.
func (l *List) Value(file, base string) string {
	stem := func(p string) string { return strings.TrimSuffix(p, path.Ext(p)) }
	switch l.As {
	case "name":
		return path.Base(file)
	case "stem":
		return stem(path.Base(file))
	case "below":
		return stem(strings.TrimPrefix(strings.TrimPrefix(file, base), "/"))
	}
	return file
}

// Lines returns the values that stand in a text, one a line: blank ones and,
// if comments is set, those that begin with # are left out.
func Lines(text string, comments bool) []string {
	var values []string
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" || comments && strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		values = append(values, line)
	}
	return values
}

// listKeys are the keys of a list.
var listKeys = []key[*List]{
	{"list", formTexts, "The values.", func(d *decoder, l *List, e *toml.Entry) { l.List = d.templates(e) }},
	{"files", formTexts, "Patterns, as in `reads`: a value for each file.", func(d *decoder, l *List, e *toml.Entry) { l.Files = d.globs(e) }},
	{"as", formText, "What of a file's path is the value: `path` (the default), `name`, `stem` (the name without its ending) or `below` (the path under the fixed part of the pattern, without its ending).", func(d *decoder, l *List, e *toml.Entry) {
		l.As = d.choice(e, ways)
	}},
	{"lines", formText, "A file with a value on each line; blank lines and those that begin with `#` are left out.", func(d *decoder, l *List, e *toml.Entry) { l.Lines = d.template(e) }},
	{"run", formText, "A script that prints a value on each line. It runs while the run is planned, and must change nothing.", func(d *decoder, l *List, e *toml.Entry) { l.Run = d.text(e) }},
}

// lists reads the lists of a file.
func (d *decoder) lists(e *toml.Entry) []*List {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	var out []*List
	for _, le := range e.Value.Table.Entries {
		l := d.list(le)
		l.Name = le.Key
		if !validTaskName(le.Key) {
			d.report(d.at(le.At), nameRule, "the name %q of a list is not allowed", le.Key)
		}
		out = append(out, l)
	}
	return out
}

// list reads one list: a table, or the values themselves.
func (d *decoder) list(e *toml.Entry) *List {
	l := &List{Span: d.at(e.At), File: d.file}
	if e.Value.Kind == toml.KindList {
		l.List = d.templates(e)
		return l
	}
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return l
	}
	keys := e.Value.Table
	decodeTable(d, keys, listKeys, l, "key of a list")
	if len(d.file.skipped) > 0 {
		return l
	}
	var given []string
	for _, key := range []string{"list", "files", "lines", "run"} {
		if keys.Get(key) != nil {
			given = append(given, key)
		}
	}
	switch {
	case len(given) == 0:
		d.report(d.at(e.At), `give it "list", "files", "lines" or "run"`, "the list %q has no values", e.Key)
	case len(given) > 1:
		d.report(d.at(keys.Get(given[1]).At), "", "%q has values already, by %q", e.Key, given[0])
	case keys.Get("as") != nil && given[0] != "files":
		d.report(d.at(keys.Get("as").At), "", `"as" goes with "files"`)
	}
	return l
}

func (d *decoder) templates(e *toml.Entry) []Text {
	texts := d.texts(e)
	for _, t := range texts {
		if err := t.checkTemplate(); err != nil {
			d.report(t.Span, `write \$ for a plain dollar`, "%s", err)
		}
	}
	return texts
}

// each reads the values of which a task has instances, as arguments of it.
func (d *decoder) each(e *toml.Entry) []*Arg {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	var out []*Arg
	for _, ee := range e.Value.Table.Entries {
		a := &Arg{Name: ee.Key, Span: d.at(ee.At), Type: ArgText, About: "only the instance with this value"}
		d.checkArgName(a, ee)
		if ee.Value.Kind == toml.KindText {
			a.Each = &List{Name: ee.Value.Text, Span: d.at(ee.Value.At)}
		} else {
			a.Each = d.list(ee)
			a.Each.Name = ee.Key
		}
		out = append(out, a)
	}
	return out
}

// Looped returns the arguments of t that it has instances of.
func (t *Task) Looped() []*Arg {
	var out []*Arg
	for _, a := range t.Args {
		if a.Each != nil {
			out = append(out, a)
		}
	}
	return out
}

// lists finds the lists that tasks name: in their own file, else in those
// around it.
func (c *checker) lists() {
	for _, t := range c.project.Tasks {
		for _, a := range t.Looped() {
			if a.Each.File != nil {
				continue
			}
			name := a.Each.Name
			var known []string
			for f := t.File; f != nil && a.Each.File == nil; f = f.Parent {
				for _, l := range f.Lists {
					known = append(known, l.Name)
					if l.Name == name {
						a.Each = l
						break
					}
				}
				if len(f.skipped) > 0 {
					known = nil
					break
				}
			}
			if a.Each.File == nil && len(t.File.skipped) == 0 {
				slices.Sort(known)
				hint := DidYouMean(name, known)
				if hint == "" {
					hint = fmt.Sprintf("[lists] may hold %s, or give the values in place: { list = [%q] }", name, name)
				}
				c.report(a.Each.Span, hint, "task %q has an instance for each of the list %q, but there is no such list", t.Name, name)
			}
		}
	}
}
