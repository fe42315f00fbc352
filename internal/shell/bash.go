package shell

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/syntax"
)

// A script that bash runs is as well served as one of the built-in shell. bash is given
// the script with additions that change nothing in what it does:
//
//   - Before each statement at the top a printf writes the mark of package stream into the
//     pipe of the output, through a descriptor of its own, so the order is exact.
//   - A trap on ERR writes into a scratch file which command failed, and in which line it
//     stands; before an exit with a code that is told, too. Nothing is told of commands
//     that end well, so they take no longer. A trap on EXIT would tell more, but with it
//     bash takes note of signals by itself, and a program that is just being started may
//     miss one. No line is added: bash counts them, and gives up a line in which an
//     expression cannot be evaluated.
//   - A stage of a pipeline that writes to a pipe which nobody reads any more ends well,
//     and each stage but the last tells its exit code as it ends.
//
// What looks at its own trace, line numbers or traps of this kind is left alone.

// IsBash reports whether an interpreter from [Interpreter] is bash with no options but
// those that make it strict.
func IsBash(args []string) bool {
	return len(args) == 4 && strings.TrimSuffix(filepath.Base(args[0]), ".exe") == "bash" && args[1] == "-eu"
}

// BashAccepts reports whether bash can parse a script. It runs nothing of it.
func BashAccepts(ctx context.Context, bash, script string) bool {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return exec.CommandContext(ctx, bash, "--norc", "--noprofile", "-n", "-c", script).Run() == nil
}

// BashVersion returns the version of the bash at a path; empty if it does not tell.
func BashVersion(ctx context.Context, bash string) string {
	text, _ := exec.CommandContext(ctx, bash, "--norc", "--noprofile", "-c", `echo "$BASH_VERSION"`).Output() // then it is not told
	return strings.TrimSpace(string(text))
}

// looksAtItself finds what would see the additions.
var looksAtItself = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?s)\bset\s+[-+]o\s+(xtrace|verbose|noexec)|SHELLOPTS|BASH_|PS4|LINENO|\bcaller\b|\bset\s+[-+][a-zA-Z]*[xvT]|\$-|\$\{-|functrace|\btrap\b.*\b(DEBUG|RETURN)\b|\bset\s*([;\n]|$)|\bset\s+-[a-zA-Z]*n`)
})

// trapsErrors finds a trap of the script's own on ERR.
var trapsErrors = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?s)\btrap\b.*\bERR\b`) })

// looksBack finds what would see the exit code of an addition.
var looksBack = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$\?|\$\{\?|PIPESTATUS|\$_\b|\$\{_\}`) })

// bashScript is a script with the additions.
type bashScript struct {
	script  string // as it is written
	text    string
	first   Stretch     // its first statement
	places  []bashPlace // in their order
	stages  []bashStage
	unknown []Stretch // references to variables that nobody sets
	marked  bool      // it has marks
	waits   bool      // and waits behind them
}

// bashPlace is where a command begins.
type bashPlace struct {
	line, last int // from 1: the first one and the last
	Stretch        // in the script as it is written
}

// bashStage is a stage of a pipeline, and the pipeline.
type bashStage struct {
	Stretch
	pipeline Stretch
}

// traceToken begins a line of the trace. No script holds it by chance.
var traceToken = sync.OnceValue(func() string { return hex.EncodeToString(token()[1:]) })

// forBash returns the text that bash is given for a script. The descriptors 3 and 4 are
// those for marks, if statements are to be told of, and for the trace. If what is printed
// goes past the stream (direct), bash waits behind a mark until it reads a line from
// descriptor 5: it is told of then. ok is false for a script that is left alone.
func forBash(script string, env []string, told, direct bool) (b *bashScript, ok bool) {
	if looksAtItself().MatchString(script) {
		return nil, false
	}
	parser := parsers.Get().(*syntax.Parser)
	defer parsers.Put(parser)
	file, err := parser.Parse(strings.NewReader(script), "")
	if err != nil || len(file.Stmts) == 0 {
		return nil, false
	}
	e := &bashEditor{script: script, program: &Program{script: script}}
	b = &bashScript{script: script, first: e.program.span(file.Stmts[0])}
	if told && !looksBack().MatchString(script) {
		b.marked, b.waits = true, direct
		for _, s := range file.Stmts {
			if _, isFunction := s.Cmd.(*syntax.FuncDecl); !isFunction {
				e.insert(int(s.Pos().Offset()), markText(e.program.span(s), b.waits))
			}
		}
	}
	e.walk(file, !looksBack().MatchString(script))
	b.stages, b.unknown = e.stages, unknownVariables(file, env)
	b.text, b.places = e.text(b.waits), e.places
	return b, true
}

// The descriptors to which bash writes; scripts have others.
const (
	goOnBy  = "197"
	marksTo = "198"
	traceTo = "199"
)

// preamble is put before a script, on its first line.
func preamble(script string, waits bool) string {
	text := "exec " + marksTo + ">&3 " + traceTo + ">&4 3>&- 4>&-; "
	if waits {
		text += "exec " + goOnBy + "<&5 5<&-; "
	}
	if !trapsErrors().MatchString(script) {
		text += `set -E; trap 'tugline_code=$?; tugline_line=$LINENO; case ${BASH_SOURCE-} in ""|"$0"|environment) ;; *) tugline_line=${BASH_LINENO[0]};; esac; ` +
			tell("e", "$tugline_line $BASH_SUBSHELL $tugline_code ${BASH_COMMAND:0:200}") + "' ERR; "
	}
	return text
}

// tell returns a command that writes an event of a kind with some words into the trace.
func tell(kind, words string) string {
	return `builtin printf "\006` + traceToken() + kind + `%s\006" "` + words + `" >&` + traceTo + " 2>/dev/null || :"
}

// markText returns a command that writes a mark, and what began into the trace, too: the
// mark may not have been read yet when the script fails.
func markText(where Stretch, waits bool) string {
	m := append(make([]byte, 0, markSize), token()...)
	m = binary.BigEndian.AppendUint32(m, uint32(where.Offset))
	m = binary.BigEndian.AppendUint32(m, uint32(where.Length))
	var b strings.Builder
	b.WriteString("builtin printf '")
	for _, c := range m {
		fmt.Fprintf(&b, `\%03o`, c)
	}
	b.WriteString("' >&" + marksTo + " 2>/dev/null")
	if waits {
		b.WriteString(" && builtin read -r -u " + goOnBy + " tugline_ack")
	}
	return b.String() + " || :; " + tell("b", fmt.Sprintf("%d %d", where.Offset, where.Length)) + "; "
}

// bashEditor adds to a script.
type bashEditor struct {
	script  string
	program *Program
	inserts []insertion
	places  []bashPlace
	stages  []bashStage
}

type insertion struct {
	at   int
	text string
	ends bool // it ends what another one began
}

func (e *bashEditor) insert(at int, text string) {
	e.inserts = append(e.inserts, insertion{at, text, false})
}

// around puts a text before a stretch, and another one behind it.
func (e *bashEditor) around(where Stretch, before, behind string) {
	e.insert(where.Offset, before)
	e.inserts = append(e.inserts, insertion{where.Offset + where.Length, behind, true})
}

// sorted returns what is to be inserted in the order of the text. What was put around
// another stretch first ends last.
func (e *bashEditor) sorted() []insertion {
	ends := slices.DeleteFunc(slices.Clone(e.inserts), func(in insertion) bool { return !in.ends })
	slices.Reverse(ends)
	all := append(ends, slices.DeleteFunc(e.inserts, func(in insertion) bool { return in.ends })...)
	slices.SortStableFunc(all, func(a, b insertion) int { return a.at - b.at })
	return all
}

// walk finds the commands and the pipelines.
func (e *bashEditor) walk(file *syntax.File, pipes bool) {
	syntax.Walk(file, func(node syntax.Node) bool {
		switch n := node.(type) {
		case *syntax.CmdSubst:
			return !n.Backquotes
		case *syntax.Stmt:
			e.statement(n)
			if pipe, ok := n.Cmd.(*syntax.BinaryCmd); ok && pipe.Op == syntax.Pipe && pipes {
				e.pipeline(pipe)
			}
		}
		return true
	})
}

// statement notes where a command stands.
func (e *bashEditor) statement(s *syntax.Stmt) {
	switch s.Cmd.(type) {
	case *syntax.CallExpr, *syntax.TestClause, *syntax.ArithmCmd, *syntax.DeclClause, *syntax.LetClause, *syntax.ForClause, *syntax.CaseClause:
	default:
		return
	}
	e.places = append(e.places, bashPlace{Stretch: e.program.span(s), line: int(s.Pos().Line()), last: int(s.End().Line())})
	if call, ok := s.Cmd.(*syntax.CallExpr); ok && len(call.Args) == 2 && len(call.Assigns) == 0 && !s.Negated {
		name, _ := literal(call.Args[0])
		if code, fixed := literal(call.Args[1]); name == "exit" && fixed && exitCode().MatchString(code) { // it does not look at $?
			where := e.program.span(s)
			e.around(where, "{ "+tell("x", fmt.Sprintf("%d $BASH_SUBSHELL %s", where.Offset, code))+"; ", "; }")
		}
	}
}

// pipeline has all stages but the last tell how they end, and end well if that was because
// nobody reads them any more. The stages of "a | b | c" are met from the right: it is
// parsed as "(a | b) | c", of which X ends with the stage before the last.
func (e *bashEditor) pipeline(pipe *syntax.BinaryCmd) {
	if _, isPipe := pipe.Y.Cmd.(*syntax.BinaryCmd); isPipe {
		return // it is grouped in another way than the library does it
	}
	whole := Stretch{int(pipe.Pos().Offset()), int(pipe.End().Offset()) - int(pipe.Pos().Offset())}
	e.stages = append(e.stages, bashStage{e.program.span(pipe.Y), whole})
	x := pipe.X
	if inner, ok := x.Cmd.(*syntax.BinaryCmd); ok && inner.Op == syntax.Pipe {
		x = inner.Y // inner.X is met later
	}
	if x.Negated || hasHereDocument(x) {
		return
	}
	where := e.program.span(x)
	e.stages = append(e.stages, bashStage{where, whole})
	open, end := "( ", " )"
	if call, ok := x.Cmd.(*syntax.CallExpr); ok && len(call.Args) > 0 {
		if name, fixed := literal(call.Args[0]); fixed && !slices.Contains(bashCommands, name) && !slices.Contains(plainBuiltins, name) && !e.isFunction(name) {
			open, end = "", "" // most likely a program: a subshell more is not needed to outlive it
		}
	}
	e.around(where, fmt.Sprintf("{ trap 'tugline_code=$?; %s; case $tugline_code in 141) exit 0;; esac' EXIT; %s", tell("s", fmt.Sprintf("%d $tugline_code", where.Offset)), open), end+"; }")
}

// isFunction reports whether the script may define a function of a name.
func (e *bashEditor) isFunction(name string) bool {
	return regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\s*\(\s*\)|\bfunction\s+` + regexp.QuoteMeta(name) + `\b`).MatchString(e.script)
}

// hasHereDocument reports whether a here-document begins in a statement.
func hasHereDocument(s *syntax.Stmt) bool {
	has := false
	syntax.Walk(s, func(node syntax.Node) bool {
		r, ok := node.(*syntax.Redirect)
		has = has || ok && r.Hdoc != nil
		return !has
	})
	return has
}

// text returns the script with what was added.
func (e *bashEditor) text(waits bool) string {
	var text strings.Builder
	text.WriteString(preamble(e.script, waits))
	from := 0
	for _, in := range e.sorted() {
		text.WriteString(e.script[from:in.at])
		text.WriteString(in.text)
		from = in.at
	}
	text.WriteString(e.script[from:])
	return text.String()
}

// at returns the command that stands in a line and has some letters, or else the
// innermost one that does. Of several it is one within a stretch, if there is one.
func (b *bashScript) at(line int, letters string, within Stretch) (where Stretch, ok bool) {
	best := -1
	for _, p := range b.places {
		if line < p.line || p.last < line {
			continue
		}
		rank := 0
		if alike(b.lettersAt(p.Stretch), letters) {
			rank += 4
		}
		if within.Offset <= p.Offset && p.Offset < within.Offset+within.Length {
			rank += 2
		}
		if p.line == line {
			rank++
		}
		if rank > best || rank == best && p.Offset < where.Offset+where.Length && rank < 4 {
			where, ok, best = p.Stretch, true, rank
		}
	}
	return where, ok
}

// unknownVariables returns the references in a script to variables that neither it nor env
// sets, as far as that can be seen.
func unknownVariables(file *syntax.File, env []string) []Stretch {
	known := map[string]bool{}
	for _, pair := range env {
		name, _, _ := strings.Cut(pair, "=")
		known[name] = true
	}
	syntax.Walk(file, func(node syntax.Node) bool {
		switch n := node.(type) {
		case *syntax.Assign:
			if n.Name != nil {
				known[n.Name.Value] = true
			}
		case *syntax.WordIter:
			known[n.Name.Value] = true
		case *syntax.CallExpr: // read, getopts and the like set what they name
			for _, arg := range n.Args[min(1, len(n.Args)):] {
				known[arg.Lit()] = true
			}
		}
		return true
	})
	var unknown []Stretch
	syntax.Walk(file, func(node syntax.Node) bool {
		if p, ok := node.(*syntax.ParamExp); ok && p.Param != nil && p.Exp == nil && syntax.ValidName(p.Param.Value) && !isSpecial(p.Param.Value) && !known[p.Param.Value] {
			unknown = append(unknown, Stretch{int(p.Pos().Offset()), int(p.End().Offset()) - int(p.Pos().Offset())})
		}
		return true
	})
	return unknown
}

// alike reports whether two commands may be the same, of which only the beginning may be known.
func alike(a, b string) bool {
	return a != "" && b != "" && (strings.HasPrefix(a, b) || strings.HasPrefix(b, a))
}

// lettersOf returns the letters and digits of a command: bash writes it with other
// spaces and quotes.
func lettersOf(command string) string {
	return strings.Map(func(c rune) rune {
		if c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' {
			return c
		}
		return -1
	}, command)
}

func (b *bashScript) lettersAt(where Stretch) string {
	return lettersOf(b.script[where.Offset : where.Offset+where.Length])
}

// beginningAt returns the command that begins at an offset.
func (b *bashScript) beginningAt(offset int) (Stretch, bool) {
	for _, p := range b.places {
		if p.Offset == offset {
			return p.Stretch, true
		}
	}
	return Stretch{}, false
}

// unset returns the first command, within a stretch if it has a length, that refers to a
// variable which neither the script nor its environment sets: bash leaves it without
// telling an ERR trap.
func (b *bashScript) unset(within Stretch) (Stretch, bool) {
	for _, r := range b.unknown {
		if within.Length > 0 && (r.Offset < within.Offset || within.Offset+within.Length <= r.Offset) {
			continue
		}
		for _, p := range slices.Backward(b.places) { // the innermost
			if p.Offset <= r.Offset && r.Offset < p.Offset+p.Length {
				return p.Stretch, true
			}
		}
	}
	return Stretch{}, false
}
