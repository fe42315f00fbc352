package project

import (
	"errors"
	"fmt"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// Expand returns t with $name and the POSIX forms such as ${name:-text}
// replaced. lookup gives a variable's value and whether it is set. An unset
// variable is an error, unless the form provides for it.
//
// Quotes and backslashes mean nothing, but for \$, a plain dollar.
func (t Text) Expand(lookup func(name string) (string, bool)) (string, error) {
	if !strings.Contains(t.Value, "$") {
		return t.Value, nil
	}
	if out, ok := t.expandNames(lookup); ok {
		return out, nil
	}
	return t.expandForms(lookup)
}

// expandNames is Expand for what most texts hold: $name and ${name} of variables
// that are set. Of others ok is false. Parsing each text anew for each instance
// of a task took a seventh of planning ten thousand of them.
func (t Text) expandNames(lookup func(name string) (string, bool)) (out string, ok bool) {
	var b strings.Builder
	rest := t.Value
	for {
		at := strings.IndexAny(rest, "$\\`")
		if at < 0 {
			return b.String() + rest, true
		}
		b.WriteString(rest[:at])
		name, size := firstName(rest[at:])
		if name == "" {
			return "", false
		}
		value, set := lookup(name)
		if !set {
			return "", false
		}
		b.WriteString(value)
		rest = rest[at+size:]
	}
}

// firstName returns the name that $name or ${name} at the start of text refers
// to, and how many bytes that takes; empty if there stands something else.
func firstName(text string) (name string, size int) {
	inner, isVariable := strings.CutPrefix(text, "$")
	if !isVariable {
		return "", 0
	}
	if braced, is := strings.CutPrefix(inner, "{"); is {
		name, _, closed := strings.Cut(braced, "}")
		if !closed || !validVarName(name) {
			return "", 0
		}
		return name, len("${}") + len(name)
	}
	end := 0
	for end < len(inner) && validVarName(inner[:end+1]) {
		end++
	}
	return inner[:end], len("$") + end
}

// expandForms is Expand by way of the shell library.
func (t Text) expandForms(lookup func(name string) (string, bool)) (string, error) {
	word, err := parseTemplate(t.Value)
	if err != nil {
		return "", err
	}
	out, err := expand.Document(&expand.Config{Env: environ(lookup), NoUnset: true}, word)
	var unset expand.UnsetParameterError
	if errors.As(err, &unset) {
		return "", fmt.Errorf("%q: %s", unset.Node.Param.Value, unset.Message)
	}
	return out, err
}

// environ makes the shell library's environment of a lookup function.
type environ func(name string) (string, bool)

// Get returns the variable called name.
func (e environ) Get(name string) expand.Variable {
	value, set := e(name)
	return expand.Variable{Set: set, Kind: expand.String, Str: value}
}

// Each gives no variables: only forms that name one are allowed in a template.
func (e environ) Each(func(string, expand.Variable) bool) {}

// checkTemplate returns what is wrong with t as a string in which variables expand.
func (t Text) checkTemplate() error {
	if !strings.Contains(t.Value, "$") {
		return nil
	}
	_, err := parseTemplate(t.Value)
	return err
}

// parseTemplate parses s the way a here-document is parsed, with the
// backslashes and backquotes of s taken literally.
func parseTemplate(s string) (*syntax.Word, error) {
	var escaped strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '`' || s[i] == '\\' && !strings.HasPrefix(s[i:], `\$`) {
			escaped.WriteByte('\\')
		}
		escaped.WriteByte(s[i])
		if strings.HasPrefix(s[i:], `\$`) {
			i++
			escaped.WriteByte('$')
		}
	}
	word, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Document(strings.NewReader(escaped.String()))
	if err != nil {
		var bad syntax.ParseError
		if errors.As(err, &bad) {
			return nil, errors.New(bad.Text)
		}
		return nil, err
	}
	if word == nil {
		return &syntax.Word{}, nil
	}
	for _, part := range word.Parts {
		switch part.(type) {
		case *syntax.Lit, *syntax.ParamExp:
		default:
			return nil, errors.New("only variables expand in this string, no commands and no arithmetic")
		}
	}
	return word, nil
}
