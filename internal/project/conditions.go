package project

import (
	"fmt"
	"slices"
	"strings"

	"tugline/internal/toml"
)

// When tells under which conditions a task is run: all that are given must
// hold. The zero When always holds.
type When struct {
	OS    []string // systems, as Go names them, or unix for all but Windows
	Arch  []string // processors, as Go names them
	Env   []WhenVar
	Files []Glob // something must match
	Run   Text   // a script that must end well; empty: none
}

// WhenVar is a condition on a variable.
type WhenVar struct {
	Name  string
	Value string // it must have, unless Any is set
	Any   bool   // it must be set, or with No be empty
	No    bool
}

// whenKeys are the keys of when.
var whenKeys = []key[*When]{
	{"os", formTexts, "The systems, as Go names them: `linux`, `darwin`, `windows` and so on; `unix` is all but Windows.", func(d *decoder, w *When, e *toml.Entry) {
		w.OS = d.oneOf(e, systems)
	}},
	{"arch", formTexts, "The processors, as Go names them: `amd64`, `arm64` and so on.", func(d *decoder, w *When, e *toml.Entry) {
		for _, t := range d.texts(e) {
			w.Arch = append(w.Arch, t.Value)
		}
	}},
	{"env", formWhenEnv, "Variables with the text they must have, or `true` for set, `false` for empty.", func(d *decoder, w *When, e *toml.Entry) {
		w.Env = d.whenEnv(e)
	}},
	{"files", formTexts, "Patterns of which something must be there when the needs have ended.", func(d *decoder, w *When, e *toml.Entry) {
		w.Files = d.globs(e)
	}},
	{"run", formText, "A script that must end well when the needs have ended. It must change nothing.", func(d *decoder, w *When, e *toml.Entry) { w.Run = d.text(e) }},
}

// systems are the names of systems that a condition may have.
var systems = []string{"linux", "darwin", "windows", "unix", "freebsd", "openbsd", "netbsd", "dragonfly", "solaris", "illumos", "aix", "android", "plan9"}

// when reads a condition: a script, or a table.
func (d *decoder) when(e *toml.Entry) *When {
	w := &When{}
	switch {
	case e.Value.Kind == toml.KindText:
		w.Run = d.text(e)
	case d.is(e.Key, &e.Value, toml.KindTable):
		decodeTable(d, e.Value.Table, whenKeys, w, "key of when")
	}
	return w
}

// oneOf reads texts that must each be one of some.
func (d *decoder) oneOf(e *toml.Entry, allowed []string) []string {
	var out []string
	for _, t := range d.texts(e) {
		if !slices.Contains(allowed, t.Value) {
			d.report(t.Span, DidYouMean(t.Value, allowed), "unknown system %q", t.Value)
		}
		out = append(out, t.Value)
	}
	return out
}

func (d *decoder) whenEnv(e *toml.Entry) []WhenVar {
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	var out []WhenVar
	for _, ve := range e.Value.Table.Entries {
		v := WhenVar{Name: ve.Key}
		switch ve.Value.Kind {
		case toml.KindText:
			v.Value = ve.Value.Text
		case toml.KindBool:
			v.Any, v.No = true, !ve.Value.Bool()
		default:
			d.report(d.at(ve.Value.At), "", "%q must be a string, true or false, not %s", ve.Key, ve.Value.Kind)
		}
		out = append(out, v)
	}
	return out
}

// Fails returns which condition that can be asked while planning does not hold;
// empty if all do.
func (w *When) Fails(system, arch string, lookup func(name string) (string, bool)) string {
	onUnix := system != "windows" && slices.Contains(w.OS, "unix")
	switch {
	case len(w.OS) > 0 && !onUnix && !slices.Contains(w.OS, system):
		return fmt.Sprintf("only on %s, this is %s", strings.Join(w.OS, " and "), system)
	case len(w.Arch) > 0 && !slices.Contains(w.Arch, arch):
		return fmt.Sprintf("only on %s, this is %s", strings.Join(w.Arch, " and "), arch)
	}
	for _, v := range w.Env {
		value, _ := lookup(v.Name)
		switch {
		case v.Any && v.No && value != "":
			return fmt.Sprintf("only if %s is empty, it is %q", v.Name, value)
		case v.Any && !v.No && value == "":
			return fmt.Sprintf("only if %s is set", v.Name)
		case !v.Any && value != v.Value:
			return fmt.Sprintf("only if %s is %q, it is %q", v.Name, v.Value, value)
		}
	}
	return ""
}
