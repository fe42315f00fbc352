package shell

import (
	"errors"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// Program is a script of the built-in shell, parsed and found good. It may be
// run many times, also at the same time.
type Program struct {
	script string
	file   *syntax.File
	calls  map[int]simpleCommand // by offset
	params map[string][]Stretch  // where each variable is referred to, in order
	jobs   bool                  // it leaves jobs in the background
	plain  []string              // the words, if it is a single call that needs no shell
	where  Stretch               // of the first statement
}

// simpleCommand is a simple command of a script.
type simpleCommand struct {
	name   string // as written; empty where it is not known before it runs
	length int
}

// Problem is something in a script that the built-in shell cannot run.
type Problem struct {
	Offset, Length int    // in bytes of the script
	Msg            string // what is wrong
	Hint           string // how to mend it; may be empty
	Syntax         bool   // the script cannot be parsed
}

// useBash is the way out for all that only a complete shell can do.
const useBash = `use shell = "bash" for this task, or write it in plain shell`

// parsers are used again: one is larger than most scripts.
var parsers = sync.Pool{New: func() any { return syntax.NewParser(syntax.Variant(syntax.LangBash)) }}

// Parse parses script for the built-in shell. It returns a program, or all
// that stands in the way.
func Parse(script string) (*Program, []Problem) {
	p, _, problems := parse(script, true)
	return p, problems
}

// ParsePlain parses script. It returns a program for the built-in shell if the script is
// in plain form, else what in it is beyond that; or why it cannot be parsed.
func ParsePlain(script string) (*Program, *Beyond, []Problem) { return parse(script, false) }

func parse(script string, all bool) (*Program, *Beyond, []Problem) {
	parser := parsers.Get().(*syntax.Parser)
	defer parsers.Put(parser)
	file, err := parser.Parse(strings.NewReader(script), "")
	if err != nil {
		return nil, nil, []Problem{syntaxProblem(script, err)}
	}
	beyond := beyondPlain(script, file)
	switch {
	case beyond != nil && !all:
		return nil, beyond, nil
	case beyond != nil:
		if problems := check(script, file); len(problems) > 0 {
			return nil, beyond, problems
		}
	}
	p := &Program{script: script, file: file, calls: map[int]simpleCommand{}, params: map[string][]Stretch{}}
	p.noteCalls()
	p.where = p.span(file)
	if p.plain = plainWords(file); p.plain != nil {
		p.file, p.calls, p.params = nil, nil, nil // not needed any more
		return p, beyond, nil
	}
	if beyond != nil && !looksBack().MatchString(script) {
		errExit(file)
	}
	rewrite(file, true)
	if beyond != nil {
		guardNumbers(file)
	}
	return p, beyond, nil
}

func syntaxProblem(script string, err error) Problem {
	var pos syntax.Pos
	problem := Problem{Length: 1, Msg: err.Error(), Syntax: true}
	var bad syntax.ParseError
	var lang syntax.LangError
	switch {
	case errors.As(err, &bad):
		pos, problem.Msg = bad.Pos, bad.Text
	case errors.As(err, &lang):
		pos = lang.Pos
		_, problem.Msg, _ = strings.Cut(err.Error(), ": ")
		problem.Hint = useBash
	}
	if pos.IsValid() {
		problem.Offset = min(int(pos.Offset()), max(0, len(script)-1))
	}
	return problem
}

// span returns where a piece or statement stands, without what only ends it.
func (p *Program) span(node syntax.Node) Stretch {
	if file, ok := node.(*syntax.File); ok && len(file.Stmts) > 0 {
		node = file.Stmts[0] // a failure in one of the others is found by its call
	}
	start, end := int(node.Pos().Offset()), int(node.End().Offset())
	text := strings.TrimRight(p.script[start:min(end, len(p.script))], " \t\n;")
	return Stretch{start, len(text)}
}

// plainWords returns the words of a script that is one call of a program, all
// of them fixed; else nil.
func plainWords(file *syntax.File) []string {
	if len(file.Stmts) != 1 {
		return nil
	}
	stmt := file.Stmts[0]
	call, ok := stmt.Cmd.(*syntax.CallExpr)
	if !ok || stmt.Background || stmt.Negated || len(stmt.Redirs) > 0 || len(call.Assigns) > 0 || len(call.Args) == 0 {
		return nil
	}
	words := make([]string, len(call.Args))
	for i, arg := range call.Args {
		for _, part := range arg.Parts {
			text, fixed := fixedText(part)
			if !fixed {
				return nil
			}
			words[i] += text
		}
	}
	if words[0] == "" || interp.IsBuiltin(words[0]) {
		return nil
	}
	return words
}

// fixedText returns what a part of a word stands for, if no shell is needed to tell.
func fixedText(part syntax.WordPart) (string, bool) {
	switch p := part.(type) {
	case *syntax.Lit:
		return p.Value, !strings.ContainsAny(p.Value, "\\*?[]{}~$`!")
	case *syntax.SglQuoted:
		return p.Value, !p.Dollar
	case *syntax.DblQuoted:
		if len(p.Parts) != 1 || p.Dollar {
			return "", len(p.Parts) == 0 && !p.Dollar
		}
		lit, ok := p.Parts[0].(*syntax.Lit)
		if !ok {
			return "", false
		}
		return lit.Value, !strings.Contains(lit.Value, "\\")
	}
	return "", false
}

// pieces returns what is run one after the other: the statements, if each is to
// be told of as it starts, else the whole. The last piece is a file, at whose
// end EXIT traps run.
func (p *Program) pieces(told bool) []syntax.Node {
	stmts := p.file.Stmts
	if !told || len(stmts) < 2 {
		return []syntax.Node{p.file}
	}
	var pieces []syntax.Node
	for _, stmt := range stmts[:len(stmts)-1] {
		pieces = append(pieces, stmt)
	}
	return append(pieces, &syntax.File{Stmts: stmts[len(stmts)-1:]})
}

// noteCalls notes all simple commands and references to variables, so that a
// failure can be pinned to one.
func (p *Program) noteCalls() {
	syntax.Walk(p.file, func(node syntax.Node) bool {
		if param, ok := node.(*syntax.ParamExp); ok && param.Param != nil {
			start := int(param.Pos().Offset())
			p.params[param.Param.Value] = append(p.params[param.Param.Value], Stretch{start, int(param.End().Offset()) - start})
		}
		if stmt, ok := node.(*syntax.Stmt); ok {
			p.jobs = p.jobs || stmt.Background
			if call, ok := stmt.Cmd.(*syntax.CallExpr); ok && len(call.Args) > 0 {
				offset := int(call.Args[0].Pos().Offset())
				where := p.span(stmt)
				p.calls[offset] = simpleCommand{call.Args[0].Lit(), where.Offset + where.Length - offset}
			}
		}
		return true
	})
}

// reference returns the first reference to a variable at or behind offset, or
// else the first of all.
func (p *Program) reference(name string, offset int) (Stretch, bool) {
	places := p.params[name]
	for _, place := range places {
		if place.Offset >= offset {
			return place, true
		}
	}
	if len(places) > 0 {
		return places[0], true
	}
	return Stretch{}, false
}

// callAt reports whether the command called name may be the one that stands at
// offset: the text of a trap has offsets of its own.
func (p *Program) callAt(offset int, name string) bool {
	call, ok := p.calls[offset]
	return ok && (call.name == "" || call.name == name)
}
