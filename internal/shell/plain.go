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

// What a word may give.
type fields int

const (
	manyFields fields = iota // any number of fields
	oneField                 // one, whatever the values are
	oneText                  // one: nothing is split or matched where it stands
)

func (f *plainForm) word(w *syntax.Word, gives fields) {
	if len(w.Parts) == 1 && isAllArgs(w.Parts[0]) {
		if gives != manyFields {
			f.found(w, `"$@" in one word`)
		}
		return
	}
	if gives == manyFields && mayHoldEmptyField(w) {
		f.found(w, "a value with and without quotes in one word")
	}
	for i, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.Lit:
			f.literal(w, p, i == 0, gives)
		case *syntax.SglQuoted:
			if p.Dollar {
				f.found(p, "$'…'")
			}
		case *syntax.DblQuoted:
			if p.Dollar {
				f.found(p, `$"…"`)
			}
			f.quoted(p.Parts)
		case *syntax.ParamExp:
			f.parameter(p, false)
			if gives == oneField {
				f.found(p, "a value without quotes here")
			}
		case *syntax.CmdSubst:
			f.substitution(p)
			if gives == oneField {
				f.found(p, "output without quotes here")
			}
		default:
			f.found(p, "%s", partName(p))
		}
	}
}

// mayHoldEmptyField reports whether a word has a part without quotes that is split into
// fields, and one in quotes that may be empty: one of the fields is empty then.
func mayHoldEmptyField(w *syntax.Word) bool {
	isSplit, mayBeEmpty := false, false
	for _, part := range w.Parts {
		switch p := part.(type) {
		case *syntax.ParamExp, *syntax.CmdSubst:
			isSplit = true
		case *syntax.SglQuoted:
			mayBeEmpty = mayBeEmpty || p.Value == ""
		case *syntax.DblQuoted:
			mayBeEmpty = mayBeEmpty || !slices.ContainsFunc(p.Parts, func(part syntax.WordPart) bool {
				_, isText := part.(*syntax.Lit)
				return isText
			})
		}
	}
	return isSplit && mayBeEmpty
}

func partName(part syntax.WordPart) string {
	switch part.(type) {
	case *syntax.ArithmExp:
		return "arithmetic"
	case *syntax.ProcSubst:
		return "<( ) or >( )"
	case *syntax.ExtGlob:
		return "an extended pattern"
	case *syntax.BraceExp:
		return "alternatives in { }"
	}
	return "a word of bash"
}

func isAllArgs(part syntax.WordPart) bool {
	quoted, ok := part.(*syntax.DblQuoted)
	if !ok || quoted.Dollar || len(quoted.Parts) != 1 {
		return false
	}
	p, ok := quoted.Parts[0].(*syntax.ParamExp)
	return ok && p.Short && p.Param.Value == "@"
}

// literal looks at a part without quotes.
func (f *plainForm) literal(w *syntax.Word, p *syntax.Lit, first bool, gives fields) {
	text := p.Value
	if whole, _ := literal(w); whole == "{}" || whole == "]" || whole == "[" {
		return
	}
	if strings.ContainsAny(text, "{}[]") {
		f.found(w, "{ } or [ ] without quotes")
	}
	if strings.ContainsAny(text, "*?") && gives == oneField {
		f.found(w, "a pattern here")
	}
	if strings.Contains(text, "\\\n") {
		f.found(w, "a word on two lines")
	}
	for i := range len(text) {
		if text[i] == '~' && (i == 0 && first || i > 0 && strings.IndexByte(":=", text[i-1]) >= 0) {
			f.found(w, "~")
		}
	}
}

// quoted looks at what stands between double quotes, or in a here-document.
func (f *plainForm) quoted(parts []syntax.WordPart) {
	for _, part := range parts {
		switch p := part.(type) {
		case *syntax.Lit:
			if strings.Contains(p.Value, "\\\n") {
				f.found(p, "a line that goes on behind \\")
			}
		case *syntax.ParamExp:
			f.parameter(p, true)
		case *syntax.CmdSubst:
			f.substitution(p)
		default:
			f.found(p, "%s", partName(p))
		}
	}
}

func (f *plainForm) substitution(p *syntax.CmdSubst) {
	f.substs = true
	piped, tried := f.piped, f.tried
	f.piped, f.tried = false, true // errexit is off in it
	defer func() { f.piped, f.tried = piped, tried }()
	switch {
	case p.Backquotes:
		f.found(p, "a command in `…`")
	case p.TempFile, p.ReplyVar:
		f.found(p, "${ …; }")
	case len(p.Stmts) == 0:
		f.found(p, "an empty $( )")
	}
	for _, s := range p.Stmts {
		if s.Cmd == nil {
			f.found(p, "$(<file)")
		}
	}
	f.statements(p.Stmts)
}

// plainDefault is a value in ${x:-value} that is the same with quotes around it or not.
var plainDefault = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_./:@%+,=-]*$`) })

// plainPattern is a pattern in ${x%pattern} with nothing but stars and letters.
var plainPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_./:@+,=*-]+$`) })

func (f *plainForm) parameter(p *syntax.ParamExp, quoted bool) {
	name := ""
	if p.Param != nil {
		name = p.Param.Value
	}
	switch {
	case p.Excl, p.Length, p.Width, p.IsSet, p.Index != nil, p.Slice != nil, p.Repl != nil, p.Names != 0, p.NestedParam != nil, p.Flags != nil, len(p.Modifiers) > 0:
		f.found(p, "${…} with more than a name")
		return
	case syntax.ValidName(name):
		if isSpecial(name) && !slices.Contains(readableNames, name) {
			f.found(p, "$%s", name)
		}
	case len(name) == 1 && strings.Contains("123456789#?", name):
		if name == "?" && f.asks == nil {
			f.asks = p
		}
		if p.Exp != nil {
			f.found(p, "${…} with more than a name")
		}
	default:
		f.found(p, "$%s", name)
	}
	if p.Exp == nil {
		return
	}
	text := ""
	if p.Exp.Word != nil {
		var fixed bool
		if text, fixed = literal(p.Exp.Word); !fixed {
			f.found(p, "${…} with more than letters in its second part")
			return
		}
	}
	switch p.Exp.Op {
	case syntax.AlternateUnset, syntax.AlternateUnsetOrNull, syntax.DefaultUnset, syntax.DefaultUnsetOrNull, syntax.ErrorUnset, syntax.ErrorUnsetOrNull:
		if !plainDefault().MatchString(text) {
			f.found(p, "${…} with more than letters in its second part")
		}
	case syntax.RemSmallPrefix, syntax.RemLargePrefix, syntax.RemSmallSuffix, syntax.RemLargeSuffix:
		if !quoted || !plainPattern().MatchString(text) {
			f.found(p, "${…} with such a pattern")
		}
	default:
		f.found(p, "${…%s…}", p.Exp.Op)
	}
}

// literal returns the text of a word that is one part without quotes and escapes.
func literal(w *syntax.Word) (text string, fixed bool) {
	if len(w.Parts) != 1 {
		return "", false
	}
	lit, ok := w.Parts[0].(*syntax.Lit)
	if !ok || strings.Contains(lit.Value, "\\") {
		return "", false
	}
	return lit.Value, true
}

// quotedLiteral returns the text of a word that holds nothing to expand.
func quotedLiteral(w *syntax.Word) (text string, fixed bool) {
	if text, fixed = literal(w); fixed {
		return text, true
	}
	if len(w.Parts) != 1 {
		return "", false
	}
	switch p := w.Parts[0].(type) {
	case *syntax.SglQuoted:
		return p.Value, !p.Dollar
	case *syntax.DblQuoted:
		if len(p.Parts) == 1 && !p.Dollar {
			if lit, ok := p.Parts[0].(*syntax.Lit); ok {
				return lit.Value, !strings.ContainsAny(lit.Value, "`$") && !strings.Contains(lit.Value, `\"`)
			}
		}
	}
	return "", false
}
