package shell

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
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

// runInterpreter runs cmd.Script from a temporary file.
func runInterpreter(ctx context.Context, cmd Command, out *stream, procs *processes) error {
	clearOnce()
	file, err := writeScript(cmd)
	if err != nil {
		return fmt.Errorf("writing the script to a temporary file: %w", err)
	}
	defer file.remove()
	stdout, stderr, err := out.files()
	if err != nil {
		return err
	}
	where := firstLine(cmd.Script)
	out.statement(where)
	p := process{
		path: cmd.Args[0], args: slices.Concat(cmd.Args, []string{file.Name()}, cmd.Params),
		dir: cmd.Dir, env: cmd.Env, stdout: stdout, stderr: stderr, started: out.followOne,
	}
	if cmd.Stdin != nil {
		p.stdin = cmd.Stdin
	}
	exit, err := procs.run(ctx, p)
	if err != nil || exit.Code == 0 {
		return err
	}
	exit.Where = where
	return &exit
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

func writeScript(cmd Command) (scriptFile, error) {
	pattern := scriptPattern
	if strings.HasPrefix(strings.ToLower(filepath.Base(cmd.Args[0])), "powershell") || strings.HasPrefix(filepath.Base(cmd.Args[0]), "pwsh") {
		pattern += ".ps1" // it runs no other files
	}
	file, err := os.CreateTemp("", pattern)
	if err != nil {
		return scriptFile{}, err
	}
	lockScript(file)
	if _, err = file.WriteString(cmd.Script); err != nil {
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
