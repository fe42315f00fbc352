package shell

import (
	"context"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/interp"
)

// simpleFormat is a format of printf that the library fills as bash does.
var simpleFormat = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^([^%\\]|%%|%-?[0-9]*[sb]|%c|%-?[0-9]*[diuox]|\\[abefnrtv\\"'?]|\\[0-7]{1,3}|\\x[0-9a-fA-F]{1,2})*$`)
})

// numberVerb is a verb of printf that takes a number.
var numberVerb = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`%-?[0-9]*[diuox]`) })

// plainNumber is an argument of %d that needs no second look.
var plainNumber = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^-?([1-9][0-9]{0,17}|0)$`) })

// substitute returns what to call in place of args: the system's own program
// where the library's built-in command would do something else than bash.
func (b *builtin) substitute(ctx context.Context, args []string) ([]string, error) {
	hc := interp.HandlerCtx(ctx)
	if args[0] == "echo" || args[0] == "printf" {
		if file, ok := hc.Stdout.(*os.File); ok && readerGone(file) {
			return []string{"exit", "0"}, nil // a program would be ended by SIGPIPE here
		}
	}
	switch args[0] {
	case "eval", "source", ".", "trap":
		return b.late(hc, args)
	case "echo":
		return b.echo(args), nil
	case "type":
		if len(args) == 3 && args[1] == "-p" {
			return typePath(hc, args[2]), nil
		}
	case "kill":
		return program(ctx, args)
	case "printf":
		if len(args) > 1 && !plainPrintf(args[1], args[2:]) {
			return program(ctx, args)
		}
	case "[", "test":
		operands := args[1:]
		closed := args[0] == "test"
		if !closed && len(operands) > 0 && operands[len(operands)-1] == "]" {
			operands, closed = operands[:len(operands)-1], true
		}
		if closed && isPlainTest(operands) {
			code, err := evalTest(operands, hc.Dir)
			if err != nil {
				fmt.Fprintf(hc.Stderr, "%s: %v\n", args[0], err) // a stream that is gone is no reason to fail otherwise
			}
			return []string{statusCommand, strconv.Itoa(code)}, nil
		}
		if comparesNoNumbers(args) {
			return program(ctx, args)
		}
	}
	return args, nil
}

// statusCommand ends with the exit code that is its argument, and does nothing.
const statusCommand = "tugline-status"

// typePath returns what to call in place of "type -p NAME": it prints the path of a program.
func typePath(hc interp.HandlerContext, name string) []string {
	if interp.IsBuiltin(name) {
		return []string{statusCommand, "0"}
	}
	path, err := interp.LookPathDir(hc.Dir, hc.Env, name)
	if err != nil {
		return []string{statusCommand, "1"}
	}
	return []string{"printf", "%s\n", path}
}

// echo returns a printf for an echo: that prints its line in one write, as bash does, so
// that the lines of two tasks in one file are not torn.
func (b *builtin) echo(args []string) []string {
	for _, own := range []string{"echo()", "echo ()", "function echo", "printf()", "printf ()", "function printf"} {
		if strings.Contains(b.cmd.Script, own) {
			return args
		}
	}
	return []string{"printf", "%s", echoText(args[1:])}
}

// comparesNoNumbers reports whether a test compares as numbers what are none,
// which the library takes for 0.
func comparesNoNumbers(args []string) bool {
	for i, arg := range args {
		switch arg {
		case "-eq", "-ne", "-lt", "-le", "-gt", "-ge":
			if i > 1 && i+1 < len(args) && (!plainNumber().MatchString(args[i-1]) || !plainNumber().MatchString(args[i+1])) {
				return true
			}
		}
	}
	return false
}

// plainPrintf reports whether the library's printf does the same as bash's.
func plainPrintf(format string, args []string) bool {
	if !simpleFormat().MatchString(format) {
		return false
	}
	if numberVerb().MatchString(format) {
		for _, arg := range args {
			if !plainNumber().MatchString(arg) {
				return false
			}
		}
	}
	return !strings.Contains(format, "%c") || !containsEmpty(args)
}

func containsEmpty(args []string) bool {
	for _, arg := range args {
		if arg == "" {
			return true
		}
	}
	return len(args) == 0
}

// program returns args with the path of the program in place of its name.
func program(ctx context.Context, args []string) ([]string, error) {
	hc := interp.HandlerCtx(ctx)
	path, err := interp.LookPathDir(hc.Dir, hc.Env, args[0])
	if err != nil {
		return args, nil // then the library's own is better than none
	}
	return append([]string{path}, args[1:]...), nil
}
