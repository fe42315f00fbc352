package project

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func ExampleParse() {
	_, err := Parse("/almanac/tugline.toml", "tugline.toml", []byte(`
[task.page]
needs = ["clean-reading"]
[task.clean-readings]
run = "awk -f clean.awk"
`))
	fmt.Println(err)
	// Output: tugline.toml:3:10: task "page" needs "clean-reading", but there is no such task
}

func parse(text string) (*Project, error) {
	return Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
}

// messages returns each finding as "line:column+columns message (hint)".
func messages(err error) []string {
	ds, _ := err.(Diagnostics)
	var out []string
	for _, d := range ds {
		line, column := d.Span.Position()
		msg := fmt.Sprintf("%d:%d+%d %s", line, column, d.Span.Columns(), d.Msg)
		if d.Hint != "" {
			msg += " (" + d.Hint + ")"
		}
		for _, r := range d.Related {
			msg += " | " + strings.TrimPrefix(r.Error(), "tugline.toml:")
		}
		out = append(out, msg)
	}
	return out
}

func TestParseKeepsAllThatWasWritten(t *testing.T) {
	p, err := parse(`#!/usr/bin/env tugline
title = "Harbour almanac"
default = ["archive", "tidy"]
jobs = 4
env.TZ = "UTC"

[task.archive]
about = """
Pack it.
With checksums."""
aliases = "pack"
unlisted = true
run = ["mkdir out", 'tar -cf "$OUT" out']
shell = ["bash", "-x"]
folder = "build"
needs = ["tidy"]
echo = false
env = { OUT = "a.tar" }

[task]
tidy.run = "rm -rf out"
`)
	require.NoError(t, err)
	assert.Equal(t, "Harbour almanac", p.Title)
	assert.Equal(t, "/almanac", p.Folder)
	assert.Equal(t, 4, p.Jobs)
	assert.Equal(t, []string{"archive", "tidy"}, []string{p.Default[0].Name, p.Default[1].Name})
	assert.Equal(t, "TZ", p.Env[0].Name)
	assert.Equal(t, []string{"archive", "pack", "tidy"}, p.Names())

	archive, tidy := p.Task("pack"), p.Task("tidy")
	assert.Same(t, p.Task("archive"), archive)
	assert.Equal(t, "Pack it.", archive.Summary())
	assert.True(t, archive.Unlisted)
	assert.False(t, archive.Echo)
	assert.True(t, tidy.Echo)
	assert.Equal(t, []string{"bash", "-x"}, archive.Shell.Args)
	assert.Equal(t, "auto", tidy.Shell.Name())
	assert.Equal(t, "build", archive.Folder.Value)
	assert.Equal(t, "a.tar", archive.Env[0].Value.Value)
	assert.Equal(t, "tugline.toml:13:21", archive.Run[1].Span.String())
	assert.Equal(t, "tugline.toml:7:7", archive.Span.String())
	assert.Equal(t, "tugline.toml:21:1", tidy.Span.String())
}

func TestTopKeysHoldWhereverTheyStand(t *testing.T) {
	p, err := parse("task.a.run = 'x'\necho = false\nshell = 'bash'\n")
	require.NoError(t, err)
	assert.False(t, p.Task("a").Echo)
	assert.Equal(t, []string{"bash"}, p.Task("a").Shell.Args)
}

func TestRunOnPicksTheSystem(t *testing.T) {
	p, err := parse("[task.a]\nrun = 'any'\nos.linux.run = 'linux'\nos.unix.run = ['unix']\n[task.b]\nos.windows.run = 'win'\n")
	require.NoError(t, err)
	for system, want := range map[string]string{"linux": "linux", "darwin": "unix", "windows": "any"} {
		assert.Equal(t, want, p.Task("a").RunOn(system)[0].Value)
	}
	assert.False(t, p.Task("b").IsGroup())
	assert.Empty(t, p.Task("b").RunOn("linux"))
}

func TestParseReportsAllThatIsWrong(t *testing.T) {
	tests := []struct {
		name, text string
		want       []string
	}{
		{"unknown keys at every level", "titel = 'x'\n[task.a]\nrun = 'x'\nned = ['b']\n[zone]\n", []string{
			`1:1+5 unknown key "titel" (did you mean "title"?)`,
			`4:1+3 unknown task key "ned"`,
			`5:2+4 unknown key "zone"`,
		}},
		{"wrong types", "title = 1\njobs = 'x'\necho = 'yes'\nenv = 3\n[task.a]\nrun = 1.5\nneeds = [1, 'b']\nshell = true\n[task.b]\nrun = [['x']]\n[task]\nc = 4\n", []string{
			`1:9+1 "title" must be a string, not a whole number (put it in quotes: "1")`,
			`2:8+3 "jobs" must be a whole number, not a string`,
			`3:8+5 "echo" must be true or false, not a string`,
			`4:7+1 "env" must be a table, not a whole number`,
			`6:7+3 "run" must be a string or a list of strings, not a number`,
			`7:10+1 "needs" must hold strings, not a whole number`,
			`8:9+4 "shell" must be a string or a list of strings, not true or false`,
			`10:8+5 "run" must hold strings, not a list`,
			`12:5+1 "task" must be a table, not a whole number`,
		}},
		{"an env value that is no text", "[env]\nPORT = 80\n[task.a]\nrun='x'\nenv = { X = [ 'a', # why\n 'b' ], Y = {}, }\n", []string{
			`2:8+2 "PORT" must be a string, not a whole number (put it in quotes: "80")`,
			`5:13+12 "X" must be a string, not a list`,
			`6:9+1 "Y" has no value (give it "value", "default", "run" or "file", or "must_be_set = true")`,
		}},
		{"names", "[env]\n1A = 'x'\nTUGLINE_X = 'x'\n[task.'-a']\nrun = 'x'\n[task.\"a b\"]\nrun = 'x'\n[task.größe]\nrun = 'x'\n[task.ok]\nrun='x'\naliases=['a/b']", []string{
			`2:1+2 the variable name "1A" is not allowed (names have letters, digits and _, and do not begin with a digit)`,
			`3:1+9 "TUGLINE_X" is set by Tugline itself`,
			`4:7+4 the task name "-a" is not allowed (names have letters, digits, - and _, and do not begin with -)`,
			`6:7+5 the task name "a b" is not allowed (names have letters, digits, - and _, and do not begin with -)`,
			`8:9+1 expected ']' to close table name`,
			`12:10+5 the alias "a/b" is not allowed (names have letters, digits, - and _, and do not begin with -)`,
		}},
		{"a name taken twice", "[task.a]\nrun='x'\naliases=['b', 'c']\n[task.b]\nrun='x'\n[task.d]\nrun='x'\naliases='c'\n", []string{
			`3:10+3 the alias "b" of task "a" is taken | 4:7: it belongs to task "b"`,
			`8:9+3 the alias "c" of task "d" is taken | 3:15: it belongs to task "a"`,
		}},
		{"a task defined twice", "[task.a]\nrun='x'\n[task.a]\nrun='y'\n", []string{
			`3:7+1 "a" is defined twice | 1:7: it was defined first here`,
		}},
		{"no such task", "default = 'pubilsh'\n[task.publish]\nrun='x'\nneeds = ['publis', 'zzz', 'publish x']\n", []string{
			`1:11+9 the default task is "pubilsh", but there is no such task (did you mean "publish"?)`,
			`4:10+8 task "publish" needs "publis", but there is no such task (did you mean "publish"?)`,
			`4:20+5 task "publish" needs "zzz", but there is no such task`,
			`4:36+1 "x" is no argument of "publish" (arguments are given as --name VALUE)`,
		}},
		{"cycles", "[task.a]\nneeds=['b']\n[task.b]\nneeds=['x', 'c']\n[task.c]\nneeds=['bee']\n[task.x]\nneeds=['x']\n[task.bb]\nneeds='a'\n[task]\nb.aliases=['bee']", []string{
			`6:8+5 task "c" needs "bee", but there is no such task`,
			`8:8+3 task "x" needs itself`,
			`12:1+1 "b" is defined twice | 3:7: it was defined first here`,
		}},
		{"a cycle through an alias", "[task.a]\nneeds=['b']\n[task.b]\naliases='bee'\nneeds=['c']\n[task.c]\nneeds=['bee']\n", []string{
			`5:8+3 tasks need each other in a circle: b → c → b | 5:8: "b" needs "c" | 7:8: "c" needs "b"`,
		}},
		{"nothing to do", "[task.a]\nabout='x'\n[task.b]\nrun=''\n[task.c]\nrun=[]\n[task.d]\nshell=[]\nrun='x'\n", []string{
			`1:7+1 task "a" does nothing (give it "run", "calls" or "needs")`,
			`4:5+2 "run" holds no command`,
			`6:5+2 "run" holds no command`,
			`8:7+2 "shell" names no program (such as "auto" or "bash")`,
		}},
		{"syntax errors, and what follows them", "title = \n[task.a]\nrun = 'x\nneeds = ['b']\n[task.b]\nrun = 'x'\nbad = 1\n", []string{
			`1:9+1 unexpected character the end of the line at start of value`,
			`3:9+1 literal strings cannot have new lines`,
			`7:1+3 unknown task key "bad"`,
		}},
		{"a syntax error hides nothing else", "[task.a]\nneeds = ['b']\n[task.b]\nneeds = ['a', 'nope', 'lost', 'late']\n[task.c]\nrun = 'x' 'y'\naliases = 'late'\n[task.lost\nrun = 'x'\n", []string{
			`2:10+3 tasks need each other in a circle: a → b → a | 2:10: "a" needs "b" | 4:10: "b" needs "a"`,
			`4:15+6 task "b" needs "nope", but there is no such task`,
			`6:11+1 expected newline but got '\''`,
			`8:11+1 expected ']' to close table name`,
		}},
		{"a text that never ends", "[task.a]\nrun = '''\necho\n", []string{
			`3:5+1 multiline literal string not terminated by '''`,
		}},
		{"arguments", "[task.a]\nrun = 'x'\nargs.ok = { type = 'int', default = 1, min = 1, max = 3 }\nargs.bad = { type = 'integer', chioces = ['x'] }\nargs.c = { choices = ['a'], default = 'b', min = 1 }\nargs.n = { type = 'int', default = 'x' }\nargs.p = { pattern = '(' }\nargs.help = {}\nargs.'x y' = {}\nargs.dry-run = { type = 'flag', many = true }\nargs.dry_run = { default = true }\nenv = { dry_run = 'x' }\n", []string{
			`4:21+9 "integer" is no type of an argument (did you mean "int"? The types are text, int, number, flag, file, folder)`,
			`4:32+7 unknown key of an argument "chioces" (did you mean "choices"?)`,
			`5:39+3 the default of "c" must be one of a, not "b"`,
			`5:44+3 "min" does not fit the argument "c" (only numbers have limits)`,
			`6:36+3 the default of "n" must be a whole number, not "x"`,
			`7:22+3 "(" is no regular expression: missing closing ): ` + "`(`",
			`8:6+4 the argument name "help" belongs to Tugline`,
			`9:6+5 the argument name "x y" is not allowed (names have letters, digits, - and _, and begin with a letter)`,
			`10:33+4 "many" does not fit the argument "dry-run" (a flag or rest comes once)`,
			`11:6+7 the argument sets the variable "dry_run" of task "a" a second time | 10:6: it is set first here`,
			`12:9+7 the variable sets the variable "dry_run" of task "a" a second time | 10:6: it is set first here`,
		}},
		{"calls with arguments", "[task.a]\nneeds = ['b --channel $x --copies=9', \"b --chanel draft\", 'b --channel other -- x', 'b --loud', 'b --channel \"', '$x', 'b --channel $(x)', 'b --channel draft --channel draft', 'b --copies x --loud maybe']\n[task.b]\nrun = 'x'\nargs.channel = { choices = ['draft', 'final'] }\nargs.copies = { type = 'int', default = 1, max = 3 }\nargs.loud = { type = 'flag' }\n", []string{
			`2:26+10 --copies of task "b" must be at most 3, not 9`,
			`2:51+5 task "b" has no argument --chanel (did you mean --channel?)`,
			`2:39+18 task "b" needs --channel`,
			`2:72+5 --channel of task "b" must be one of draft, final, not "other"`,
			`2:81+1 task "b" takes no words behind --`,
			`2:85+10 task "b" needs --channel`,
			"2:97+15 the call cannot be parted into words: reached EOF without closing quote `\"`",
			`2:115+2 the task of a call must be named, not computed`,
			`2:133+4 only variables expand in a call, no commands and no arithmetic`,
			`2:169+5 --channel of task "b" is given twice`,
			`2:189+1 --copies of task "b" must be a whole number, not "x"`,
			`2:198+5 --loud of task "b" must be true, false or empty, not "maybe"`,
			`2:177+27 task "b" needs --channel`,
		}},
		{"words of habit", "includes = []\n[task.t]\ncmd = 'x'\ndeps = []\ninputs = 'x'\nrun = 'x'\nargs.a = { required = true }\n", []string{
			`1:1+8 unknown key "includes" (did you mean "parts"?)`, `3:1+3 unknown task key "cmd" (did you mean "run"?)`, `4:1+4 unknown task key "deps" (did you mean "needs"?)`,
			`5:1+6 unknown task key "inputs" (did you mean "reads"?)`, `7:12+8 unknown key of an argument "required"`,
		}},
		{"names of older versions", "env_files = ['.env']\nenv_file = { file = 'a', required = true }\n[env]\nK = { required = true }\n[task.t]\nrun = 'x'\n", []string{
			`1:1+9 "env_files" is called "env_file" now`,
			`2:26+8 "required" is called "must_exist" now`,
			`4:1+1 "K" has no value (give it "value", "default", "run" or "file", or "must_be_set = true")`,
			`4:7+8 "required" is called "must_be_set" now`,
		}},
		{"variables in their long form, and env files", "env_file = ['', 3, { file = 'x', needed = true }]\n[env]\nA = { value = 'x', default = 'y' }\nB = { about = 'x' }\nC = { default = 3, vlaue = 'x' }\nD = { run = ' ', file = 'x' }\nE = { must_be_set = true, value = 'x' }\n[task.a]\nrun = 'x'\n", []string{
			`1:13+2 "env_file" names no file`,
			`1:17+1 "env_file" must hold strings or tables, not a whole number`,
			`1:34+6 unknown key of an env file "needed"`,
			`3:20+7 "A" has a value already, by "value"`,
			`4:1+1 "B" has no value (give it "value", "default", "run" or "file", or "must_be_set = true")`,
			`6:18+4 "D" has a value already, by "run"`,
			`6:13+3 "run" of "D" is empty`,
			`7:7+11 "E" has a value, by "value", so it need not be set from outside`,
			`5:17+1 "default" must be a string, not a whole number (put it in quotes: "3")`,
			`5:20+5 unknown key of a variable "vlaue" (did you mean "value"?)`,
		}},
		{"systems", "[task.a]\nos.linxu.run = 'x'\nos.unix.rnu = 'x'\nos.windows = 'x'\n", []string{
			`2:4+5 unknown system "linxu" (did you mean "linux"?)`,
			`3:9+3 unknown key of a system "rnu" (did you mean "run"?)`,
			`4:14+3 "os.windows" must be a table, not a string`,
		}},
		{"numbers out of range", "jobs = 0\n[task.a]\nrun='x'\n", []string{`1:8+1 "jobs" must be at least 1 and at most 1048576, not 0`}},
		{"a number too large", "jobs = 99999999999999999999\n", []string{
			`1:8+20 a whole number must fit in 64 bits`,
			`1:8+20 "jobs" must be at least 1 and at most 1048576, not 9223372036854775807`,
		}},
		{"strings that do not expand", "[env]\nA = '${B'\nC = '$(date)'\n[task.a]\nrun='x'\nfolder='$((1))'\n", []string{
			"2:5+5 reached EOF without matching `${` with `}` (write \\$ for a plain dollar)",
			`3:5+9 only variables expand in this string, no commands and no arithmetic (write \$ for a plain dollar)`,
			`6:8+8 only variables expand in this string, no commands and no arithmetic (write \$ for a plain dollar)`,
		}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			p, err := parse(test.text)
			assert.Nil(t, p)
			assert.ElementsMatch(t, test.want, messages(err))
		})
	}
}

func TestFilesThatAreHardToRead(t *testing.T) {
	tests := []struct {
		name, text, wrong string
		tasks             int
	}{
		{"empty", "", "", 0},
		{"only comments", "# nothing\n\n  # here", "", 0},
		{"a byte order mark", "\uFEFFtitle = 'x'\n[task.a]\nrun='x'", "", 1},
		{"CRLF", "[task.a]\r\nrun = '''\r\necho a\r\n'''\r\n", "", 1},
		{"CRLF and an error", "\uFEFFx = 1\r\n", `tugline.toml:1:1: unknown key "x"`, 0},
		{"not UTF-8", "title = 'caf\xe9'\n", "tugline.toml:1:13: the file is not UTF-8 from here on", 0},
		{"a zero byte", "title = 'a\x00b'\n", "tugline.toml:1:11: literal strings cannot have control characters", 0},
		{"columns count characters", "title = 'größe' ü\n", "tugline.toml:1:17: expected newline but got 'ü'", 0},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			p, err := parse(test.text)
			if test.wrong != "" {
				assert.EqualError(t, err, test.wrong)
				return
			}
			require.NoError(t, err)
			assert.Len(t, p.Tasks, test.tasks)
			for _, task := range p.Tasks {
				assert.NotContains(t, task.Run[0].Value, "\r")
			}
		})
	}
}

// Cost must grow with the size of the file, not with its square: with the
// square, these would take minutes.
func TestLargeProjectsAreRead(t *testing.T) {
	var chain, wide strings.Builder
	const n = 20000
	wide.WriteString("[task.all]\nneeds = [")
	for i := range n {
		fmt.Fprintf(&chain, "[task.t%d]\nrun = 'true'\nneeds = ['t%d']\n", i, min(i+1, n-1))
		fmt.Fprintf(&wide, "'t%d', ", i)
	}
	wide.WriteString("]\n" + strings.ReplaceAll(chain.String(), "needs", "# needs"))
	_, err := parse(chain.String())
	assert.EqualError(t, err, fmt.Sprintf(`tugline.toml:%d:10: task "t%d" needs itself`, 3*n, n-1))
	p, err := parse(wide.String())
	require.NoError(t, err)
	assert.Len(t, p.Task("all").Needs, n)
	assert.Equal(t, fmt.Sprintf("t%d", n-1), p.Tasks[n].Name, "read on several processors, in the order of the file")
	bad := strings.NewReplacer("[task.t9999]", "[task.t9999]\nbogus = 1", "[task.t19999]\nrun = 'true'", "[task.t19999]\nrun = 1")
	_, err = parse("task.none = 1\n" + bad.Replace(wide.String()))
	assert.Equal(t, []string{
		`1:13+1 "task" must be a table, not a whole number`, `30002:1+5 unknown task key "bogus"`, `60003:7+1 "run" must be a string or a list of strings, not a whole number`,
	}, messages(err))
}

func FuzzParse(f *testing.F) {
	almanac, err := os.ReadFile("../../demo/tugline.toml")
	require.NoError(f, err)
	f.Add(string(almanac))
	f.Add("[task.a]\nrun='''\nx'''\nneeds=['b c', '']\nenv={A='$X'}\nshell=[]\n[[task.b]]\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := parse(text)
		if err == nil {
			for _, task := range p.Tasks {
				for _, script := range task.Run {
					script.At(len(script.Value)/2, 3).Position()
				}
			}
			return
		}
		for _, d := range err.(Diagnostics) {
			line, column := d.Span.Position()
			assert.Positive(t, line)
			assert.Positive(t, column)
			assert.LessOrEqual(t, d.Span.end(), len(d.Span.Source.Text))
		}
	})
}

func TestTextKnowsItsPlaces(t *testing.T) {
	tests := []struct {
		name, toml, word, at string // word stands in the value and in the file
	}{
		{"a literal", `run = 'echo WORD'`, "WORD", "1:13"},
		{"a basic string", `run = "echo WORD"`, "WORD", "1:13"},
		{"escapes before it", `run = "a\tb\n\"\u00e9\U0001F6A2 WORD"`, "WORD", "1:33"},
		{"a long literal", "run = '''\n\n  echo WORD'''", "WORD", "3:8"},
		{"a long literal on the first line", "run = '''echo WORD'''", "WORD", "1:15"},
		{"a long basic string", "run = \"\"\"\necho \\\n\n    \"\"WORD\"\"\"", "WORD", "4:7"},
		{"a long basic string with a joined line", "run = \"\"\"\\\n   \\\n   WORD\"\"\"", "WORD", "3:4"},
		{"quotes in it", `run = '''a ''b'' WORD'''`, "WORD", "1:18"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			p, err := parse("task.a." + strings.ReplaceAll(test.toml, "\n", "\n"))
			require.NoError(t, err)
			run := p.Task("a").Run[0]
			span := run.At(strings.Index(run.Value, test.word), len(test.word))
			line, column := span.Position()
			if line == 1 {
				column -= len("task.a.")
			}
			assert.Equal(t, test.at, fmt.Sprintf("%d:%d", line, column))
			assert.Equal(t, test.word, string(span.bytes()))
		})
	}
}

func TestExpand(t *testing.T) {
	vars := map[string]string{"A": "one", "EMPTY": "", "STAR": "*.csv $A `x`"}
	tests := []struct{ text, want, err string }{
		{"plain", "plain", ""},
		{"$A/${A}x", "one/onex", ""},
		{`\$A "$A" '$A' \n \\ \x` + "`", `$A "one" 'one' \n \\ \x` + "`", ""},
		{"${B:-$A} ${EMPTY:-d} ${EMPTY-d} ${B:+x}", "one d  ", ""},
		{"${A#o} ${A%e} ${#A}", "ne on 3", ""},
		{"$STAR", "*.csv $A `x`", ""},
		{"$NOPE", "", `"NOPE": unbound variable`},
		{"${NOPE:?say why}", "", `"NOPE": say why`},
		{"10$ and $", "10$ and $", ""},
	}
	for _, test := range tests {
		t.Run(test.text, func(t *testing.T) {
			got, err := Text{Value: test.text}.Expand(func(name string) (string, bool) {
				value, ok := vars[name]
				return value, ok
			})
			if test.err != "" {
				assert.EqualError(t, err, test.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, test.want, got)
		})
	}
}

// What is expanded without the shell library is what that would make of it.
func TestNamesExpandAsTheLibraryDoes(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	lookup := func(name string) (string, bool) {
		return map[string]string{"a": "one", "a1": "$a", "_": "", "a_b": "*"}[name], name != "b"
	}
	alone := 0
	for range 20000 {
		var b strings.Builder
		for range 1 + random.IntN(9) {
			b.WriteString([]string{"$", "$a", "${a}", "{", "}", "a", "b", "_", "1", "\\", "`", "\"", "'", " ", "/*", "-", "ü", "#"}[random.IntN(18)])
		}
		text := Text{Value: b.String()}
		if out, ok := text.expandNames(lookup); ok {
			alone++
			want, err := text.expandForms(lookup)
			require.NoError(t, err, text.Value)
			require.Equal(t, want, out, text.Value)
		}
	}
	assert.Greater(t, alone, 5000)
}

func TestNearest(t *testing.T) {
	known := []string{"archive", "clean-readings", "draw-charts", "page", "pages", "tidy"}
	tests := map[string][]string{
		"clean-reading": {"clean-readings"}, "archvie": {"archive"}, "Tidy": {"tidy"}, "pgae": {"page"}, "pagee": {"page", "pages"},
		"clean": {"clean-readings"}, "zzz": nil, "": nil,
	}
	for name, want := range tests {
		t.Run(name, func(t *testing.T) { assert.Equal(t, want, Nearest(name, known)) })
	}
}

func TestFind(t *testing.T) {
	top := t.TempDir()
	below := filepath.Join(top, "a", "b c")
	require.NoError(t, os.MkdirAll(below, 0o755))
	_, _, err := Find(below)
	assert.ErrorIs(t, err, ErrNotFound)
	file := filepath.Join(top, FileName)
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	found, nearest, err := Find(below)
	require.NoError(t, err)
	assert.Equal(t, file, found)
	assert.Equal(t, file, nearest)
	_, err = Load(top, filepath.Base)
	assert.EqualError(t, err, filepath.Base(top)+" is a folder, not a project file")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Symlink("nowhere", file))
	found, _, err = Find(below)
	require.NoError(t, err)
	_, err = Load(found, filepath.Base)
	assert.EqualError(t, err, "there is no project file tugline.toml, or it is a link that leads nowhere")
}

func TestSchemaKnowsEveryKey(t *testing.T) {
	schema := Schema()
	assert.Equal(t, false, schema["additionalProperties"])
	for _, k := range TopKeys() {
		assert.Contains(t, schema["properties"], k.Name)
		assert.NotEmpty(t, k.About)
		assert.NotEmpty(t, k.Holds)
	}
	assert.Len(t, schema["properties"], len(TopKeys()))
}

func TestParseEnvFile(t *testing.T) {
	s, err := ParseEnvFile(".env", []byte("\uFEFF# comment\r\nA=1\r\nexport B='two words' # why\nC=\"x\\ny\"\nD=\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"A=1", "B=two words", "C=x\ny", "D="}, s.Pairs)
	for text, want := range map[string]string{
		"A=1\nno value here\nB=2\n": ".env:2: this is no NAME=value",
		"A=1\nB=\"x\nC=3\n":         ".env:2: a quote is not closed",
		"A=1\nwhat":                 ".env:2: this is no NAME=value",
		"1A=2\n":                    `.env: the variable name "1A" is not allowed`,
		"TUGLINE_RUN=x\n":           `.env: the variable name "TUGLINE_RUN" is not allowed`,
		"A=1\nB=\xff\n":             ".env:2: the file is not UTF-8 from here on",
	} {
		_, err := ParseEnvFile(".env", []byte(text))
		assert.EqualError(t, err, want, text)
	}
}
