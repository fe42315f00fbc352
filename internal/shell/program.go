package shell

import (
	"errors"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Program is a script of the built-in shell, parsed and found good. It may be
// run many times, also at the same time.
type Program struct {
	script string
	file   *syntax.File
	calls  map[int]simpleCommand // by offset
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
}

// useBash is the way out for all that only a complete shell can do.
const useBash = `use shell = "bash" for this task`

// Parse parses script for the built-in shell. It returns a program, or all
// that stands in the way.
func Parse(script string) (*Program, []Problem) {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(script), "")
	if err != nil {
		return nil, []Problem{syntaxProblem(script, err)}
	}
	if problems := check(script, file); len(problems) > 0 {
		return nil, problems
	}
	p := &Program{script: script, file: file, calls: map[int]simpleCommand{}}
	p.noteCalls()
	rewrite(file)
	guardNumbers(file)
	return p, nil
}

func syntaxProblem(script string, err error) Problem {
	var pos syntax.Pos
	problem := Problem{Length: 1, Msg: err.Error()}
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

// span returns where stmt stands, without what only ends it.
func (p *Program) span(stmt *syntax.Stmt) Stretch {
	start, end := int(stmt.Pos().Offset()), int(stmt.End().Offset())
	text := strings.TrimRight(p.script[start:min(end, len(p.script))], " \t\n;")
	return Stretch{start, len(text)}
}

// noteCalls notes all simple commands, so that a failure can be pinned to one.
func (p *Program) noteCalls() {
	syntax.Walk(p.file, func(node syntax.Node) bool {
		if stmt, ok := node.(*syntax.Stmt); ok {
			if call, ok := stmt.Cmd.(*syntax.CallExpr); ok && len(call.Args) > 0 {
				offset := int(call.Args[0].Pos().Offset())
				where := p.span(stmt)
				p.calls[offset] = simpleCommand{call.Args[0].Lit(), where.Offset + where.Length - offset}
			}
		}
		return true
	})
}

// callAt reports whether the command called name may be the one that stands at
// offset: the text of a trap has offsets of its own.
func (p *Program) callAt(offset int, name string) bool {
	call, ok := p.calls[offset]
	return ok && (call.name == "" || call.name == name)
}
