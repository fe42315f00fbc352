package shell

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/syntax"
)

// What a word may give.
type fields int

const (
	manyFields fields = iota // any number of fields
	oneField                 // one, whatever the values are
	oneText                  // one: nothing is split or matched where it stands
)

func (f *plainForm) word(w *syntax.Word, gives fields) {
	if len(w.Parts) == 1 && isAllArgs(w.Parts[0]) {
		if gives != manyFields {
			f.found(w, `"$@" in one word`)
		}
		return
	}
	if gives == manyFields && mayHoldEmptyField(w) {
		f.found(w, "a value with and without quotes in one word")
	}
	for i, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.Lit:
			f.literal(w, p, i == 0, gives)
		case *syntax.SglQuoted:
			if p.Dollar {
				f.found(p, "$'…'")
			}
		case *syntax.DblQuoted:
			if p.Dollar {
				f.found(p, `$"…"`)
			}
			f.quoted(p.Parts)
		case *syntax.ParamExp:
			f.parameter(p, false)
			if gives == oneField {
				f.found(p, "a value without quotes here")
			}
		case *syntax.CmdSubst:
			f.substitution(p)
			if gives == oneField {
				f.found(p, "output without quotes here")
			}
		default:
			f.found(p, "%s", partName(p))
		}
	}
}

// mayHoldEmptyField reports whether a word has a part without quotes that is split into
// fields, and one in quotes that may be empty: one of the fields is empty then.
func mayHoldEmptyField(w *syntax.Word) bool {
	isSplit, mayBeEmpty := false, false
	for _, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.ParamExp, *syntax.CmdSubst:
			isSplit = true
		case *syntax.SglQuoted:
			mayBeEmpty = mayBeEmpty || p.Value == ""
		case *syntax.DblQuoted:
			mayBeEmpty = mayBeEmpty || !slices.ContainsFunc(p.Parts, func(part syntax.WordPart) bool {
				_, isText := part.(*syntax.Lit)
				return isText
			})
		}
	}
	return isSplit && mayBeEmpty
}

func partName(part syntax.WordPart) string {
	switch part.(type) {
	case *syntax.ArithmExp:
		return "arithmetic"
	case *syntax.ProcSubst:
		return "<( ) or >( )"
	case *syntax.ExtGlob:
		return "an extended pattern"
	case *syntax.BraceExp:
		return "alternatives in { }"
	}
	return "a word of bash"
}

func isAllArgs(part syntax.WordPart) bool {
	quoted, ok := part.(*syntax.DblQuoted)
	if !ok || quoted.Dollar || len(quoted.Parts) != 1 {
		return false
	}
	p, ok := quoted.Parts[0].(*syntax.ParamExp)
	return ok && p.Short && p.Param.Value == "@"
}

// literal looks at a part without quotes.
func (f *plainForm) literal(w *syntax.Word, p *syntax.Lit, first bool, gives fields) {
	text := p.Value
	if whole, _ := literal(w); whole == "{}" || whole == "]" || whole == "[" {
		return
	}
	if strings.ContainsAny(text, "{}[]") {
		f.found(w, "{ } or [ ] without quotes")
	}
	if strings.ContainsAny(text, "*?") && gives == oneField {
		f.found(w, "a pattern here")
	}
	if strings.Contains(text, "\\\n") {
		f.found(w, "a word on two lines")
	}
	for i := range len(text) {
		if text[i] == '~' && (i == 0 && first || i > 0 && strings.IndexByte(":=", text[i-1]) >= 0) {
			f.found(w, "~")
		}
	}
}

// quoted looks at what stands between double quotes, or in a here-document.
func (f *plainForm) quoted(parts []syntax.WordPart) {
	for _, part := range parts {
		switch p := part.(type) {
		case *syntax.Lit:
			if strings.Contains(p.Value, "\\\n") {
				f.found(p, "a line that goes on behind \\")
			}
		case *syntax.ParamExp:
			f.parameter(p, true)
		case *syntax.CmdSubst:
			f.substitution(p)
		default:
			f.found(p, "%s", partName(p))
		}
	}
}

func (f *plainForm) substitution(p *syntax.CmdSubst) {
	f.substs = true
	piped, tried := f.piped, f.tried
	f.piped, f.tried = false, true // errexit is off in it
	defer func() { f.piped, f.tried = piped, tried }()
	switch {
	case p.Backquotes:
		f.found(p, "a command in `…`")
	case p.TempFile, p.ReplyVar:
		f.found(p, "${ …; }")
	case len(p.Stmts) == 0:
		f.found(p, "an empty $( )")
	}
	for _, s := range p.Stmts {
		if s.Cmd == nil {
			f.found(p, "$(<file)")
		}
	}
	f.statements(p.Stmts)
}

// plainDefault is a value in ${x:-value} that is the same with quotes around it or not.
var plainDefault = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_./:@%+,=-]*$`) })

// plainPattern is a pattern in ${x%pattern} with nothing but stars and letters.
var plainPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_./:@+,=*-]+$`) })

func (f *plainForm) parameter(p *syntax.ParamExp, quoted bool) {
	name := ""
	if p.Param != nil {
		name = p.Param.Value
	}
	switch {
	case p.Excl, p.Length, p.Width, p.IsSet, p.Index != nil, p.Slice != nil, p.Repl != nil, p.Names != 0, p.NestedParam != nil, p.Flags != nil, len(p.Modifiers) > 0:
		f.found(p, "${…} with more than a name")
		return
	case syntax.ValidName(name):
		if isSpecial(name) && !slices.Contains(readableNames, name) {
			f.found(p, "$%s", name)
		}
	case len(name) == 1 && strings.Contains("123456789#?", name):
		if name == "?" && f.asks == nil {
			f.asks = p
		}
		if p.Exp != nil {
			f.found(p, "${…} with more than a name")
		}
	default:
		f.found(p, "$%s", name)
	}
	if p.Exp == nil {
		return
	}
	text := ""
	if p.Exp.Word != nil {
		var fixed bool
		if text, fixed = literal(p.Exp.Word); !fixed {
			f.found(p, "${…} with more than letters in its second part")
			return
		}
	}
	switch p.Exp.Op {
	case syntax.AlternateUnset, syntax.AlternateUnsetOrNull, syntax.DefaultUnset, syntax.DefaultUnsetOrNull, syntax.ErrorUnset, syntax.ErrorUnsetOrNull:
		if !plainDefault().MatchString(text) {
			f.found(p, "${…} with more than letters in its second part")
		}
	case syntax.RemSmallPrefix, syntax.RemLargePrefix, syntax.RemSmallSuffix, syntax.RemLargeSuffix:
		if !quoted || !plainPattern().MatchString(text) {
			f.found(p, "${…} with such a pattern")
		}
	default:
		f.found(p, "${…%s…}", p.Exp.Op)
	}
}

// literal returns the text of a word that is one part without quotes and escapes.
func literal(w *syntax.Word) (text string, fixed bool) {
	if len(w.Parts) != 1 {
		return "", false
	}
	lit, ok := w.Parts[0].(*syntax.Lit)
	if !ok || strings.Contains(lit.Value, "\\") {
		return "", false
	}
	return lit.Value, true
}

// quotedLiteral returns the text of a word that holds nothing to expand.
func quotedLiteral(w *syntax.Word) (text string, fixed bool) {
	if text, fixed = literal(w); fixed {
		return text, true
	}
	if len(w.Parts) != 1 {
		return "", false
	}
	switch p := w.Parts[0].(type) {
	case *syntax.SglQuoted:
		return p.Value, !p.Dollar
	case *syntax.DblQuoted:
		if len(p.Parts) == 1 && !p.Dollar {
			if lit, ok := p.Parts[0].(*syntax.Lit); ok {
				return lit.Value, !strings.ContainsAny(lit.Value, "`$") && !strings.Contains(lit.Value, `\"`)
			}
		}
	}
	return "", false
}
