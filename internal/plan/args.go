package plan

import (
	"fmt"
	"slices"
	"strings"

	"tugline/internal/glob"
	"tugline/internal/project"
)

// arguments are the values of one call.
type arguments struct {
	given  []given             // in the order of the call
	picks  []given             // values of each that choose some instances: several, or globs
	values map[string][]string // by name, also of those that are not given
	rest   []string
}

type given struct{ name, value string }

// values fills in the words of c from the caller's variables.
func (b *builder) values(t *project.Task, c project.Call, caller *scope) arguments {
	args := arguments{}
	if len(t.Args) == 0 {
		return args
	}
	args.values = make(map[string][]string, len(t.Args))
	for _, ca := range c.Args {
		a := t.Arg(ca.Name)
		if a == nil {
			continue // reported by CheckCall
		}
		value := b.word(ca.Value, caller)
		if _, fixed := ca.Value.Fixed(); !fixed {
			if err := a.Check(value); err != nil {
				b.report(ca.Value, fmt.Sprintf("--%s of task %q %v", a.Name, t.Name, err))
			}
		}
		if a.Type == project.ArgFlag && value == "false" {
			value = ""
		}
		args.given = append(args.given, given{a.Name, value})
		args.values[a.Name] = append(args.values[a.Name], value)
	}
	for _, a := range t.Args {
		if _, ok := args.values[a.Name]; !ok && !a.Rest && (a.HasDefault || a.Type == project.ArgFlag) {
			args.values[a.Name] = []string{a.Default}
		}
	}
	b.pick(t, &args)
	for _, w := range c.Rest {
		if w.AllWords() {
			args.rest = append(args.rest, caller.rest...)
			continue
		}
		args.rest = append(args.rest, b.word(w, caller))
	}
	return args
}

// pick takes out what chooses among the instances of t: several values of one argument, or
// a glob.
func (b *builder) pick(t *project.Task, args *arguments) {
	for _, a := range t.Args {
		values := args.values[a.Name]
		if a.Each == nil || len(values) == 0 || len(values) == 1 && !b.isPattern(t, a.Each, values[0]) {
			continue
		}
		for _, value := range values {
			args.picks = append(args.picks, given{a.Name, value})
		}
		delete(args.values, a.Name)
		args.given = slices.DeleteFunc(args.given, func(g given) bool { return g.name == a.Name })
	}
}

// isPattern reports whether a value of each is a glob, and not one that the list has.
func (b *builder) isPattern(t *project.Task, list *project.List, value string) bool {
	return strings.ContainsAny(value, "*?[{") && (b.unknown(list, t) || !slices.Contains(b.listed(list), value))
}

// picked returns those of the values of an argument that are chosen: all, if none is.
func (a arguments) picked(name string, values []string) []string {
	var picks []string
	for _, p := range a.picks {
		if p.name == name {
			picks = append(picks, p.value)
		}
	}
	if len(picks) == 0 {
		return values
	}
	return slices.DeleteFunc(slices.Clone(values), func(value string) bool {
		return !slices.ContainsFunc(picks, func(pick string) bool { return isPicked(pick, value) })
	})
}

// isPicked reports whether a value is the one that a pick names, or one that it means.
func isPicked(pick, value string) bool {
	if pick == value {
		return true
	}
	set, err := glob.Compile([]glob.Pattern{{Text: pick}})
	return err == nil && set.Match(value)
}

func (b *builder) word(w project.CallWord, caller *scope) string {
	caller.resolve()
	value, err := w.Expand(caller.value)
	if err != nil {
		b.report(w, err.Error())
	}
	return value
}

func (b *builder) report(w project.CallWord, msg string) {
	d := project.Diagnostic{Span: w.At(), Msg: msg}
	for _, late := range []string{"TUGLINE_FAILED_TASK", "TUGLINE_EXIT_CODE", "TUGLINE_FAILED_LOG", "TUGLINE_FAILED_CALLS"} {
		if strings.Contains(msg, late) {
			d.Hint = "it is known when a task has failed, and to commands alone: refer to it there"
		}
	}
	b.found = append(b.found, d)
}

// key tells calls of one task apart.
func (a arguments) key() string {
	if len(a.values) == 0 && len(a.rest) == 0 && len(a.picks) == 0 {
		return ""
	}
	if len(a.picks) > 0 {
		return fmt.Sprintf("%q %q %q", a.values, a.rest, a.picks)
	}
	return fmt.Sprintf("%q %q", a.values, a.rest) // maps are printed in the order of their keys
}

// name returns the call as it is shown: the task, and what was given, in the
// order in which the task declares its arguments.
func (a arguments) name(t *project.Task, c project.Call) string {
	if len(a.given)+len(a.picks)+len(a.rest) == 0 {
		return t.Name
	}
	words := []string{t.Name}
	for _, arg := range t.Args {
		for _, g := range slices.Concat(a.given, a.picks) {
			switch {
			case g.name != arg.Name:
			case arg.Type != project.ArgFlag:
				words = append(words, "--"+g.name, Quote(g.value))
			case g.value == "true":
				words = append(words, "--"+g.name)
			}
		}
	}
	if len(a.rest) > 0 {
		words = append(words, "--")
	}
	for _, w := range a.rest {
		words = append(words, Quote(w))
	}
	return strings.Join(words, " ")
}

// CallName returns how a call of t is shown.
func CallName(t *project.Task, c project.Call) string {
	args := arguments{}
	for _, ca := range c.Args {
		value, _ := ca.Value.Fixed()
		args.given = append(args.given, given{ca.Name, value})
	}
	for _, w := range c.Rest {
		value, _ := w.Fixed()
		args.rest = append(args.rest, value)
	}
	return args.name(t, c)
}

// Quote writes a word as it may stand in a call, or in a POSIX shell.
func Quote(word string) string {
	plain := strings.IndexFunc(word, func(r rune) bool {
		return !strings.ContainsRune("@%+=:,./_-", r) && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') && r < 0x80
	}) < 0
	if plain && word != "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// variables returns the arguments as variables of the task.
func (a arguments) variables(t *project.Task) []project.Var {
	vars := make([]project.Var, 0, len(t.Args))
	for _, arg := range t.Args {
		if values, ok := a.values[arg.Name]; ok {
			vars = append(vars, project.FixedVar(arg.Variable(), strings.Join(values, "\n")))
		}
	}
	return vars
}
