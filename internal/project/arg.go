package project

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"tugline/internal/toml"
)

// Arg is an argument of a task: a real option on the command line, a variable
// in its commands.
type Arg struct {
	Name       string
	Span       Span // of the name
	Type       ArgType
	Choices    []string // if any, the only values allowed
	Default    string
	HasDefault bool
	Min, Max   *float64 // of a number; nil: no limit
	Pattern    string   // a regular expression that the whole value must match; empty: any
	About      string
	Many       bool // may be repeated; arrives one value a line
	Rest       bool // takes the words behind --, as "$@"
	// Each has the values of which the task has instances: a call without this
	// argument means all of them. nil: it is an argument like others.
	Each *List

	whole *regexp.Regexp // Pattern, bound to both ends
}

// ArgType is what kind of value an argument takes.
type ArgType string

// The types of arguments.
const (
	ArgText   ArgType = "text"
	ArgInt    ArgType = "int"
	ArgNumber ArgType = "number"
	ArgFlag   ArgType = "flag" // "true" or empty
	ArgFile   ArgType = "file"
	ArgFolder ArgType = "folder"
)

var argTypes = []string{string(ArgText), string(ArgInt), string(ArgNumber), string(ArgFlag), string(ArgFile), string(ArgFolder)}

// likelyTypes are the types that words from elsewhere mean.
var likelyTypes = map[string]string{
	"string": `"text"`, "str": `"text"`, "path": `"file" or "folder"`, "dir": `"folder"`, "directory": `"folder"`, "filename": `"file"`,
	"bool": `"flag"`, "boolean": `"flag"`, "integer": `"int"`, "float": `"number"`, "double": `"number"`,
}

// Variable returns the name of the variable in which the value arrives.
func (a *Arg) Variable() string { return strings.ReplaceAll(a.Name, "-", "_") }

// Required reports whether a call must give a value.
func (a *Arg) Required() bool { return !a.HasDefault && a.Type != ArgFlag && !a.Rest && a.Each == nil }

// Check returns what is wrong with a value, or nil.
func (a *Arg) Check(value string) error {
	if a.Type == ArgFlag {
		if value != "" && value != "true" && value != "false" {
			return fmt.Errorf("must be true, false or empty, not %q", value)
		}
		return nil
	}
	if len(a.Choices) > 0 && !slices.Contains(a.Choices, value) {
		return fmt.Errorf("must be one of %s, not %q", strings.Join(a.Choices, ", "), value)
	}
	if a.whole != nil && !a.whole.MatchString(value) {
		return fmt.Errorf("must match %s, not %q", a.Pattern, value)
	}
	switch a.Type {
	case ArgInt:
		if _, err := strconv.ParseInt(value, 10, 64); err != nil {
			return fmt.Errorf("must be a whole number, not %q", value)
		}
	case ArgNumber:
		if _, err := strconv.ParseFloat(value, 64); err != nil {
			return fmt.Errorf("must be a number, not %q", value)
		}
	case ArgFile, ArgFolder:
		if value == "" {
			return fmt.Errorf("must be a path, not empty")
		}
		return nil
	default:
		return nil
	}
	number, _ := strconv.ParseFloat(value, 64) // parsed before
	if a.Min != nil && number < *a.Min {
		return fmt.Errorf("must be at least %s, not %s", formatNumber(*a.Min), value)
	}
	if a.Max != nil && number > *a.Max {
		return fmt.Errorf("must be at most %s, not %s", formatNumber(*a.Max), value)
	}
	return nil
}

func formatNumber(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }

// Arg returns the argument called name, or nil.
func (t *Task) Arg(name string) *Arg {
	for _, a := range t.Args {
		if a.Name == name && !a.Rest {
			return a
		}
	}
	return nil
}

// RestArg returns the argument that takes the words behind --, or nil.
func (t *Task) RestArg() *Arg {
	for _, a := range t.Args {
		if a.Rest {
			return a
		}
	}
	return nil
}

// Options returns the arguments of t as they are written in a call: --name.
func (t *Task) Options() []string {
	var out []string
	for _, a := range t.Args {
		if !a.Rest {
			out = append(out, "--"+a.Name)
		}
	}
	return out
}

// argKeys are the keys of an argument.
var argKeys = []key[*Arg]{
	{"type", formText, "`text` (the default), `int`, `number`, `flag`, `file` or `folder`.", func(d *decoder, a *Arg, e *toml.Entry) {
		text := d.text(e)
		if text.Value != "" && !slices.Contains(argTypes, text.Value) {
			hint := DidYouMean(text.Value, argTypes)
			if likely := likelyTypes[strings.ToLower(text.Value)]; likely != "" {
				hint = "did you mean " + likely + "?"
			}
			d.report(text.Span, strings.TrimPrefix(hint+" The types are "+strings.Join(argTypes, ", "), " "), "%q is no type of an argument", text.Value)
			return
		}
		a.Type = ArgType(text.Value)
	}},
	{"choices", formTexts, "The only values that are allowed.", func(d *decoder, a *Arg, e *toml.Entry) {
		for _, t := range d.texts(e) {
			a.Choices = append(a.Choices, t.Value)
		}
	}},
	{"default", formScalar, "The value when a call gives none; without it, and if it is no flag, the argument is required.", func(d *decoder, a *Arg, e *toml.Entry) {
		a.Default, a.HasDefault = d.scalar(e), true
	}},
	{"min", formNumber, "The least number allowed.", func(d *decoder, a *Arg, e *toml.Entry) { a.Min = d.number(e) }},
	{"max", formNumber, "The greatest number allowed.", func(d *decoder, a *Arg, e *toml.Entry) { a.Max = d.number(e) }},
	{"pattern", formText, "A regular expression (RE2) that the whole value must match.", func(d *decoder, a *Arg, e *toml.Entry) {
		text := d.text(e)
		if _, err := regexp.Compile(text.Value); err != nil {
			d.report(text.Span, "", "%q is no regular expression: %v", text.Value, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
			return
		}
		a.Pattern, a.whole = text.Value, regexp.MustCompile("^(?:"+text.Value+")$")
	}},
	{"about", formText, "What it is for.", func(d *decoder, a *Arg, e *toml.Entry) { a.About = d.text(e).Value }},
	{"many", formBool, "May be repeated; the values arrive one a line.", func(d *decoder, a *Arg, e *toml.Entry) { a.Many = d.yes(e) }},
	{"rest", formBool, "Takes the words behind `--`, as `\"$@\"` in every shell.", func(d *decoder, a *Arg, e *toml.Entry) { a.Rest = d.yes(e) }},
}

func (d *decoder) args(e *toml.Entry) []*Arg {
	if e.Value.Kind != toml.KindTable {
		d.report(d.at(e.Value.At), "such as args.name = {}, or args.copies = { type = \"int\", default = 1 }", "%q must be a table with a key for each argument, not %s", e.Key, e.Value.Kind)
		return nil
	}
	var out []*Arg
	for _, ae := range e.Value.Table.Entries {
		a := &Arg{Name: ae.Key, Span: d.at(ae.At), Type: ArgText}
		if ae.Value.Kind != toml.KindTable {
			example := "{}"
			switch {
			case ae.Value.Kind == toml.KindText && slices.Contains(argTypes, ae.Value.Text):
				example = fmt.Sprintf("{ type = %q }", ae.Value.Text)
			case ae.Value.Kind == toml.KindText:
				example = fmt.Sprintf("{ default = %q }", ae.Value.Text)
			}
			d.report(d.at(ae.Value.At), fmt.Sprintf("such as args.%s = %s", ae.Key, example), "the argument %q must be a table, not %s", ae.Key, ae.Value.Kind)
			continue
		}
		decodeTable(d, ae.Value.Table, argKeys, a, "key of an argument")
		d.checkArg(a, ae)
		out = append(out, a)
	}
	return out
}

// checkArgName reports a name that an argument may not have.
func (d *decoder) checkArgName(a *Arg, e *toml.Entry) {
	if !validVarName(a.Variable()) || strings.HasPrefix(a.Name, "_") {
		d.report(d.at(e.At), "names have letters, digits, - and _, and begin with a letter", "the argument name %q is not allowed", a.Name)
	}
	if a.Name == "help" || strings.HasPrefix(a.Name, "TUGLINE") {
		d.report(d.at(e.At), "", "the argument name %q belongs to Tugline", a.Name)
	}
}

// checkArg reports what does not fit together in an argument.
func (d *decoder) checkArg(a *Arg, e *toml.Entry) {
	d.checkArgName(a, e)
	numeric := a.Type == ArgInt || a.Type == ArgNumber
	for _, misfit := range []struct {
		key string
		bad bool
		why string
	}{
		{"min", a.Min != nil && !numeric, "only numbers have limits"},
		{"max", a.Max != nil && !numeric, "only numbers have limits"},
		{"choices", len(a.Choices) > 0 && a.Type == ArgFlag, "a flag has no choices"},
		{"many", a.Many && (a.Type == ArgFlag || a.Rest), "a flag or rest comes once"},
		{"default", a.HasDefault && a.Rest, "rest has no default"},
	} {
		if misfit.bad {
			d.report(d.at(e.Value.Table.Get(misfit.key).At), misfit.why, "%q does not fit the argument %q", misfit.key, a.Name)
		}
	}
	for _, choice := range a.Choices {
		plain := *a
		plain.Choices = nil
		if err := plain.Check(choice); err != nil {
			d.report(d.at(e.Value.Table.Get("choices").Value.At), "", "a choice of %q %v", a.Name, err)
		}
	}
	if a.HasDefault && !a.Rest && !(a.Many && a.Default == "") {
		if err := a.Check(a.Default); err != nil {
			d.report(d.at(e.Value.Table.Get("default").Value.At), "", "the default of %q %v", a.Name, err)
		}
	}
}

// checkVariables reports names that a task's arguments and variables share.
func (d *decoder) checkVariables(t *Task) {
	first := map[string]Span{}
	take := func(name string, span Span, what string) {
		if place, taken := first[name]; taken {
			d.found = append(d.found, Diagnostic{
				Span: span, Msg: fmt.Sprintf("the %s sets the variable %q of task %q a second time", what, name, t.Name),
				Related: []Diagnostic{{Span: place, Msg: "it is set first here"}},
			})
			return
		}
		first[name] = span
	}
	for _, a := range t.Args {
		if !a.Rest {
			take(a.Variable(), a.Span, "argument")
		}
	}
	named := 0
	for _, paths := range [][]Paths{t.Reads, t.Writes} {
		for _, p := range paths {
			if p.Variable {
				take(p.Name, p.Span, "path")
				named++
			}
		}
	}
	if len(t.Args)+named > 0 {
		for _, v := range t.Env {
			take(v.Name, v.Span, "variable")
		}
	}
}

// scalar reads a text, a number or true or false, as text; false is empty.
func (d *decoder) scalar(e *toml.Entry) string {
	switch e.Value.Kind {
	case toml.KindText:
		return e.Value.Text
	case toml.KindInteger:
		n, _ := e.Value.Whole()
		return strconv.FormatInt(n, 10)
	case toml.KindFloat:
		return formatNumber(e.Value.Number())
	case toml.KindBool:
		if e.Value.Bool() {
			return "true"
		}
		return ""
	}
	d.report(d.at(e.Value.At), "", "%q must be a string, a number, true or false, not %s", e.Key, e.Value.Kind)
	return ""
}

func (d *decoder) number(e *toml.Entry) *float64 {
	switch e.Value.Kind {
	case toml.KindInteger:
		whole, _ := e.Value.Whole()
		n := float64(whole)
		return &n
	case toml.KindFloat:
		n := e.Value.Number()
		return &n
	}
	d.report(d.at(e.Value.At), "", "%q must be a number, not %s", e.Key, e.Value.Kind)
	return nil
}
