package project

import (
	"strings"

	"tugline/internal/glob"
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
func (d *decoder) paths(e *entry) []Paths {
	if e.val.kind != kindTable {
		return []Paths{{Span: d.at(e.at), Globs: d.globs(e)}}
	}
	var out []Paths
	for _, ne := range e.val.table.entries {
		p := Paths{Name: ne.key, Span: d.at(ne.at), Globs: d.globs(ne)}
		if !validVarName(ne.key) || strings.HasPrefix(ne.key, "TUGLINE_") {
			d.report(d.at(ne.at), "names have letters, digits and _, and do not begin with a digit", "the name %q is not allowed here", ne.key)
		}
		p.Variable = ne.val.kind == kindText && len(p.Globs) == 1 && !p.Globs[0].Not && p.Globs[0].plain()
		out = append(out, p)
	}
	return out
}

func (d *decoder) globs(e *entry) []Glob {
	texts := d.texts(e)
	if len(texts) == 0 && e.val.kind == kindList && len(e.val.list.items) == 0 {
		d.report(d.at(e.val.at), "", "%q names no files", e.key)
	}
	globs := make([]Glob, 0, len(texts))
	for _, t := range texts {
		g := Glob{Text: t, Not: strings.HasPrefix(t.Value, "!")}
		pattern := g.Pattern()
		if pattern.Value == "" {
			d.report(t.Span, "", "%q names no files", e.key)
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
