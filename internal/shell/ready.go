package shell

import (
	"context"
	"errors"
)

// Ready is a script that is ready to run: in the built-in shell, or in another one.
type Ready struct {
	Program *Program // for the built-in shell; or:
	Args    []string // the interpreter, with its arguments
	Beyond  *Beyond  // why it is not one in plain form; nil: it is, or that does not matter
}

// Examined is a script that has been parsed. What runs it is found by Choose.
type Examined struct {
	program  *Program
	beyond   *Beyond
	problems []Problem
}

// Examine parses a script for which the text decides between the built-in shell and bash.
func Examine(script string) Examined {
	program, beyond, problems := ParsePlain(script)
	return Examined{program, beyond, problems}
}

// InBuiltin reports whether the script is in plain form, so that the built-in shell runs it.
func (e Examined) InBuiltin() bool { return e.program != nil }

// Choose returns what runs a script that was examined: the built-in shell if it is in
// plain form, else bash, and where that is not installed the built-in shell again. The
// problems say why none can.
func (e Examined) Choose(ctx context.Context, script string, lookPath func(string) (string, error)) (Ready, []Problem) {
	if e.program != nil {
		return Ready{Program: e.program}, nil
	}
	bash, err := Interpreter(script, []string{"bash"}, lookPath)
	switch {
	case err == nil && len(e.problems) == 0, err == nil && BashAccepts(ctx, bash[0], script):
		return Ready{Args: bash, Beyond: e.beyond}, nil
	case err == nil:
		return Ready{}, e.problems
	}
	program, problems := Parse(script)
	for i := range problems {
		if problems[i].Hint == useBash {
			problems[i].Hint = "install bash, which runs it, or write it in plain shell"
		}
	}
	return Ready{Program: program, Beyond: e.beyond}, problems
}

// SayWhereParsed looks at why the built-in shell cannot run a script that it was told to
// run. If the script cannot be parsed, the hint says whether bash can parse it.
func SayWhereParsed(ctx context.Context, script string, problems []Problem, lookPath func(string) (string, error)) {
	if len(problems) == 0 || !problems[0].Syntax {
		return
	}
	bash, err := Interpreter(script, []string{"bash"}, lookPath)
	switch {
	case err != nil: // nobody can tell
	case BashAccepts(ctx, bash[0], script):
		problems[0].Hint = `bash accepts this: use shell = "bash" for this task`
	default:
		problems[0].Hint = "bash does not accept it, either"
	}
}

// Prepare makes a script ready for which the text decides, or the interpreter that its
// first line names.
func Prepare(ctx context.Context, script string, lookPath func(string) (string, error)) (Ready, error) {
	args, err := Interpreter(script, nil, lookPath)
	if args != nil || err != nil {
		return Ready{Args: args}, err
	}
	ready, problems := Examine(script).Choose(ctx, script, lookPath)
	if len(problems) > 0 {
		return ready, errors.New(problems[0].Msg)
	}
	return ready, nil
}
