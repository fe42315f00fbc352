package project

import (
	"strings"

	"tugline/internal/glob"
	"tugline/internal/toml"
)

// Paths is one entry of what a task reads or writes: patterns, with a name or
// without.
type Paths struct {
	Name     string // empty: it has none
	Span     Span   // of the name, or of the whole
	Globs    []Glob
	Variable bool // Name is a variable that holds the path
}

// Glob is one pattern, unexpanded, relative to the folder of the file.
type Glob struct {
	Text Text
	Not  bool // it takes away from what the patterns before it match; Text begins with !
}

// Pattern returns the text of g without the leading !.
func (g Glob) Pattern() Text {
	t := g.Text
	if g.Not {
		t.Value = t.Value[1:]
	}
	return t
}

// paths reads patterns: a string, a list, or a table that names them.
func (d *decoder) paths(e *toml.Entry) []Paths {
	if e.Value.Kind != toml.KindTable {
		return []Paths{{Span: d.at(e.At), Globs: d.globs(e)}}
	}
	var out []Paths
	for _, ne := range e.Value.Table.Entries {
		p := Paths{Name: ne.Key, Span: d.at(ne.At), Globs: d.globs(ne)}
		if !validVarName(ne.Key) || strings.HasPrefix(ne.Key, "TUGLINE_") {
			d.report(d.at(ne.At), "names have letters, digits and _, and do not begin with a digit", "the name %q is not allowed here", ne.Key)
		}
		p.Variable = ne.Value.Kind == toml.KindText && len(p.Globs) == 1 && !p.Globs[0].Not && p.Globs[0].plain()
		out = append(out, p)
	}
	return out
}

func (d *decoder) globs(e *toml.Entry) []Glob {
	texts := d.texts(e)
	if len(texts) == 0 && e.Value.Kind == toml.KindList && len(e.Value.List.Items) == 0 {
		d.report(d.at(e.Value.At), "", "%q names no files", e.Key)
	}
	globs := make([]Glob, 0, len(texts))
	for _, t := range texts {
		g := Glob{Text: t, Not: strings.HasPrefix(t.Value, "!")}
		pattern := g.Pattern()
		if pattern.Value == "" {
			d.report(t.Span, "", "%q names no files", e.Key)
			continue
		}
		if err := pattern.checkTemplate(); err != nil {
			d.report(t.Span, `write \$ for a plain dollar`, "%s", err)
			continue
		}
		if err := glob.Check(g.literal()); err != nil {
			d.report(t.Span, "", "%v", err)
			continue
		}
		globs = append(globs, g)
	}
	return globs
}

// literal returns the pattern with a letter in place of every variable.
func (g Glob) literal() string {
	text, err := g.Pattern().Expand(func(string) (string, bool) { return "x", true })
	if err != nil {
		return ""
	}
	return text
}

// plain reports whether g is a path, whatever its variables hold.
func (g Glob) plain() bool {
	_, plain := glob.Base(g.literal())
	return plain
}
