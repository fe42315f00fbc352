//go:build unix

package shell

import (
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	plainSeed  = flag.Uint64("plain.seed", 1, "seed of the random scripts in plain form")
	plainCount = flag.Int("plain.count", 2000, "how many of them are tried")
)

// grammar makes random scripts in plain form, most of them good ones.
type grammar struct{ *rand.Rand }

func (g grammar) one(choices ...func() string) string { return choices[g.IntN(len(choices))]() }
func (g grammar) pick(texts ...string) string         { return texts[g.IntN(len(texts))] }

func (g grammar) script() string {
	var b strings.Builder
	for range 1 + g.IntN(4) {
		if g.IntN(10) == 0 {
			b.WriteString(g.hereDocument())
			continue
		}
		b.WriteString(g.list())
		b.WriteString(g.pick("\n", "; ", "\n\n", " ;  "))
	}
	return b.String()
}

func (g grammar) hereDocument() string {
	end := g.pick("EOF", "'EOF'", `"EOF"`, "E\\OF")
	body := ""
	for range g.IntN(3) {
		body += g.pick("", "\t", " ") + g.quoted() + g.pick("\n", "\n", "\\\nx\n", "'\n")
	}
	if g.IntN(30) == 0 { // a message that goes where the output goes
		return "cat <<'EOF' 2>&1\nEOF\n"
	}
	return g.pick("cat", "sort", "tr a-z A-Z") + g.pick(" <<", " 0<<") + end + g.pick("", " | wc -l", " >out.txt", " && echo x") + "\n" + body + "EOF\n"
}

func (g grammar) list() string {
	text := g.pipeline()
	for g.IntN(3) == 0 {
		text += g.pick(" && ", " || ", " &&\n", " || ") + g.pipeline()
	}
	return text
}

func (g grammar) pipeline() string {
	text := g.pick("", "", "", "! ")
	switch g.IntN(6) {
	case 0: // what does not read its input must not be written to: whether that is seen in time is chance
		return text + g.pick("true | ", "true | ", "./fail 2 | ", "cat nowhere | ") + g.command(false)
	case 1:
		text += g.command(false)
		for i := range 1 + g.IntN(2) {
			text += g.pick(" | ", "|") + g.pick("cat", "sort", "wc -l", "tr a-z A-Z", "grep a", "cat - b.txt", fmt.Sprintf("sort -r >.s%d.txt", i), "cat >&2")
		}
		return text
	}
	return text + g.command(true)
}

func (g grammar) command(first bool) string {
	if first && g.IntN(3) == 0 {
		text := g.pick("x", "y", "EXPORTED", "fresh") + "=" + g.value()
		if g.IntN(4) == 0 {
			text += " y=" + g.value()
		}
		if g.IntN(4) == 0 {
			text += " printenv " + g.pick("x", "y", "EXPORTED")
		}
		return text
	}
	if g.IntN(20) == 0 {
		return `cat a.txt "$x" $y 2>&1 >/dev/null`
	}
	return g.one(
		func() string { return "echo " + g.words() },
		func() string { return "echo " + g.words() },
		func() string {
			return "echo " + g.pick("-n ", "-e ", "-ne ", "-E -n ", "-- ", "- ", "-nx ") + g.words()
		},
		func() string {
			return "printf " + g.pick(`'%s\n' `, `"%s|" `, `%s `, `'<%s>\t%%\n' `, `'a\\b\n' `) + g.words()
		},
		func() string { return g.pick("cat", "sort", "wc -l", "tr a-z A-Z", "grep a", "sort -u") },
		func() string { return g.pick("cat ", "ls ", "sort ") + g.words() },
		func() string { return "./args " + g.words() },
		func() string { return "./args " + g.words() },
		func() string { return g.pick("true", "false", ":", ": "+g.words(), "pwd", "true x", "./fail 3") },
		func() string { return g.test() },
		func() string {
			return "cd " + g.pick("sub", "..", `"$dir"`, "nowhere", `"sub dir"`, ".", "'sub/../sub'")
		},
		func() string { return g.pick("exit 3", "exit", "exit 0", "false || exit 7") },
		func() string { return g.pick(">", ">>") + g.file() },
	) + g.redirections()
}

func (g grammar) test() string {
	operand := func() string {
		return g.pick(`"$x"`, `"$y"`, `"$empty"`, "a", "''", `"-n"`, `'!'`, `"("`, "a.txt", "sub", "12", `"${n}"`, "' 7 '", "nowhere", `"$(echo a)"`)
	}
	text := g.one(
		func() string { return operand() },
		func() string {
			return g.pick("-e", "-f", "-d", "-s", "-L", "-r", "-w", "-x", "-n", "-z") + " " + operand()
		},
		func() string { return operand() + " " + g.pick("=", "!=", "-eq", "-lt", "-ge", "==") + " " + operand() },
	)
	text = g.pick("", "", "! ") + text
	if g.IntN(2) == 0 {
		return "test " + text
	}
	return "[ " + text + " ]"
}

func (g grammar) redirections() string {
	text := ""
	switch g.IntN(8) {
	case 0:
		text += g.pick(" >", " >>", " 1>") + g.file()
	case 1:
		text += g.pick(" <", " 0<") + g.pick("a.txt", `"$file"`, "nowhere.txt", "'sub dir/c d.txt'")
	case 2:
		text += g.pick(" 2>/dev/null", " >&2", " >/dev/null 2>&1", " 2>err.txt")
	case 3:
		if g.IntN(3) == 0 {
			text += " <" + g.pick("nowhere.txt", "a.txt") + " >" + g.file()
		}
	}
	return text
}

func (g grammar) file() string {
	return g.pick("out.txt", `"$out"`, "'o u t.txt'", "sub/new.txt", `"$x.txt"`, "nowhere/new.txt", "a.txt", `"$unset.txt"`)
}

func (g grammar) words() string {
	words := make([]string, g.IntN(4))
	for i := range words {
		words[i] = g.word()
	}
	return strings.Join(words, " ")
}

func (g grammar) word() string {
	text := ""
	for range 1 + g.IntN(3) {
		text += g.part()
	}
	if g.IntN(8) == 0 {
		return g.pick(`"$@"`, `"$1"`, "$2", "$#", `"$?"`, `"$9"`, "{}")
	}
	return text
}

func (g grammar) part() string {
	return g.one(
		func() string {
			return g.pick("a", "b.txt", "x-y", "=", ",", "12", "é", "sub/", "%s", "@", "+", "^", ":")
		},
		func() string { return g.pick(`'a b'`, `'$x'`, `''`, `'*'`, `'\n'`, "'two\nlines'", `'é"'`) },
		func() string { return g.pick("*", "*.txt", "?.txt", "sub/*", "no*thing", "*/", "s*/*.txt") },
		func() string { return g.pick(`\ `, `\*`, `\\`, `\$`, `\"`, `\;`, `\a`, `\'`) },
		func() string { return g.variable() },
		func() string { return `"` + g.quoted() + `"` },
		func() string { return `"` + g.quoted() + `"` },
		func() string { return "$(" + g.substituted() + ")" },
	)
}

func (g grammar) variable() string {
	name := g.pick("x", "y", "n", "empty", "EXPORTED", "stars", "spaces", "x", "y", "slash", "bracket", "unset", "back", "tab", "lines", "dash", "dashes", "tilde")
	if name == "unset" && g.IntN(3) > 0 {
		name = "x"
	}
	if g.IntN(3) == 0 {
		return "${" + name + g.pick(":-", "-", ":+", "+", ":?", "?") + g.pick("", "z", "a.b/c") + "}"
	}
	return g.pick("$", "${") + name + "}"
}

func (g grammar) value() string {
	text := ""
	for range g.IntN(3) {
		text += g.part()
	}
	return text
}

func (g grammar) quoted() string {
	text := ""
	for range g.IntN(4) {
		text += g.one(
			func() string {
				return g.pick("a b", " ", "*", "'", `\"`, `\\`, `\$x`, `\n`, "~", "é", "{a,b}", "[x]", "#", "a\nb")
			},
			func() string { return g.variable() },
			func() string {
				return "${" + g.pick("x", "y", "spaces", "EXPORTED", "slash") + g.pick("#", "##", "%", "%%") + g.pick("*a", "a*", "*/", "/*", "*", "b", "*.") + "}"
			},
			func() string { return "$(" + g.substituted() + ")" },
		)
	}
	return text
}

func (g grammar) substituted() string {
	return g.pick("echo a", "echo 'a  b'", "cat a.txt", "printf '%s\\n' a b", "echo $x", `echo "$spaces"`, "false", "true", "pwd", "cd sub; pwd", "echo a | tr a b", "echo '*'", "./fail 2", "echo x; false; echo y")
}

// fixed mends what variable wrote for the short form.
func fixed(script string) string {
	for at := 0; ; {
		i := strings.Index(script[at:], "$")
		if i < 0 {
			return script
		}
		at += i + 1
		if at < len(script) && script[at] >= 'A' && script[at] != '{' { // $name} -> $name
			end := at
			for end < len(script) && (script[end] == '_' || script[end] >= 'a' && script[end] <= 'z' || script[end] >= 'A' && script[end] <= 'Z') {
				end++
			}
			if end < len(script) && script[end] == '}' {
				script = script[:end] + script[end+1:]
			}
		}
	}
}

// busy is bash's exit code for a program that another test has just written, and of which a
// process that is just being started still holds a copy open.
const busy = 126

// world is where a script runs, and what is left of it afterwards.
type world struct {
	dir string
	env []string
}

const argsScript = "#!/bin/sh\nfor a in \"$@\"; do printf '<%s>' \"$a\"; done\necho\n"

func newWorld(dir string) (*world, error) {
	w := &world{dir: dir}
	for _, folder := range []string{"sub", "sub dir"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return nil, err
		}
	}
	files := map[string]string{"a.txt": "one a\ntwo\n", "b.txt": "b\na\n", "sub/e.txt": "e\n", "sub dir/c d.txt": "c d\n", "args": argsScript, "fail": "#!/bin/sh\nexit $1\n", "sub/args": argsScript, "sub dir/args": argsScript, "sub/fail": "#!/bin/sh\nexit $1\n"}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
			return nil, err
		}
	}
	w.env = []string{
		"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "LC_ALL=C.UTF-8", "x=a", "y=a b", "n=7", "empty=", "EXPORTED=out a*", "stars=*.txt", "spaces= a  b ",
		"slash=/usr/lib/a.b.c", `bracket=[ab].txt`, "dir=sub dir", `back=a\*b\\`, "tab=a\t b", "lines= a\nb\n\n", "dash=-n", "dashes=--", "tilde=~", "file=b.txt", "out=o.txt",
	}
	return w, nil
}

// end is what can be told of a script afterwards.
type end struct {
	stdout string
	code   int
	files  string
}

func (w *world) end(stdout string, code int) end {
	var b strings.Builder
	filepath.WalkDir(w.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		name, _ := filepath.Rel(w.dir, path)
		if text, err := os.ReadFile(path); err == nil && filepath.Base(name) != "err.txt" { // the wording of messages differs
			fmt.Fprintf(&b, "%s: %q\n", name, strings.ReplaceAll(string(text), w.dir, "DIR"))
		}
		return nil
	})
	return end{strings.ReplaceAll(stdout, w.dir, "DIR"), code, b.String()}
}

// difference tells in what another end differs.
func (e end) difference(other end) string {
	text := ""
	if e.code != other.code {
		text += fmt.Sprintf("exit code %d, here %d\n", e.code, other.code)
	}
	if e.stdout != other.stdout {
		text += fmt.Sprintf("output %q, here %q\n", e.stdout, other.stdout)
	}
	ours := strings.Split(other.files, "\n")
	for _, line := range strings.Split(e.files, "\n") {
		if !slices.Contains(ours, line) {
			text += "not here: " + line + "\n"
		}
	}
	for _, line := range ours {
		if !slices.Contains(strings.Split(e.files, "\n"), line) {
			text += "only here: " + line + "\n"
		}
	}
	return text
}

var plainArgs = []string{"one", "two  words", "*"}

func (w *world) bash(script string) end {
	cmd := exec.Command("bash", append([]string{"--noprofile", "--norc", "-euo", "pipefail", "-c", script, "script"}, plainArgs...)...)
	cmd.Dir, cmd.Env = w.dir, w.env
	cmd.WaitDelay = 10 * time.Second
	out, _ := cmd.Output() // the exit code tells
	return w.end(string(out), cmd.ProcessState.ExitCode())
}

func (w *world) builtin(t *testing.T, program *Program) end {
	var out strings.Builder
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	require.NoError(t, err)
	defer null.Close()
	file, err := os.CreateTemp("", "plain-out-*")
	require.NoError(t, err)
	defer os.Remove(file.Name())
	defer file.Close()
	err = run(t.Context(), Command{Program: program, Dir: w.dir, Env: w.env, Params: plainArgs, Stdin: null, Stdout: file, Stderr: null, Grace: time.Second})
	text, readErr := os.ReadFile(file.Name())
	require.NoError(t, readErr)
	out.Write(text)
	code := 0
	if err != nil {
		code = -1
		if exit, ok := err.(*ExitError); ok {
			code = exit.Code
		}
	}
	return w.end(out.String(), code)
}

// TestPlainFormIsAsInBash holds the promise of the plain form over random scripts: the
// same output, files and exit code as bash -euo pipefail. Others are tried with
// -plain.seed and -plain.count.
func TestPlainFormIsAsInBash(t *testing.T) {
	if _, err := exec.LookPath("bash"); err != nil {
		t.Skip("bash is not installed")
	}
	next := make(chan string)
	var tried, beyond int
	var mu sync.Mutex
	var workers sync.WaitGroup
	for range 4 {
		workers.Go(func() {
			for script := range next {
				program, why, problems := ParsePlain(script)
				mu.Lock()
				tried++
				if program == nil {
					beyond++
				}
				mu.Unlock()
				if program == nil {
					if why == nil {
						assert.Empty(t, problems, script)
					}
					continue
				}
				var ends [2]end
				parent, err := os.MkdirTemp("", "plain-*")
				require.NoError(t, err)
				dir := filepath.Join(parent, "w")
				for i := range ends {
					require.NoError(t, os.MkdirAll(dir, 0o755))
					w, err := newWorld(dir)
					require.NoError(t, err)
					if i == 0 {
						for ends[i].code = busy; ends[i].code == busy; {
							ends[i] = w.bash(script)
						}
					} else {
						ends[i] = w.builtin(t, program)
					}
					require.NoError(t, os.RemoveAll(parent))
				}
				if ends[0] != ends[1] {
					t.Errorf("not as in bash:\n%s\n%s", script, ends[0].difference(ends[1]))
				}
			}
		})
	}
	g := grammar{rand.New(rand.NewPCG(*plainSeed, 1))}
	for range *plainCount {
		if t.Failed() && *plainCount <= 2000 {
			break
		}
		next <- fixed(g.script())
	}
	close(next)
	workers.Wait()
	assert.Less(t, beyond, tried/2, "most of the scripts are in plain form")
}
