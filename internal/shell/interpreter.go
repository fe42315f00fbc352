package shell

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Interpreter returns the program, with its arguments, that is to run script:
// the one its first line names behind #!, else shell. None means the built-in
// shell. lookPath finds a program by name. An interpreter that is not there
// is an error.
//
// As the system does it, what follows the program in a #! line is one argument.
func Interpreter(script string, shell []string, lookPath func(string) (string, error)) ([]string, error) {
	args := slices.Clone(shell)
	line, found := strings.CutPrefix(script, "#!")
	if found {
		line, _, _ = strings.Cut(line, "\n")
		program, argument, _ := strings.Cut(strings.TrimSpace(line), " ")
		args = []string{program}
		if argument = strings.TrimSpace(argument); argument != "" {
			args = append(args, argument)
		}
	}
	if len(args) == 0 {
		return nil, nil
	}
	if found && filepath.Base(args[0]) == "env" && len(args) == 2 {
		if argument, split := strings.CutPrefix(args[1], "-S"); split {
			args = append(args[:1], strings.Fields(argument)...)
		}
		if len(args) > 1 && !strings.HasPrefix(args[1], "-") && !strings.Contains(args[1], "=") {
			args = args[1:]
		}
	}
	path, err := lookPath(args[0])
	if err != nil {
		return nil, fmt.Errorf("interpreter %q not found", args[0])
	}
	args[0] = path
	return append(args, strict(path, len(args) == 1)...), nil
}

// strict returns the options that make a shell as strict as the built-in one.
// Other programs, and those with arguments of their own, get none.
func strict(path string, bare bool) []string {
	if !bare {
		return nil
	}
	switch strings.TrimSuffix(filepath.Base(path), ".exe") {
	case "bash", "zsh", "ksh", "mksh":
		return []string{"-eu", "-o", "pipefail"}
	case "sh", "dash", "ash", "yash":
		return []string{"-eu"}
	}
	return nil
}

// LookPath returns a lookup in the PATH of env, for programs that run in dir.
func LookPath(env []string, dir string) func(string) (string, error) {
	return func(name string) (string, error) {
		if strings.ContainsRune(name, '/') || runtime.GOOS == "windows" {
			if !filepath.IsAbs(name) && strings.ContainsRune(name, '/') {
				name = filepath.Join(dir, name)
			}
			return exec.LookPath(name)
		}
		for _, folder := range filepath.SplitList(variable(env, "PATH")) {
			if path, err := exec.LookPath(filepath.Join(folder, name)); err == nil && filepath.IsAbs(path) {
				return path, nil
			}
		}
		return "", exec.ErrNotFound
	}
}

// Commands returns the names of all files in the PATH of env, sorted.
func Commands(env []string) []string {
	var names []string
	for _, folder := range filepath.SplitList(variable(env, "PATH")) {
		entries, _ := os.ReadDir(folder) // a folder that cannot be read holds no commands
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func variable(env []string, name string) string {
	for _, pair := range slices.Backward(env) {
		if value, ok := strings.CutPrefix(pair, name+"="); ok {
			return value
		}
	}
	return ""
}

// maxArgument is how long a script may be that is handed over as an argument, in bytes:
// less than the 128 KiB that Linux allows.
const maxArgument = 100 << 10

// runInterpreter runs cmd.Script: in bash as an argument, which needs no file; in others
// from a temporary file.
func runInterpreter(ctx context.Context, cmd Command, out *stream, procs *processes) error {
	clearOnce()
	text, traced := cmd.Script, tracedScript(cmd, out)
	where := firstLine(cmd.Script)
	if traced != nil {
		text = traced.text
		if traced.marked {
			where = traced.first
		}
	}
	args, remove, err := scriptArguments(cmd.Args, text)
	if err != nil {
		return fmt.Errorf("writing the script to a temporary file: %w", err)
	}
	defer remove()
	stdout, stderr, err := out.files()
	if err != nil {
		return err
	}
	if traced == nil || !traced.marked || cmd.Stdout != nil {
		out.statement(where)
	}
	p := process{
		path: cmd.Args[0], args: slices.Concat(cmd.Args, args, cmd.Params),
		dir: cmd.Dir, env: cmd.Env, stdout: stdout, stderr: stderr, started: out.followOne,
	}
	if cmd.Stdin != nil {
		p.stdin = cmd.Stdin
	}
	exit, place, err := runTraced(ctx, p, traced, out, procs, where)
	if err != nil || exit.Code == 0 {
		return err
	}
	if exit.Code == 127 && traced != nil {
		if name := missingCommand(cmd, place); name != "" {
			exit = notFound(name, cmd.Dir)
		}
	}
	exit.Where, exit.Whole = place, traced == nil && strings.Contains(strings.TrimSpace(cmd.Script), "\n")
	return &exit
}

// tracedScript returns the script of a command for bash, with what is added to it; nil
// if it is run as it is.
func tracedScript(cmd Command, out *stream) *bashScript {
	if !IsBash(cmd.Args) || runtime.GOOS == "windows" { // there no further descriptors are handed over
		return nil
	}
	if script, ok := forBash(cmd.Script, cmd.Env, out.statements != nil, cmd.Stdout != nil); ok {
		return script
	}
	return nil
}

// scriptArguments returns the arguments with which an interpreter is given a script, and what
// removes the temporary file, if there is one.
func scriptArguments(interpreter []string, text string) (args []string, remove func(), err error) {
	if IsBash(interpreter) && len(text) <= maxArgument {
		return []string{"-c", text, "bash"}, func() {}, nil
	}
	file, err := writeScript(interpreter, text)
	if err != nil {
		return nil, nil, err
	}
	return []string{file.Name()}, file.remove, nil
}

// runTraced runs a process, and returns with its exit the command that failed: that at
// where, unless a traced script tells better.
func runTraced(ctx context.Context, p process, traced *bashScript, out *stream, procs *processes, where Stretch) (ExitError, Stretch, error) {
	if traced == nil {
		exit, err := procs.run(ctx, p)
		return exit, where, err
	}
	trace, err := newTracer(traced, out.marksAside(where))
	if err != nil {
		return ExitError{}, where, err
	}
	p.files = trace.files(out)
	follow := p.started
	p.started = func() {
		trace.started()
		follow()
	}
	exit, err := procs.run(ctx, p)
	trace.close()
	if place, ok := trace.failed(exit.Code); ok {
		where = place
	}
	return exit, where, err
}

// toldLine finds a line of a script in what its interpreter prints: the name of the temporary
// file, then the number, as sh, Python, Perl, Ruby, awk and others write it; or what bash says
// of a script that it cannot parse.
var toldLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?m)tugline-script-[0-9]+[^\s"':,(]*["']?(?:, line |: line | line |:\s?|\()([0-9]+)|^bash: (?:-c: )?line ([0-9]+): (?:syntax error|unexpected EOF)`)
})

// ToldLine returns the line of a script that failed, as its interpreter told last in what it
// printed. found is false if it told none.
func ToldLine(script string, printed []byte) (where Stretch, found bool) {
	all := toldLine().FindAllSubmatch(printed, -1)
	if len(all) == 0 {
		return Stretch{}, false
	}
	last := all[len(all)-1]
	number, _ := strconv.Atoi(string(last[1]) + string(last[2]))                 // then it is no line
	number = min(number, strings.Count(strings.TrimRight(script, "\n"), "\n")+1) // the end of a script may be told as the line behind it
	offset := 0
	for line := range strings.Lines(script) {
		if number--; number == 0 {
			text := strings.TrimSpace(line)
			return Stretch{offset + strings.Index(line, text), max(1, len(text))}, text != ""
		}
		offset += len(line)
	}
	return Stretch{}, false
}

// plainName is the name of a command that is looked for on the PATH.
var plainName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_.+-]+`) })

// missingCommand returns the name of the command that a stretch of a script begins with,
// if it is not on the PATH; else nothing.
func missingCommand(cmd Command, where Stretch) string {
	name := plainName().FindString(cmd.Script[where.Offset : where.Offset+where.Length])
	if _, err := LookPath(cmd.Env, cmd.Dir)(name); name == "" || err == nil || strings.Contains(cmd.Script, name+"()") {
		return ""
	}
	return name
}

// scriptPattern is the name of the temporary file of a script.
const scriptPattern = "tugline-script-*"

// scriptFile is the temporary file of a script. It is open, and locked where
// that hinders no reader, as long as it is used: what nobody locks is left over.
type scriptFile struct{ *os.File }

func (f scriptFile) remove() {
	os.Remove(f.Name()) // best effort: it is in the system's folder for such files
	f.Close()           // as above
	os.Remove(f.Name()) // for systems that remove no open file
}

func writeScript(args []string, script string) (scriptFile, error) {
	pattern := scriptPattern
	if strings.HasPrefix(strings.ToLower(filepath.Base(args[0])), "powershell") || strings.HasPrefix(filepath.Base(args[0]), "pwsh") {
		pattern += ".ps1" // it runs no other files
	}
	file, err := os.CreateTemp("", pattern)
	if err != nil {
		return scriptFile{}, err
	}
	lockScript(file)
	if _, err = file.WriteString(script); err != nil {
		scriptFile{file}.remove()
		return scriptFile{}, err
	}
	return scriptFile{file}, nil
}

// clearOnce removes what killed Tuglines left, once in this one.
var clearOnce = sync.OnceFunc(clearScripts)

// clearScripts removes the temporary files of scripts that nobody uses any more.
func clearScripts() {
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), scriptPattern)) // the pattern is good
	for _, name := range left {
		if file, err := os.OpenFile(name, os.O_RDWR, 0); err == nil {
			if isLeft(file) {
				os.Remove(name) // best effort: the next one tries again
			}
			file.Close()
		}
	}
}

// firstLine returns the first line of script that says something, the #! line
// left out.
func firstLine(script string) Stretch {
	offset := 0
	for line := range strings.Lines(script) {
		text := strings.TrimSpace(line)
		if text != "" && !(offset == 0 && strings.HasPrefix(text, "#!")) {
			return Stretch{offset + strings.Index(line, text), len(text)}
		}
		offset += len(line)
	}
	return Stretch{0, len(strings.TrimSpace(script))}
}
