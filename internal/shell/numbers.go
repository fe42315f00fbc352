package shell

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// The library takes a variable for 0 in arithmetic when it holds no number,
// or nothing. bash evaluates it as an expression, and fails where that cannot
// be done. So a reference to a variable, unless the script gives it nothing
// but numbers, becomes a substitution of the command below, which does the
// same as bash or fails.

// numberCommand is called as: tugline-number NAME VALUE [set]. The word set
// is there if the variable is set.
const numberCommand = "tugline-number"

// guardNumbers puts the substitutions into the tree.
func guardNumbers(file *syntax.File) {
	g := numberGuard{doubtful: map[string]bool{}, assigned: map[string]bool{}}
	syntax.Walk(file, g.gather)
	syntax.Walk(file, func(node syntax.Node) bool {
		switch n := node.(type) {
		case *syntax.ArithmExp:
			n.X = g.guard(n.X)
		case *syntax.ArithmCmd:
			n.X = g.guard(n.X)
		case *syntax.LetClause:
			for i := range n.Exprs {
				n.Exprs[i] = g.guard(n.Exprs[i])
			}
		case *syntax.CStyleLoop:
			n.Init, n.Cond, n.Post = g.guard(n.Init), g.guard(n.Cond), g.guard(n.Post)
		case *syntax.BinaryTest:
			switch n.Op {
			case syntax.TsEql, syntax.TsNeq, syntax.TsLeq, syntax.TsGeq, syntax.TsLss, syntax.TsGtr:
				n.X, n.Y = g.operand(n.X), g.operand(n.Y)
			}
		}
		return true
	})
}

type numberGuard struct {
	assigned map[string]bool // the script sets it
	doubtful map[string]bool // and perhaps to something that is no number
}

var wholeNumber = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[0-9]+$`) })

// gather finds the variables that the script sets, and those that it may set
// to something else than a number.
func (g *numberGuard) gather(node syntax.Node) bool {
	switch n := node.(type) {
	case *syntax.Assign:
		if n.Name != nil {
			g.assigned[n.Name.Value] = true
			g.doubtful[n.Name.Value] = g.doubtful[n.Name.Value] || !isNumber(n.Value)
		}
	case *syntax.WordIter:
		g.doubtful[n.Name.Value] = true
	case *syntax.CallExpr:
		for _, arg := range n.Args[min(1, len(n.Args)):] { // read, getopts and the like set what they name
			g.doubtful[arg.Lit()] = true
		}
	case *syntax.BinaryArithm:
		if word, ok := n.X.(*syntax.Word); ok && n.Op == syntax.Assgn {
			g.assigned[word.Lit()] = true
		}
	}
	return true
}

// isNumber reports whether word is a number wherever it stands.
func isNumber(word *syntax.Word) bool {
	if word == nil || len(word.Parts) != 1 {
		return false
	}
	_, arithmetic := word.Parts[0].(*syntax.ArithmExp)
	return arithmetic || plainNumber().MatchString(word.Lit())
}

// guard returns x with the doubtful references in it replaced.
func (g *numberGuard) guard(x syntax.ArithmExpr) syntax.ArithmExpr {
	switch n := x.(type) {
	case *syntax.Word:
		return g.word(n)
	case *syntax.ParenArithm:
		n.X = g.guard(n.X)
	case *syntax.UnaryArithm:
		if n.Op != syntax.Inc && n.Op != syntax.Dec {
			n.X = g.guard(n.X)
		}
	case *syntax.BinaryArithm:
		if !assigns(n.Op) {
			n.X = g.guard(n.X)
		}
		n.Y = g.guard(n.Y)
	}
	return x
}

// assigns reports whether op sets the variable on its left.
func assigns(op syntax.BinAritOperator) bool {
	switch op {
	case syntax.Assgn, syntax.AddAssgn, syntax.SubAssgn, syntax.MulAssgn, syntax.QuoAssgn, syntax.RemAssgn,
		syntax.AndAssgn, syntax.OrAssgn, syntax.XorAssgn, syntax.ShlAssgn, syntax.ShrAssgn:
		return true
	}
	return false
}

func (g *numberGuard) operand(x syntax.TestExpr) syntax.TestExpr {
	word, ok := x.(*syntax.Word)
	if !ok {
		return x
	}
	if syntax.ValidName(word.Lit()) {
		// Here the library does not even look up a name.
		word = &syntax.Word{Parts: []syntax.WordPart{&syntax.ParamExp{Short: true, Param: &syntax.Lit{Value: word.Lit()}}}}
	}
	return g.word(word)
}

// word returns what stands for a reference to a variable; other words stay.
func (g *numberGuard) word(word *syntax.Word) *syntax.Word {
	if len(word.Parts) != 1 {
		return word
	}
	part := word.Parts[0]
	if quoted, ok := part.(*syntax.DblQuoted); ok && len(quoted.Parts) == 1 {
		part = quoted.Parts[0]
	}
	name := ""
	switch p := part.(type) {
	case *syntax.Lit:
		if wholeNumber().MatchString(p.Value) {
			return word
		}
		name = p.Value
	case *syntax.ParamExp:
		if p.Index != nil || p.Length || p.Excl || p.Exp != nil || p.Slice != nil || p.Repl != nil || p.Param == nil {
			return word
		}
		name = p.Param.Value
	}
	if name == "#" || name == "?" || !referable().MatchString(name) || g.assigned[name] && !g.doubtful[name] {
		return word
	}
	return parsed(fmt.Sprintf(`"$(%s %s "${%s-}" ${%s+set})"`, numberCommand, name, name, name))
}

// referable is the name of a variable or the number of an argument.
var referable = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_]*|[0-9])$`) })

// parsed returns the word that text is.
func parsed(text string) *syntax.Word {
	file, err := syntax.NewParser().Parse(strings.NewReader(": "+text), "")
	if err != nil {
		panic("shell.parsed: " + err.Error())
	}
	return file.Stmts[0].Cmd.(*syntax.CallExpr).Args[1]
}

// number runs numberCommand: it prints the number that the value comes to.
func (b *builtin) number(hc interp.HandlerContext, args []string) error {
	name, value := args[1], args[2]
	if len(args) < 4 {
		return b.noNumber(hc, "%s: unbound variable", name)
	}
	n, err := evaluate(hc.Env, value, 0)
	var unparsed syntax.ParseError
	if errors.As(err, &unparsed) {
		return b.noNumber(hc, "%s: %q is no number", name, value)
	}
	if err != nil {
		return b.noNumber(hc, "%s: %q is no number: %v", name, value, err)
	}
	fmt.Fprint(hc.Stdout, n)
	return nil
}

func (b *builtin) noNumber(hc interp.HandlerContext, format string, args ...any) error {
	why := fmt.Sprintf(format, args...)
	fmt.Fprintln(hc.Stderr, why) // a stream that is gone is no reason to fail otherwise
	b.troubles.expansion(why)
	return interp.ExitStatus(1)
}

// maxReferences bounds how often a variable may name another one.
const maxReferences = 100

// evaluate returns what value comes to as an arithmetic expression.
func evaluate(env expand.Environ, value string, references int) (int, error) {
	value = strings.TrimSpace(value)
	switch {
	case value == "":
		return 0, nil
	case plainNumber().MatchString(value):
		return strconv.Atoi(value)
	case references == maxReferences:
		return 0, errors.New("too many references")
	case syntax.ValidName(value) && env.Get(value).IsSet():
		return evaluate(env, env.Get(value).String(), references+1)
	}
	x, err := syntax.NewParser().Arithmetic(strings.NewReader(value))
	if err != nil {
		return 0, err
	}
	var wrong error
	syntax.Walk(x, func(node syntax.Node) bool {
		lit, ok := node.(*syntax.Lit)
		switch {
		case !ok || strings.Contains(lit.Value, "#"):
		case syntax.ValidName(lit.Value):
			if !env.Get(lit.Value).IsSet() {
				wrong = fmt.Errorf("%s: unbound variable", lit.Value)
			}
		default:
			if _, err := strconv.ParseInt(lit.Value, 0, 64); err != nil {
				wrong = errors.New("not a number")
			}
		}
		return true
	})
	if wrong != nil {
		return 0, wrong
	}
	return expand.Arithm(&expand.Config{Env: env}, x)
}
