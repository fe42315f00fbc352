package project

import (
	"regexp"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/syntax"
)

// dollarName finds the variables of a text in which variables expand.
var dollarName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$\{?[#!]?([A-Za-z_][A-Za-z0-9_]*)`) })

// Refers returns the names of the variables that t refers to.
func (t Text) Refers() []string {
	var names []string
	for _, m := range dollarName().FindAllStringSubmatch(t.Value, -1) {
		names = append(names, m[1])
	}
	return names
}

// anyName finds all that may be the name of a variable.
var anyName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`) })

// RefersInScript returns the names of the variables that script refers to: for
// the built-in shell and bash by default those in its syntax tree, for other interpreters every
// word that may be a name.
func RefersInScript(script string, shell Shell) []string {
	if len(shell.Args) > 0 || strings.HasPrefix(script, "#!") {
		return anyName().FindAllString(script, -1)
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(script), "")
	if err != nil {
		return anyName().FindAllString(script, -1) // reported when the script is made ready
	}
	var names []string
	syntax.Walk(file, func(node syntax.Node) bool {
		switch n := node.(type) {
		case *syntax.ParamExp:
			if n.Param != nil {
				names = append(names, n.Param.Value)
			}
		case *syntax.ArithmExp, *syntax.ArithmCmd, *syntax.LetClause:
			syntax.Walk(n, func(node syntax.Node) bool {
				if lit, ok := node.(*syntax.Lit); ok && syntax.ValidName(lit.Value) {
					names = append(names, lit.Value)
				}
				return true
			})
		case *syntax.CallExpr:
			for _, arg := range n.Args { // printenv NAME, awk's ENVIRON["NAME"] and the like
				syntax.Walk(arg, func(node syntax.Node) bool {
					switch quoted := node.(type) {
					case *syntax.SglQuoted:
						names = append(names, anyName().FindAllString(quoted.Value, -1)...)
					case *syntax.Lit:
						names = append(names, anyName().FindAllString(quoted.Value, -1)...)
					}
					return true
				})
			}
		}
		return true
	})
	return names
}
