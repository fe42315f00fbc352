package project

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// Call is a task with its arguments, as written.
type Call struct {
	Text string // the whole call
	Name string // of the task, or an alias of it, as the file calls it
	Task *Task  // that it means; nil when it comes from the command line and was not looked up
	Span Span   // of the call; zero when it comes from the command line
	Args []CallArg
	Rest []CallWord // the words behind --
}

// CallArg is an argument that a call gives.
type CallArg struct {
	Name  string
	Value CallWord
}

// CallWord is one word of a call. From a project file it may hold variables.
type CallWord struct {
	text string
	word *syntax.Word // nil: text is the value
	at   Span
}

// Literal returns a word that is its own value.
func Literal(text string) CallWord { return CallWord{text: text} }

// Fixed returns the value of w, and whether it is known without any variable.
func (w CallWord) Fixed() (string, bool) { return w.text, w.word == nil }

// AllWords reports whether w is "$@", which alone stands for several words.
func (w CallWord) AllWords() bool { return w.word != nil && w.text == `"$@"` }

// Expand returns the value of w. lookup gives a variable's value and whether
// it is set; an unset one is an error, unless the form provides for it.
func (w CallWord) Expand(lookup func(name string) (string, bool)) (string, error) {
	if w.word == nil {
		return w.text, nil
	}
	value, err := expand.Literal(&expand.Config{Env: environ(lookup), NoUnset: true}, w.word)
	var unset expand.UnsetParameterError
	if errors.As(err, &unset) {
		return "", fmt.Errorf("%q: %s", unset.Node.Param.Value, unset.Message)
	}
	return value, err
}

// At returns where w stands; zero when it comes from the command line.
func (w CallWord) At() Span { return w.at }

// parseCall parts a call into words, by shell quoting, and finds its options.
// The options are checked against the task later, when all tasks are known.
func (d *decoder) parseCall(key string, t Text) (Call, bool) {
	c := Call{Text: t.Value, Span: t.Span}
	if validCallName(t.Value) {
		c.Name = t.Value
		return c, true
	}
	words, ok := d.callWords(t)
	if !ok {
		return c, false
	}
	if len(words) == 0 {
		d.report(t.Span, "", "%q holds an empty call", key)
		return c, false
	}
	name, fixed := words[0].Fixed()
	if !fixed {
		d.report(words[0].at, "", "the task of a call must be named, not computed")
		return c, false
	}
	c.Name = name
	return c, d.callOptions(&c, words[1:])
}

// callWords parts t into words.
func (d *decoder) callWords(t Text) ([]CallWord, bool) {
	var words []CallWord
	good := true
	for word, err := range syntax.NewParser().WordsSeq(strings.NewReader(t.Value)) {
		if err != nil {
			msg := err.Error()
			var bad syntax.ParseError
			if errors.As(err, &bad) {
				msg = bad.Text
			}
			d.report(t.Span, "", "the call cannot be parted into words: %s", msg)
			return nil, false
		}
		start, end := int(word.Pos().Offset()), int(word.End().Offset())
		w := CallWord{text: t.Value[start:end], word: word, at: t.At(start, end-start)}
		switch {
		case !onlyVariables(word):
			d.report(w.at, "", "only variables expand in a call, no commands and no arithmetic")
			good = false
		case !hasVariables(word):
			if value, err := expand.Literal(nil, word); err == nil {
				w.text, w.word = value, nil
			}
		}
		words = append(words, w)
	}
	return words, good
}

func onlyVariables(word *syntax.Word) bool {
	good := true
	syntax.Walk(word, func(node syntax.Node) bool {
		switch node.(type) {
		case *syntax.CmdSubst, *syntax.ProcSubst, *syntax.ArithmExp:
			good = false
		}
		return good
	})
	return good
}

func hasVariables(word *syntax.Word) bool {
	found := false
	syntax.Walk(word, func(node syntax.Node) bool {
		_, is := node.(*syntax.ParamExp)
		found = found || is
		return !found
	})
	return found
}

// callOptions reads --name VALUE, --name=VALUE, --flag and -- WORDS. Whether
// --name takes a value is only known with the task, so it is noted as written.
func (d *decoder) callOptions(c *Call, words []CallWord) bool {
	for i := 0; i < len(words); i++ {
		text := words[i].text
		switch {
		case text == "--":
			c.Rest = words[i+1:]
			return true
		case !strings.HasPrefix(text, "--"):
			d.report(words[i].at, "arguments are given as --name VALUE", "%q is no argument of %q", text, c.Name)
			return false
		}
		name, value, given := cutOption(words[i])
		if !given && i+1 < len(words) && !strings.HasPrefix(words[i+1].text, "--") {
			i++
			value, given = words[i], true
		}
		if !given {
			value = CallWord{text: "true", at: words[i].at}
		}
		c.Args = append(c.Args, CallArg{Name: name, Value: value})
	}
	return true
}

// cutOption parts --name=VALUE. given is false where there is no value.
func cutOption(w CallWord) (name string, value CallWord, given bool) {
	if w.word == nil {
		name, text, given := strings.Cut(strings.TrimPrefix(w.text, "--"), "=")
		return name, CallWord{text: text, at: w.at}, given
	}
	first, ok := w.word.Parts[0].(*syntax.Lit)
	if !ok {
		return strings.TrimPrefix(w.text, "--"), CallWord{}, false
	}
	name, rest, given := strings.Cut(strings.TrimPrefix(first.Value, "--"), "=")
	cut := &syntax.Word{Parts: slices.Clone(w.word.Parts)}
	cut.Parts[0] = &syntax.Lit{ValuePos: first.ValuePos, ValueEnd: first.ValueEnd, Value: rest}
	return name, CallWord{text: w.text, word: cut, at: w.at}, given
}

// CheckCall returns everything that is wrong with the arguments of a call of
// t, as far as they are fixed.
func (t *Task) CheckCall(c Call) Diagnostics {
	var found Diagnostics
	given := map[string]bool{}
	report := func(at Span, hint, format string, args ...any) {
		found = append(found, Diagnostic{Span: at, Hint: hint, Msg: fmt.Sprintf(format, args...)})
	}
	for _, arg := range c.Args {
		a := t.Arg(arg.Name)
		if a == nil {
			report(arg.Value.at, DidYouMeanOption(arg.Name, t.Options()), "task %q has no argument --%s", t.Name, arg.Name)
			continue
		}
		if given[a.Name] && !a.Many && a.Each == nil { // several values of each choose instances
			report(arg.Value.at, "", "--%s of task %q is given twice", a.Name, t.Name)
		}
		given[a.Name] = true
		if value, fixed := arg.Value.Fixed(); fixed {
			if err := a.Check(value); err != nil {
				report(arg.Value.at, "", "--%s of task %q %v", a.Name, t.Name, err)
			}
		}
	}
	for _, a := range t.Args {
		if a.Required() && !given[a.Name] {
			report(c.Span, "", "task %q needs --%s", t.Name, a.Name)
		}
	}
	if len(c.Rest) > 0 && t.RestArg() == nil {
		report(c.Rest[0].at, "", "task %q takes no words behind --", t.Name)
	}
	return found
}
