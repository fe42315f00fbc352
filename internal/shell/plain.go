package shell

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// Beyond is the first thing in a script that is beyond the plain form.
type Beyond struct {
	Stretch
	What string // such as "a loop"
}

// The plain form is what the built-in shell is proved to do as bash does: a random
// test holds the two against each other (plain_test.go). It is a list of what is
// allowed; whatever it does not name is beyond it. Only the text decides.
type plainForm struct {
	script string
	piped  bool        // what is looked at is a part of a pipeline
	tried  bool        // the script goes on, if what is looked at fails
	asks   syntax.Node // the first $?
	substs bool        // there is a $( )
	beyond *Beyond
}

// beyondPlain returns what in a script is beyond the plain form; nil: nothing is.
func beyondPlain(script string, file *syntax.File) *Beyond {
	f := &plainForm{script: script}
	if at := strings.IndexByte(script, '\r'); at >= 0 {
		return &Beyond{Stretch{at, 1}, "a carriage return"}
	}
	f.statements(file.Stmts)
	if f.asks != nil && f.substs {
		f.found(f.asks, "$? in a script with $( )")
	}
	return f.beyond
}

// found notes what is beyond the plain form, if nothing was found before. A node
// may be nil for what has no place of its own.
func (f *plainForm) found(node syntax.Node, format string, args ...any) {
	if f.beyond != nil {
		return
	}
	start, end := int(node.Pos().Offset()), min(int(node.End().Offset()), len(f.script))
	text := strings.TrimRight(f.script[start:end], " \t\n;")
	f.beyond = &Beyond{Stretch{start, len(text)}, fmt.Sprintf(format, args...)}
}

func (f *plainForm) statements(list []*syntax.Stmt) {
	for _, s := range list {
		f.statement(s)
	}
}

func (f *plainForm) statement(s *syntax.Stmt) {
	switch {
	case f.beyond != nil:
		return
	case s.Background, s.Coprocess, s.Disown:
		f.found(s, "a job in the background")
	}
	call, _ := s.Cmd.(*syntax.CallExpr)
	if call != nil && (s.Negated || f.piped) && len(call.Args) > 0 {
		if name, _ := literal(call.Args[0]); name == "exit" {
			f.found(s, "exit behind ! or in a pipeline")
		}
	}
	tried := f.tried
	f.tried = f.tried || s.Negated
	defer func() { f.tried = tried }()
	f.redirections(s, call)
	switch cmd := s.Cmd.(type) {
	case nil:
		if f.piped || s.Negated || len(s.Redirs) != 1 {
			f.found(s, "redirections without a command")
		}
	case *syntax.CallExpr:
		f.call(s, cmd)
	case *syntax.BinaryCmd:
		if cmd.Op == syntax.PipeAll {
			f.found(cmd, "|&")
		}
		outer := f.piped
		f.piped = f.piped || cmd.Op == syntax.Pipe
		f.tried = (f.tried || cmd.Op == syntax.AndStmt || cmd.Op == syntax.OrStmt) && !f.piped
		f.statement(cmd.X)
		f.tried = tried && !f.piped
		f.statement(cmd.Y)
		f.piped = outer
	default:
		f.found(cmd, "%s", commandName(cmd))
	}
}

// commandName says what a compound command is.
func commandName(cmd syntax.Command) string {
	switch c := cmd.(type) {
	case *syntax.IfClause:
		return "if"
	case *syntax.WhileClause, *syntax.ForClause:
		return "a loop"
	case *syntax.CaseClause:
		return "case"
	case *syntax.FuncDecl:
		return "a function"
	case *syntax.Subshell:
		return "a subshell in ( )"
	case *syntax.Block:
		return "a group in { }"
	case *syntax.ArithmCmd, *syntax.LetClause:
		return "arithmetic"
	case *syntax.TestClause:
		return "[[ ]]"
	case *syntax.DeclClause:
		return "the command " + c.Variant.Value
	}
	return "a command of bash"
}

// plainBuiltins are the commands of the shell itself that the plain form has.
var plainBuiltins = []string{"cd", "test", "[", "echo", "printf", "true", "false", ":", "pwd", "exit"}

// bashCommands are the commands of bash itself that are not in plainBuiltins.
var bashCommands = []string{
	".", "alias", "bg", "bind", "break", "builtin", "caller", "command", "compgen", "complete", "compopt", "continue", "declare", "dirs",
	"disown", "enable", "eval", "exec", "export", "fc", "fg", "getopts", "hash", "help", "history", "jobs", "kill", "let", "local", "logout",
	"mapfile", "popd", "pushd", "read", "readarray", "readonly", "return", "set", "shift", "shopt", "source", "suspend", "time", "times", "trap",
	"type", "typeset", "ulimit", "umask", "unalias", "unset", "wait", "coproc", "function", "select",
}

func (f *plainForm) call(s *syntax.Stmt, c *syntax.CallExpr) {
	for i, a := range c.Assigns {
		f.assignment(a)
		if len(c.Args) > 0 && slices.ContainsFunc(c.Assigns[:i], func(other *syntax.Assign) bool { return other.Name.Value == a.Name.Value }) {
			f.found(a, "two values for %s", a.Name.Value)
		}
	}
	if len(c.Args) == 0 {
		if len(s.Redirs) > 0 {
			f.found(s, "an assignment with a redirection")
		}
		return
	}
	name, fixed := literal(c.Args[0])
	switch {
	case !fixed || name == "":
		f.found(c.Args[0], "the name of a command that is not fixed")
	case slices.Contains(bashCommands, name) || interp.IsBuiltin(name) && !slices.Contains(plainBuiltins, name):
		f.found(c.Args[0], "the command %s", name)
	case slices.Contains(plainBuiltins, name):
		if len(c.Assigns) > 0 {
			f.found(c.Assigns[0], "a variable for %s alone", name)
		}
		f.builtin(name, c)
	}
	for _, arg := range c.Args[1:] {
		f.word(arg, manyFields)
	}
}

// builtin looks at the arguments of a command of the shell itself.
func (f *plainForm) builtin(name string, c *syntax.CallExpr) {
	args := c.Args[1:]
	switch name {
	case "test", "[":
		f.test(name, c)
	case "printf":
		f.printf(c)
	case "pwd":
		if len(args) > 0 {
			f.found(args[0], "an argument of pwd")
		}
	case "cd":
		if len(args) != 1 {
			f.found(c, "cd without one folder")
			return
		}
		f.word(args[0], oneField)
		if text, _ := literal(args[0]); strings.HasPrefix(text, "-") {
			f.found(args[0], "cd %s", text)
		}
	case "exit":
		if len(args) > 1 {
			f.found(c, "exit with several arguments")
		} else if len(args) == 1 {
			if text, fixed := literal(args[0]); !fixed || !exitCode().MatchString(text) {
				f.found(args[0], "an exit code that is not fixed")
			}
		}
	}
}

var exitCode = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[0-9]{1,2}$`) })

// plainFormat is a format of printf that the library fills as bash does.
var plainFormat = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^([^%\\]|%%|%s|\\[nt\\])*$`) })

func (f *plainForm) printf(c *syntax.CallExpr) {
	if len(c.Args) < 2 {
		f.found(c, "printf without a format")
		return
	}
	format, fixed := quotedLiteral(c.Args[1])
	if !fixed || strings.HasPrefix(format, "-") || !plainFormat().MatchString(format) {
		f.found(c.Args[1], "a format of printf with more than %%s, \\n and \\t")
	}
}

// Which operators of test the plain form has.
var (
	unaryTests  = []string{"-e", "-f", "-d", "-s", "-L", "-h", "-r", "-w", "-x", "-n", "-z"}
	binaryTests = []string{"=", "==", "!=", "-eq", "-ne", "-lt", "-le", "-gt", "-ge"}
)

// test looks at a test: with up to four arguments, of one field each, and operators
// that are fixed, POSIX says what it means.
func (f *plainForm) test(name string, c *syntax.CallExpr) {
	args := c.Args[1:]
	if name == "[" {
		if last, _ := literal(args[max(0, len(args)-1)]); len(args) == 0 || last != "]" {
			f.found(c, "[ without ]")
			return
		}
		args = args[:len(args)-1]
	}
	for _, arg := range args {
		f.word(arg, oneField)
	}
	is := func(at int, texts ...string) bool {
		text, fixed := literal(args[at])
		return fixed && slices.Contains(texts, text)
	}
	if len(args) > 1 && is(0, "!") {
		args = args[1:]
	}
	good := false
	switch len(args) {
	case 1:
		good = !is(0, "!")
	case 2:
		good = is(0, unaryTests...)
	case 3:
		good = is(1, binaryTests...)
	}
	if !good {
		f.found(c, "a test with other operators than one of %s", strings.Join(append(slices.Clone(unaryTests), binaryTests...), " "))
	}
}

func (f *plainForm) assignment(a *syntax.Assign) {
	switch {
	case a.Name == nil || a.Naked || a.Append || a.Index != nil || a.Array != nil:
		f.found(a, "an array, or +=")
		return
	case isSpecial(a.Name.Value):
		f.found(a, "a value for %s", a.Name.Value)
	}
	if a.Value == nil {
		return
	}
	f.word(a.Value, oneText)
	for _, part := range a.Value.Parts {
		if lit, ok := part.(*syntax.Lit); ok && strings.Contains(lit.Value, "\\") {
			f.found(a, "a value with \\ without quotes")
		}
	}
}

// specialNames are the variables with a meaning to bash.
var specialNames = []string{
	"PATH", "HOME", "PWD", "OLDPWD", "IFS", "LANG", "LINENO", "RANDOM", "SRANDOM", "SECONDS", "EPOCHSECONDS", "EPOCHREALTIME", "PPID", "UID", "EUID",
	"GROUPS", "HOSTNAME", "HOSTTYPE", "MACHTYPE", "OSTYPE", "OPTARG", "OPTIND", "OPTERR", "PIPESTATUS", "FUNCNAME", "DIRSTACK", "REPLY", "MAPFILE",
	"SHELLOPTS", "SHLVL", "ENV", "CDPATH", "GLOBIGNORE", "POSIXLY_CORRECT", "PS1", "PS2", "PS3", "PS4", "TIMEFORMAT", "TMOUT", "EXECIGNORE", "FIGNORE",
	"FUNCNEST", "COLUMNS", "LINES", "TEXTDOMAIN", "TEXTDOMAINDIR", "MAIL", "MAILCHECK", "MAILPATH", "PROMPT_COMMAND", "PROMPT_DIRTRIM", "IGNOREEOF",
	"INPUTRC", "INSIDE_EMACS", "EMACS", "auto_resume", "histchars", "_", "COPROC", "CHILD_MAX", "BASHOPTS", "TERM", "UNSET",
}

func isSpecial(name string) bool {
	for _, prefix := range []string{"BASH", "LC_", "COMP_", "HIST", "READLINE_"} {
		if strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return slices.Contains(specialNames, name)
}

// readableNames are those of specialNames that may be read: the caller or Tugline sets
// them, and bash leaves them as they are.
var readableNames = []string{"PATH", "HOME", "PWD", "LANG", "TERM"}

func (f *plainForm) redirections(s *syntax.Stmt, call *syntax.CallExpr) {
	if len(s.Redirs) > 0 && call == nil && s.Cmd != nil {
		f.found(s.Redirs[0], "a redirection of more than one command")
	}
	seen := map[string]bool{}
	for _, r := range s.Redirs {
		stream := ""
		switch r.Op {
		case syntax.RdrIn, syntax.Hdoc:
			stream = "0"
		case syntax.RdrOut, syntax.AppOut, syntax.DplOut:
			stream = "1"
		default:
			f.found(r, "the redirection %s", r.Op)
			return
		}
		if r.N != nil {
			if (r.N.Value == "0") != (stream == "0") || !slices.Contains([]string{"0", "1", "2"}, r.N.Value) {
				f.found(r, "a redirection of %s", r.N.Value)
				return
			}
			stream = r.N.Value
		}
		if seen[stream] {
			f.found(r, "two redirections of the same stream")
		}
		seen[stream] = true
		switch {
		case r.Op == syntax.DplOut:
			if text, _ := literal(r.Word); text != "1" && text != "2" {
				f.found(r, "a copy of another stream than 1 or 2")
			}
		case r.Hdoc != nil:
			f.quoted(r.Hdoc.Parts)
			if f.tried && slices.ContainsFunc(r.Hdoc.Parts, func(part syntax.WordPart) bool { _, isText := part.(*syntax.Lit); return !isText }) {
				f.found(r, "a here-document with values, of a command that may fail")
			}
		default:
			f.word(r.Word, oneField)
			if _, fixed := quotedLiteral(r.Word); !fixed && f.tried {
				f.found(r, "a file that is not fixed, of a command that may fail")
			}
		}
	}
}
