package shell

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/syntax"
)

// checker looks in a syntax tree for what the library would do otherwise than
// bash, so that it can be refused before anything runs. Each rule stands for a
// difference that was measured; testdata/snippets.txt holds them.
type checker struct {
	script   string
	problems []Problem
	assigned map[string]bool // names that the script itself sets
	assoc    map[string]bool // names of associative arrays
	jobs     map[string]bool // names that hold $!
	path     []syntax.Node   // from the file down to the node that is looked at
}

// check returns what in the script must be refused.
func check(script string, file *syntax.File) []Problem {
	c := &checker{script: script, assigned: map[string]bool{}, assoc: map[string]bool{}, jobs: map[string]bool{}}
	syntax.Walk(file, c.gather)
	syntax.Walk(file, func(node syntax.Node) bool {
		if node == nil {
			c.path = c.path[:len(c.path)-1]
			return true
		}
		c.look(node)
		c.path = append(c.path, node)
		return true
	})
	return c.problems
}

// refuse notes that node must not run here.
func (c *checker) refuse(node syntax.Node, format string, args ...any) {
	start, end := int(node.Pos().Offset()), int(node.End().Offset())
	c.problems = append(c.problems, Problem{
		Offset: start, Length: min(end, len(c.script)) - start,
		Msg: "the built-in shell has no " + fmt.Sprintf(format, args...), Hint: useBash,
	})
}

// gather notes what the script sets.
func (c *checker) gather(node syntax.Node) bool {
	switch n := node.(type) {
	case *syntax.Assign:
		if n.Name != nil {
			c.assigned[n.Name.Value] = true
			c.jobs[n.Name.Value] = c.jobs[n.Name.Value] || isLastJob(n.Value) || isListOfJobs(n)
		}
	case *syntax.WordIter:
		c.assigned[n.Name.Value] = true
	case *syntax.DeclClause:
		if slices.ContainsFunc(n.Args, func(a *syntax.Assign) bool { return a.Naked && flagHas(a.Value, 'A') }) {
			for _, a := range n.Args {
				if a.Name != nil {
					c.assoc[a.Name.Value] = true
				}
			}
		}
	}
	return true
}

// flagHas reports whether word is a group of flags, such as -Ar, with flag.
func flagHas(word *syntax.Word, flag byte) bool {
	return word != nil && strings.HasPrefix(word.Lit(), "-") && strings.IndexByte(word.Lit(), flag) > 0
}

func (c *checker) look(node syntax.Node) {
	switch n := node.(type) {
	case *syntax.Stmt:
		c.statement(n)
	case *syntax.CallExpr:
		c.call(n)
	case *syntax.DeclClause:
		c.declaration(n)
	case *syntax.ParamExp:
		c.parameter(n)
	case *syntax.Redirect:
		c.redirect(n)
	case *syntax.CoprocClause:
		c.refuse(n, "coprocesses")
	case *syntax.DblQuoted:
		c.allArgs(n)
	case *syntax.ExtGlob:
		c.refuse(n, "extended globs")
	case *syntax.TimeClause:
		c.refuse(n, "time")
	case *syntax.Lit:
		if strings.HasPrefix(n.Value, "0") && octal().MatchString(n.Value) && c.inArithmetic() {
			c.refuse(n, "octal number %s", n.Value)
		}
	case *syntax.Assign:
		if n.Append && n.Index != nil {
			c.refuse(n, "+= for an element of an array")
		}
	case *syntax.ForClause:
		if n.Select {
			c.refuse(n, "select")
		}
	case *syntax.CStyleLoop:
		if n.Cond == nil && (n.Init != nil || n.Post != nil) {
			c.refuse(n, "for (( )) without a condition, but for ((;;))")
		}
	case *syntax.ArithmCmd:
		c.divisors(n, n.X)
	case *syntax.LetClause:
		for _, x := range n.Exprs {
			c.divisors(n, x)
		}
	}
}

// allArgs refuses "$@" with more in the same quotes.
func (c *checker) allArgs(n *syntax.DblQuoted) {
	for _, part := range n.Parts {
		if p, ok := part.(*syntax.ParamExp); ok && len(n.Parts) > 1 && p.Param != nil && (p.Param.Value == "@" || isAll(p.Index) && p.Index.(*syntax.Word).Lit() == "@") {
			c.refuse(n, "\"$@\" with more between the same quotes")
			return
		}
	}
}

// octal is a number that begins as an octal one and is none.
var octal = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^0[0-9]*[89][0-9]*$`) })

func (c *checker) inArithmetic() bool {
	return slices.ContainsFunc(c.path, func(above syntax.Node) bool {
		switch above.(type) {
		case *syntax.ArithmExp, *syntax.ArithmCmd, *syntax.LetClause:
			return true
		}
		return false
	})
}

// statement refuses jobs in the background where nobody could wait for them.
func (c *checker) statement(s *syntax.Stmt) {
	if !s.Background && !s.Disown {
		return
	}
	if s.Disown {
		c.refuse(s, "&| and &!")
	}
	for _, above := range c.path {
		switch n := above.(type) {
		case *syntax.Subshell, *syntax.CmdSubst, *syntax.ProcSubst, *syntax.FuncDecl:
			c.refuse(s, "background jobs inside subshells and functions")
			return
		case *syntax.BinaryCmd:
			if n.Op == syntax.Pipe || n.Op == syntax.PipeAll {
				c.refuse(s, "background jobs inside pipelines")
				return
			}
		case *syntax.Stmt:
			if n.Background {
				c.refuse(s, "background jobs inside background jobs")
				return
			}
		}
	}
}

// missing are the built-in commands of bash that the library only pretends to have.
var missing = []string{
	"bg", "bind", "caller", "compgen", "complete", "compopt", "coproc", "disown", "enable", "fc", "fg", "hash",
	"help", "history", "jobs", "logout", "newgrp", "suspend", "times", "ulimit", "umask",
}

// options are the flags of built-in commands that work as in bash. Commands
// that are not named here are not looked at.
var options = map[string]string{
	"read": "rsa", "wait": "", "type": "tp", "command": "v", "unset": "vf",
	"export": "", "local": "aArxn", "declare": "aAgrx", "typeset": "aAgrx", "readonly": "aA", "shopt": "suq", "trap": "",
	"cd": "", "pwd": "LP", "pushd": "", "popd": "", "dirs": "", "alias": "", "unalias": "a", "builtin": "",
}

// call looks at a simple command.
func (c *checker) call(n *syntax.CallExpr) {
	if len(n.Args) == 0 {
		return
	}
	name := n.Args[0].Lit()
	if slices.Contains(missing, name) {
		c.refuse(n, "command %q", name)
		return
	}
	c.flags(name, n.Args[1:])
	if stmt, ok := c.path[len(c.path)-1].(*syntax.Stmt); ok && name == "exec" && slices.ContainsFunc(stmt.Redirs, func(r *syntax.Redirect) bool { return r.Word != nil && isProcess(r.Word) }) {
		c.refuse(n, "exec with a process to write to or to read from")
	}
	switch name {
	case "mapfile", "readarray":
		if _, ok := mapfileName(n); !ok {
			c.refuse(n, "%s but with -t and a name", name)
		}
	case "trap":
		c.trap(n)
	case "set":
		c.setOptions(n)
	case "shopt":
		for _, arg := range n.Args[1:] {
			if lit := arg.Lit(); !strings.HasPrefix(lit, "-") && !slices.Contains([]string{"dotglob", "globstar", "nocaseglob", "nullglob"}, lit) {
				c.refuse(arg, "shell option %q", lit)
			}
		}
	case "printf":
		c.printf(n)
	case "kill":
		for _, arg := range n.Args[1:] {
			syntax.Walk(arg, func(node syntax.Node) bool {
				if p, ok := node.(*syntax.ParamExp); ok && p.Param.Value == "$" {
					c.refuse(p, "process of its own for kill to find")
				}
				return true
			})
		}
	}
}

// flags refuses the flags of a built-in command that are not known to work.
func (c *checker) flags(name string, args []*syntax.Word) {
	allowed, known := options[name]
	if !known {
		return
	}
	for _, arg := range args {
		lit := arg.Lit()
		if lit == "--" || !strings.HasPrefix(lit, "-") || lit == "-" {
			return
		}
		for _, flag := range lit[1:] {
			if !strings.ContainsRune(allowed, flag) {
				c.refuse(arg, "option -%c of %s", flag, name)
				return
			}
		}
	}
}

// trap refuses all but the traps that the library runs as bash does.
func (c *checker) trap(n *syntax.CallExpr) {
	for _, signal := range n.Args[min(2, len(n.Args)):] {
		if lit := signal.Lit(); lit != "EXIT" && lit != "0" && !isCaught(lit) {
			c.refuse(n, "traps but those on EXIT, INT, TERM and HUP")
			return
		}
	}
	if len(n.Args) < 3 {
		c.refuse(n, "traps but those on EXIT, INT, TERM and HUP")
		return
	}
	c.eachLiteral(n.Args[1], func(lit string) {
		if strings.Contains(lit, "exit") {
			c.refuse(n, "traps with exit in them")
		}
	})
	for _, above := range c.path {
		switch above.(type) {
		case *syntax.Subshell, *syntax.CmdSubst, *syntax.ProcSubst, *syntax.FuncDecl:
			c.refuse(n, "traps inside subshells and functions")
			return
		}
	}
}

func (c *checker) setOptions(n *syntax.CallExpr) {
	for i, arg := range n.Args[1:] {
		lit := arg.Lit()
		if lit == "--" || lit == "-" || len(lit) < 2 || !strings.ContainsAny(lit[:1], "-+") {
			return
		}
		if lit[1:] == "o" || lit[0] == '-' && strings.HasSuffix(lit, "o") && strings.Trim(lit[1:len(lit)-1], "aefnux") == "" {
			name := ""
			if i+2 < len(n.Args) {
				name = n.Args[i+2].Lit()
			}
			if !slices.Contains([]string{"allexport", "errexit", "noexec", "noglob", "nounset", "xtrace", "pipefail"}, name) {
				c.refuse(n, "option %q of set", strings.TrimSpace(lit+" "+name))
			}
			return
		}
		if strings.Trim(lit[1:], "aefnux") != "" {
			c.refuse(arg, "option %q of set", lit)
			return
		}
	}
}

func (c *checker) printf(n *syntax.CallExpr) {
	if len(n.Args) < 2 {
		return
	}
	if flagHas(n.Args[1], 'v') {
		c.refuse(n.Args[1], "option -v of printf")
		return
	}
	c.eachLiteral(n.Args[1], func(lit string) {
		for verb, name := range map[string]string{"%q": "%q", "%Q": "%Q", "%(": "%(…)T"} {
			if strings.Contains(lit, verb) {
				c.refuse(n.Args[1], "%s of printf", name)
			}
		}
	})
}

// eachLiteral calls f with every fixed piece of word.
func (c *checker) eachLiteral(word *syntax.Word, f func(lit string)) {
	syntax.Walk(word, func(node syntax.Node) bool {
		switch n := node.(type) {
		case *syntax.Lit:
			f(n.Value)
		case *syntax.SglQuoted:
			f(n.Value)
		}
		return true
	})
}

func (c *checker) declaration(n *syntax.DeclClause) {
	var flags []*syntax.Word
	for _, a := range n.Args {
		if a.Naked && a.Value != nil {
			flags = append(flags, a.Value)
		}
	}
	if n.Variant.Value == "nameref" {
		c.refuse(n, "nameref")
	}
	c.flags(n.Variant.Value, flags)
	for _, flag := range flags {
		if n.Variant.Value == "local" && flag.Lit() == "-" {
			c.refuse(n, "local -")
		}
	}
	for _, a := range n.Args {
		if a.Naked && a.Name != nil && c.assoc[a.Name.Value] && slices.ContainsFunc(flags, func(f *syntax.Word) bool { return flagHas(f, 'A') }) {
			c.refuse(n, "associative array without a first value; write declare -A %s=()", a.Name.Value)
		}
	}
}

// absent are the variables of bash that the library does not have, or fills
// otherwise.
var absent = []string{
	"!", "-", "_", "BASH", "BASHOPTS", "BASHPID", "BASH_ALIASES", "BASH_ARGC", "BASH_ARGV", "BASH_CMDS", "BASH_COMMAND",
	"BASH_LINENO", "BASH_SOURCE", "BASH_SUBSHELL", "BASH_VERSINFO", "BASH_VERSION", "DIRSTACK", "EPOCHREALTIME", "EPOCHSECONDS",
	"FUNCNAME", "GROUPS", "HOSTTYPE", "LINENO", "MACHTYPE", "OSTYPE", "PIPESTATUS", "PPID", "SECONDS", "SHELLOPTS",
}

func (c *checker) parameter(n *syntax.ParamExp) {
	if n.Param == nil {
		return
	}
	name := n.Param.Value
	switch {
	case name == "!" && (c.forWait() || c.assignsJob()):
	case c.jobs[name] && !c.forWait() && !n.Length:
		c.refuse(n, "use of $! but in wait")
	case slices.Contains(absent, name) && !c.assigned[name]:
		c.refuse(n, "variable $%s", name)
	}
	if n.Length && c.assoc[name] && n.Index != nil {
		c.refuse(n, "size of an associative array")
	}
	if isList := name == "@" || name == "*" || isAll(n.Index); isList && n.Exp != nil && slices.Contains([]syntax.ParExpOperator{
		syntax.DefaultUnset, syntax.DefaultUnsetOrNull, syntax.ErrorUnset, syntax.ErrorUnsetOrNull, syntax.AssignUnset, syntax.AssignUnsetOrNull,
	}, n.Exp.Op) {
		c.refuse(n, "${%s…} with an operator for a list", name)
	}
	if n.Exp != nil && n.Exp.Word != nil && !c.quoted() && len(n.Exp.Word.Parts) > 1 && hasQuotes(n.Exp.Word) {
		c.refuse(n, "${%s…} with quotes in it, without quotes around it", name)
	}
	if n.Names != 0 {
		c.refuse(n, "${!%s*}", name)
	}
	if n.Repl != nil && n.Repl.Orig != nil && len(n.Repl.Orig.Parts) > 0 {
		if lit, ok := n.Repl.Orig.Parts[0].(*syntax.Lit); ok && strings.ContainsAny(lit.Value[:1], "#%") {
			c.refuse(n, "${%s/%s…}", name, lit.Value[:1])
		}
	}
	if n.Exp != nil && n.Exp.Op == syntax.OtherParamOps && n.Exp.Word != nil && n.Exp.Word.Lit() != "Q" {
		c.refuse(n, "${%s@%s}", name, n.Exp.Word.Lit())
	}
}

// isAll reports whether an index is @ or *.
func isAll(index syntax.ArithmExpr) bool {
	word, ok := index.(*syntax.Word)
	return ok && (word.Lit() == "@" || word.Lit() == "*")
}

// quoted reports whether what is looked at stands between double quotes.
func (c *checker) quoted() bool {
	return slices.ContainsFunc(c.path, func(above syntax.Node) bool { _, is := above.(*syntax.DblQuoted); return is })
}

func hasQuotes(word *syntax.Word) bool {
	return slices.ContainsFunc(word.Parts, func(part syntax.WordPart) bool {
		switch part.(type) {
		case *syntax.SglQuoted, *syntax.DblQuoted:
			return true
		}
		return false
	})
}

// isProcess reports whether a word is <( ) or >( ).
func isProcess(word *syntax.Word) bool {
	return slices.ContainsFunc(word.Parts, func(part syntax.WordPart) bool { _, is := part.(*syntax.ProcSubst); return is })
}

// forWait reports whether what is looked at stands in a call of wait.
func (c *checker) forWait() bool {
	for _, above := range c.path {
		if call, ok := above.(*syntax.CallExpr); ok && len(call.Args) > 0 && call.Args[0].Lit() == "wait" {
			return true
		}
	}
	return false
}

// isLastJob reports whether word is $! and no more.
func isLastJob(word *syntax.Word) bool {
	if word == nil || len(word.Parts) != 1 {
		return false
	}
	part := word.Parts[0]
	if quoted, ok := part.(*syntax.DblQuoted); ok && len(quoted.Parts) == 1 {
		part = quoted.Parts[0]
	}
	p, ok := part.(*syntax.ParamExp)
	return ok && p.Param != nil && p.Param.Value == "!"
}

// isListOfJobs reports whether a is NAME+=($!) or NAME=($!).
func isListOfJobs(a *syntax.Assign) bool {
	return a.Array != nil && len(a.Array.Elems) == 1 && a.Array.Elems[0].Index == nil && isLastJob(a.Array.Elems[0].Value)
}

// assignsJob reports whether what is looked at is $! in NAME=$!.
func (c *checker) assignsJob() bool {
	for _, above := range c.path {
		if a, ok := above.(*syntax.Assign); ok && a.Name != nil && (isLastJob(a.Value) || isListOfJobs(a)) {
			return true
		}
	}
	return false
}

func (c *checker) redirect(n *syntax.Redirect) {
	if n.N != nil && !slices.Contains([]string{"0", "1", "2"}, n.N.Value) {
		c.refuse(n, "descriptor %s, only 0, 1 and 2", n.N.Value)
		return
	}
	switch n.Op {
	case syntax.DplOut:
		if !slices.Contains([]string{"1", "2"}, n.Word.Lit()) {
			c.refuse(n, "such copy of a descriptor")
		}
	case syntax.DplIn:
		c.refuse(n, "copies of the input")
	case syntax.RdrInOut:
		c.refuse(n, "redirection with <>")
	}
}

// divisors refuses a division in a condition by what may be zero: the library
// takes the failed division for a false condition of its own kind.
func (c *checker) divisors(at syntax.Node, x syntax.ArithmExpr) {
	syntax.Walk(x, func(node syntax.Node) bool {
		b, ok := node.(*syntax.BinaryArithm)
		if !ok {
			return true
		}
		switch b.Op {
		case syntax.Quo, syntax.Rem, syntax.QuoAssgn, syntax.RemAssgn:
			if word, ok := b.Y.(*syntax.Word); !ok || strings.Trim(word.Lit(), "0123456789") != "" || strings.Trim(word.Lit(), "0") == "" {
				c.refuse(at, "division in (( )) by what may be zero; $(( )) has")
			}
		}
		return true
	})
}
