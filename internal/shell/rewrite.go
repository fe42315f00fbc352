package shell

import (
	"fmt"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// rewrite changes the tree where the library means something else than bash,
// and the same can be said in another way. Files of redirections are opened late
// where the tree is run as it is, and not printed again (late).
func rewrite(file *syntax.File, late bool) {
	syntax.Walk(file, func(node syntax.Node) bool {
		switch n := node.(type) {
		case *syntax.BinaryCmd:
			if n.Op == syntax.Pipe || n.Op == syntax.PipeAll {
				isolate(n)
			}
		case *syntax.CmdSubst:
			if len(n.Stmts) > 1 || len(n.Stmts) == 1 && n.Stmts[0].Cmd != nil { // not $(<file)
				n.Stmts = append(noErrExit(), n.Stmts...)
			}
		case *syntax.Stmt:
			if n.Cmd == nil && slices.ContainsFunc(n.Redirs, func(r *syntax.Redirect) bool { return r.Op == syntax.RdrOut || r.Op == syntax.AppOut }) {
				n.Cmd = &syntax.CallExpr{Args: []*syntax.Word{{Parts: []syntax.WordPart{&syntax.Lit{ValuePos: n.Pos(), ValueEnd: n.Pos(), Value: ":"}}}}}
			}
			guardShift(n)
			endlessFor(n)
			negate(n)
			splitOptions(n)
			mapfile(n)
			if late {
				markLate(n)
			}
		case *syntax.ParamExp:
			if n.Param != nil && n.Param.Value == "0" && n.Exp == nil { // bash is called by its name
				n.Short, n.Param = false, &syntax.Lit{ValuePos: n.Param.Pos(), ValueEnd: n.Param.End(), Value: "tugline_zero"}
				n.Exp = &syntax.Expansion{Op: syntax.DefaultUnset, Word: &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{Value: "bash"}}}}
			}
		case *syntax.Redirect:
			if n.Op == syntax.RdrClob {
				n.Op = syntax.RdrOut // set -C is refused, so there is nothing to overrule
			}
		}
		return true
	})
}

// negate makes "! a | b" an "if a | b; then ! :; fi && :", which has the same exit codes:
// the library ends the script if a stage of a negated pipeline fails, or a command in a group.
func negate(stmt *syntax.Stmt) {
	pipe := stmt.Cmd
	switch pipe.(type) {
	case nil, *syntax.CallExpr, *syntax.TestClause, *syntax.ArithmCmd, *syntax.DeclClause, *syntax.LetClause:
		return
	}
	if !stmt.Negated {
		return
	}
	colon := func(negated bool) *syntax.Stmt {
		word := &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{ValuePos: stmt.Pos(), ValueEnd: stmt.Pos(), Value: ":"}}}
		return &syntax.Stmt{Position: stmt.Pos(), Negated: negated, Cmd: &syntax.CallExpr{Args: []*syntax.Word{word}}}
	}
	choice := &syntax.IfClause{
		Position: stmt.Pos(), ThenPos: stmt.Pos(), FiPos: stmt.End(),
		Cond: []*syntax.Stmt{{Position: stmt.Pos(), Cmd: pipe}},
		Then: []*syntax.Stmt{colon(true)},
	}
	stmt.Negated = false
	stmt.Cmd = &syntax.BinaryCmd{OpPos: stmt.Pos(), Op: syntax.AndStmt, X: &syntax.Stmt{Position: stmt.Pos(), Cmd: choice}, Y: colon(false)}
}

// errExit mends what the library does when a command fails that does not end the script
// in bash. In a subshell where failures do not count (a condition, before && and ||) it
// forgets that they do not. And a loop, an if and the like fail with their last command,
// though what is behind && and || does not count in bash; so that one is given a good end,
// where nobody looks at the exit code.
func errExit(file *syntax.File) {
	e := exitEditor{}
	e.list(file.Stmts, false, true)
}

type exitEditor struct{}

// list goes through statements. ignored says that failures do not count in them, last that
// the exit code of the last one is that of the script, a function or a subshell.
func (e exitEditor) list(stmts []*syntax.Stmt, ignored, last bool) {
	for i, s := range stmts {
		e.statement(s, ignored, last && i == len(stmts)-1)
	}
}

func (e exitEditor) statement(s *syntax.Stmt, ignored, last bool) {
	ignored = ignored || s.Negated
	switch n := s.Cmd.(type) {
	case *syntax.BinaryCmd:
		isList := n.Op == syntax.AndStmt || n.Op == syntax.OrStmt
		e.statement(n.X, ignored || isList, last || !isList)
		e.statement(n.Y, ignored, last || !isList)
		return
	case *syntax.Subshell:
		e.list(n.Stmts, ignored, true)
		if ignored {
			n.Stmts = append(noErrExit(), n.Stmts...)
		}
		return
	case *syntax.FuncDecl:
		e.statement(n.Body, false, true)
		return
	case *syntax.Block:
		e.list(n.Stmts, ignored, last)
		e.endWell(n.Stmts, ignored, last)
	case *syntax.ForClause:
		e.list(n.Do, ignored, last)
		e.endWell(n.Do, ignored, last)
	case *syntax.WhileClause:
		e.list(n.Cond, true, true)
		e.list(n.Do, ignored, last)
		e.endWell(n.Do, ignored, last)
	case *syntax.CaseClause:
		for _, item := range n.Items {
			e.list(item.Stmts, ignored, last)
			e.endWell(item.Stmts, ignored, last)
		}
	case *syntax.IfClause:
		for branch := n; branch != nil; branch = branch.Else {
			e.list(branch.Cond, true, true)
			e.list(branch.Then, ignored, last)
			e.endWell(branch.Then, ignored, last)
		}
	}
}

// endWell makes "a && b" at the end of a list "a && b || :", if its failure would not end
// the script.
func (e exitEditor) endWell(stmts []*syntax.Stmt, ignored, last bool) {
	if ignored || last || len(stmts) == 0 {
		return
	}
	s := stmts[len(stmts)-1]
	list, ok := s.Cmd.(*syntax.BinaryCmd)
	isList := ok && (list.Op == syntax.AndStmt || list.Op == syntax.OrStmt)
	if !isList && !s.Negated || s.Background || len(s.Redirs) > 0 {
		return
	}
	inner := *s
	word := &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{ValuePos: s.Pos(), ValueEnd: s.Pos(), Value: ":"}}}
	*s = syntax.Stmt{Position: s.Position, Cmd: &syntax.BinaryCmd{OpPos: s.Position, Op: syntax.OrStmt, X: &inner, Y: &syntax.Stmt{Position: s.Position, Cmd: &syntax.CallExpr{Args: []*syntax.Word{word}}}}}
}

// mapfileName returns the name of the array that "mapfile -t NAME" fills.
func mapfileName(call *syntax.CallExpr) (string, bool) {
	if len(call.Args) != 3 || call.Args[1].Lit() != "-t" || !syntax.ValidName(call.Args[2].Lit()) {
		return "", false
	}
	return call.Args[2].Lit(), true
}

// mapfile makes a loop of "mapfile -t NAME", which the library does not have.
func mapfile(stmt *syntax.Stmt) {
	call, ok := stmt.Cmd.(*syntax.CallExpr)
	if !ok || len(call.Args) == 0 || call.Args[0].Lit() != "mapfile" && call.Args[0].Lit() != "readarray" {
		return
	}
	name, ok := mapfileName(call)
	if !ok {
		return
	}
	text := fmt.Sprintf(`{ %[1]s=(); while IFS= read -r tugline_line || [ -n "${tugline_line-}" ]; do %[1]s+=("$tugline_line"); done; }`, name)
	file, err := syntax.NewParser().Parse(strings.NewReader(text), "")
	if err != nil {
		panic("shell.mapfile: " + err.Error())
	}
	stmt.Cmd = file.Stmts[0].Cmd
}

// splitOptions makes "set -euo pipefail" a "set -eu -o pipefail", which the library takes.
func splitOptions(stmt *syntax.Stmt) {
	call, ok := stmt.Cmd.(*syntax.CallExpr)
	if !ok || len(call.Args) < 3 || call.Args[0].Lit() != "set" {
		return
	}
	flags := call.Args[1].Lit()
	if len(flags) < 3 || flags[0] != '-' || flags[len(flags)-1] != 'o' {
		return
	}
	word := func(text string) *syntax.Word {
		at := call.Args[1]
		return &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{ValuePos: at.Pos(), ValueEnd: at.End(), Value: text}}}
	}
	call.Args = append([]*syntax.Word{call.Args[0], word(flags[:len(flags)-1]), word("-o")}, call.Args[2:]...)
}

// isolate puts the last stage of a pipeline into a subshell, as bash does: the
// library runs it in the current shell, where an assignment or an exit would
// leak out.
func isolate(pipe *syntax.BinaryCmd) {
	if _, alone := pipe.Y.Cmd.(*syntax.Subshell); alone {
		return
	}
	inner := *pipe.Y
	pipe.Y = &syntax.Stmt{
		Position: inner.Position,
		Cmd:      &syntax.Subshell{Lparen: inner.Pos(), Rparen: inner.End(), Stmts: []*syntax.Stmt{&inner}},
	}
}

// noErrExit returns the statement "set +e": in a command substitution, bash
// goes on after a failure (inherit_errexit is off).
func noErrExit() []*syntax.Stmt {
	word := func(s string) *syntax.Word { return &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{Value: s}}} }
	return []*syntax.Stmt{{Cmd: &syntax.CallExpr{Args: []*syntax.Word{word("set"), word("+e")}}}}
}

// guardShift makes "shift N" fail when there are fewer words than N: the
// library drops them all and goes on.
func guardShift(stmt *syntax.Stmt) {
	call, ok := stmt.Cmd.(*syntax.CallExpr)
	if !ok || len(call.Args) == 0 || call.Args[0].Lit() != "shift" {
		return
	}
	file, err := syntax.NewParser().Parse(strings.NewReader(`{ [ 1 -le $# ] && command shift 1; }`), "")
	if err != nil {
		panic("shell.guardShift: " + err.Error())
	}
	if len(call.Args) > 1 {
		list := file.Stmts[0].Cmd.(*syntax.Block).Stmts[0].Cmd.(*syntax.BinaryCmd)
		list.X.Cmd.(*syntax.CallExpr).Args[1] = call.Args[1]
		list.Y.Cmd.(*syntax.CallExpr).Args[2] = call.Args[1]
	}
	stmt.Cmd = file.Stmts[0].Cmd
}

// endlessFor makes "for ((;;))" a "while :": the library does not leave the
// former on exit.
func endlessFor(stmt *syntax.Stmt) {
	loop, ok := stmt.Cmd.(*syntax.ForClause)
	if !ok {
		return
	}
	if style, ok := loop.Loop.(*syntax.CStyleLoop); !ok || style.Init != nil || style.Cond != nil || style.Post != nil {
		return
	}
	colon := &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{Value: ":"}}}
	stmt.Cmd = &syntax.WhileClause{
		WhilePos: loop.ForPos, DoPos: loop.DoPos, DonePos: loop.DonePos,
		Cond: []*syntax.Stmt{{Cmd: &syntax.CallExpr{Args: []*syntax.Word{colon}}}},
		Do:   loop.Do,
	}
}
