package shell

import (
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// rewrite changes the tree where the library means something else than bash,
// and the same can be said in another way.
func rewrite(file *syntax.File) {
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
			markLate(n)
		case *syntax.Redirect:
			if n.Op == syntax.RdrClob {
				n.Op = syntax.RdrOut // set -C is refused, so there is nothing to overrule
			}
		}
		return true
	})
}

// negate makes "! a | b" an "if a | b; then ! :; fi && :", which has the same exit codes:
// the library ends the script if a stage of a negated pipeline fails.
func negate(stmt *syntax.Stmt) {
	pipe, ok := stmt.Cmd.(*syntax.BinaryCmd)
	if !ok || !stmt.Negated {
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
