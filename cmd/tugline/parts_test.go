//go:build unix

package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tellParts begins a story with a file, two parts, and a part of a part that
// both reach.
func tellParts(t *testing.T) *story {
	s := tell(t, `
title = "Almanac"
default = ["courier/send", "guests/none"]
[parts]
courier = "courier"
charts  = { path = "charts/charts.toml", env = { WHO = "given" } }
guests  = { path = "guests", optional = true }
[env]
WHO   = "top"
LIB   = "$TUGLINE_HERE/lib"
STAMP = { run = "echo x >>stamps; echo stamped" }
[task.lint]
run = 'echo "top lint: $WHO $LIB $STAMP in ${PWD##*/}"'
`)
	s.write("courier/tugline.toml", `
title = "Courier"
shell = "bash"
echo = false
env_file = [".env"]
[parts]
desk = "desk"
charts = "../charts/charts.toml"
[env]
WHO = "courier+$WHO"
[task.send]
aliases = ["post"]
needs = ["desk/lint", "lint", "/lint", "charts/lint", "/guests/any"]
args.copies = { type = "int", default = 1, choices = ["1", "3"] }
run = 'echo "send: $WHO $FILED $STAMP $BASH ${TUGLINE_HERE##*/} $TUGLINE_TASK"'
[task.lint]
folder = "desk"
run = 'false'
os.unix.run = 'echo "courier lint: $WHO ${LIB##*/} in ${PWD##*/}"'
`)
	s.write("courier/.env", "FILED='of the courier'\n")
	s.write("courier/desk/tugline.toml", "[task.lint]\nrun = 'echo \"desk lint: $WHO $FILED $-\"'\n[task.bash]\nshell='bash'\nrun = 'echo \"desk lint: $WHO $FILED ${-##*u}\"'\n")
	s.write("charts/charts.toml", "[env]\nWHO = \"charts<$WHO\"\n[task.lint]\nrun = 'echo \"charts lint: $WHO in ${PWD##*/}\"'\n")
	return s
}

func TestPartsRunInTheirOwnFolders(t *testing.T) {
	s := tellParts(t)
	r := s.tugline("--output", "lines", "-j1")
	require.Equal(t, 0, r.code, r.stderr)
	for _, line := range []string{
		"courier/lint      · courier lint: courier+top lib in desk",
		"lint              · top lint: top " + s.dir + "/lib stamped in " + s.dir[strings.LastIndexByte(s.dir, '/')+1:],
		"charts/lint       · charts lint: given in charts",
		"of the courier ehuBc",
		"send: courier+top of the courier stamped",
		"courier courier/send",
		`skipped    guests/any                 the optional part "guests" does not exist`,
		`skipped    guests/none                the optional part "guests" does not exist`,
	} {
		assert.Contains(t, r.stdout, line)
	}
	assert.Equal(t, 1, strings.Count(r.stdout, "charts lint: given"), "one part on two ways is one part")
	assert.Equal(t, "x\n", s.read("stamps"), "computed once, in the folder of its file")
	assert.Contains(t, r.stderr, "5 ran, 2 skipped in")
}

func TestNamesMeanTasksOfTheFolder(t *testing.T) {
	s := tellParts(t)
	tests := []struct {
		name   string
		args   []string
		stdout string
		stderr string
	}{
		{"in a part", []string{"-C", "courier", "lint"}, "courier lint: courier+top lib in desk\n", ""},
		{"below it", []string{"-C", "courier", "desk/lint"}, "desk lint: courier+top of the courier ehuBc\n", ""},
		{"in a part of a part", []string{"-C", "courier/desk", "lint"}, "desk lint: courier+top of the courier ehuBc\n", ""},
		{"by another way", []string{"-C", "courier", "charts/lint"}, "charts lint: given in charts\n", ""},
		{"from the top", []string{"courier/charts/lint"}, "charts lint: given in charts\n", ""},
		{"to the top", []string{"-C", "charts", "/courier/lint"}, "courier lint: courier+top lib in desk\n", ""},
		{"a file alone", []string{"--file", "courier/desk/tugline.toml", "bash"}, "desk lint:   Bc\n", ""},
		{"only at the top", []string{"-C", "courier/desk", "send"}, "", "tugline: there is no task \"send\"\n  did you mean \"/courier/send\"?\n"},
		{"of a part", []string{"post"}, "", "tugline: there is no task \"post\"\n  did you mean \"courier/post\"?\n"},
		{"a slip", []string{"courier/lnt"}, "", "tugline: there is no task \"courier/lnt\"\n  did you mean \"courier/lint\"?\n"},
		{"of a part that is not there", []string{"guests/x"}, "", "tugline: there is no task \"guests/x\": the optional part \"guests\" does not exist\n"},
		{"a bad argument", []string{"courier/post", "--copies", "2"}, "", "tugline: --copies of task \"courier/send\" must be one of 1, 3, not \"2\"\n"},
	}
	s.env = append(s.env, "WHO=", "FILED=")
	s.write("courier/tugline.toml", strings.Replace(s.read("courier/tugline.toml"), "env_file", "# env_file", 1))
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r := s.tugline(append([]string{"-q"}, test.args...)...)
			assert.Equal(t, strings.ReplaceAll(test.stdout, "of the courier", ""), r.stdout)
			assert.Equal(t, test.stderr, r.stderr)
		})
	}
}

func TestListGroupsByFolder(t *testing.T) {
	s := tellParts(t)
	assert.Equal(t, result{0, `Almanac

  lint

Courier, in courier
  courier/send --copies   (default) (also post)
                          needs desk/lint, lint, /lint, charts/lint, /guests/any
  courier/lint

in charts/charts.toml
  charts/lint

in courier/desk
  courier/desk/lint
  courier/desk/bash
`, ""}, s.tugline("list", "-v"))
	assert.True(t, strings.HasPrefix(s.tugline("-C", "courier", "list").stdout, "Courier, in .\n  send --copies   (default) (also post)\n"), s.tugline("-C", "courier", "list").stdout)
	var list struct{ Tasks []struct{ Name, File string } }
	require.NoError(t, json.Unmarshal([]byte(s.tugline("-C", "courier", "list", "--json").stdout), &list))
	assert.Equal(t, "courier/send", list.Tasks[0].Name)
	assert.Contains(t, s.tugline("-C", "courier", "__complete", "").stdout, "/courier/desk/lint"[len("/courier/"):])
	assert.Regexp(t, `WHO +courier\+top +part, courier/tugline.toml:10:1; counts: a text mentions it\n +hides top, project, tugline.toml:9:1`, s.tugline("env", "courier/send").stdout)
}

func TestBadPartsDoNotHideEachOther(t *testing.T) {
	s := tell(t, `[parts]
a = "a"
b = "b"
gone = "gone"
own = "."
"bad name" = "a"
again = { path = "b", env = { X = "1" } }
lost = "gone"
[task.x]
needs = ["a/x", "b/y", "gone/z", "b/slip"]
`)
	s.write("a/tugline.toml", "[task.x\nrun = 'x'\n")
	s.write("b/tugline.toml", "[parts]\nc = '../c'\n[task.y]\nneeds = 'c/y'\nbogus = 1\n")
	s.write("c/tugline.toml", "parts.b = '../b'\n[task.y]\nneeds = 'b/y'\n")
	assert.Equal(t, result{2, "", `tugline.toml:4:8: part "gone": gone/tugline.toml does not exist
    4 | gone = "gone"
      |        ^^^^^^ make it, or give the part optional = true
tugline.toml:5:1: tugline.toml takes in itself
    5 | own = "."
      | ^^^
tugline.toml:6:1: the part name "bad name" is not allowed
    6 | "bad name" = "a"
      | ^^^^^^^^^^ names have letters, digits, - and _, and do not begin with -
tugline.toml:7:31: the part "again" is taken in already, as "b": its env must stand there
    7 | again = { path = "b", env = { X = "1" } }
      |                               ^
tugline.toml:8:8: part "lost": gone/tugline.toml does not exist
    8 | lost = "gone"
      |        ^^^^^^ make it, or give the part optional = true
tugline.toml:10:34: task "x" needs "b/slip", but there is no such task
   10 | needs = ["a/x", "b/y", "gone/z", "b/slip"]
      |                                  ^^^^^^^^
a/tugline.toml:1:8: expected ']' to close table name
    1 | [task.x
      |        ^
b/tugline.toml:2:1: project files take each other in, in a circle: b/tugline.toml → c/tugline.toml → b/tugline.toml
    2 | c = '../c'
      | ^ b/tugline.toml takes in c/tugline.toml
      c/tugline.toml:1:7:
    1 | parts.b = '../b'
      |       ^ c/tugline.toml takes in b/tugline.toml
b/tugline.toml:4:9: tasks need each other in a circle: b/y → b/c/y → b/y
    4 | needs = 'c/y'
      |         ^^^^^ "b/y" needs "b/c/y"
      c/tugline.toml:3:9:
    3 | needs = 'b/y'
      |         ^^^^^ "b/c/y" needs "b/y"
b/tugline.toml:5:1: unknown task key "bogus"
    5 | bogus = 1
      | ^^^^^
`}, s.tugline("doctor"))
	require.NoError(t, os.RemoveAll(s.dir+"/a"))
	assert.Contains(t, s.tugline("-C", "c", "y").stderr, `../tugline.toml:2:5: part "a": ../a/tugline.toml does not exist`, "the outermost file that takes c in is the project")
}

// A file above that does not take the folder in has nothing to say there.
func TestAProjectInAnotherIsItsOwn(t *testing.T) {
	s := tell(t, "[parts]\nother = 'other'\n[task.\n")
	s.write("own/tugline.toml", "[task.a]\nrun = 'echo own'\n")
	assert.Equal(t, result{0, "own\n", ""}, s.tugline("-q", "-C", "own", "a"))
}

func TestSecretsAreNeverShown(t *testing.T) {
	s := tell(t, `
env_file = ["keys.env"]
[env]
KEY  = { secret = true, must_be_set = true, about = "Key for the courier", example = "k-123" }
PIN  = { secret = true, run = "echo 4711" }
FULL = "https://$KEY@courier"
[task.tell]
args.with = { default = "" }
run = ['echo "key $KEY pin $PIN"', 'printf %s "${KEY%??}"; printf "%s\n" "${KEY#????}"; echo "to err: $KEY" >&2', 'echo "$FULL with $with"']
[task.also]
needs = ["tell --with $KEY"]
run = 'echo "$KEY"'
[task.fails]
run = 'echo "the key was $KEY"; exit 3'
[task.bad-value]
args.n = { type = "int" }
run = "echo"
[task.calls-bad]
needs = ['bad-value --n "$KEY"']
run = "true"
[task.cannot]
env.X = { run = 'echo "no $KEY" >&2; exit 1' }
run = "true"
`)
	s.write("keys.env", "KEY=k-9876\n")
	for _, args := range [][]string{
		{"tell"}, {"--output", "lines", "tell"}, {"--output", "blocks", "tell", "also"}, {"fails"}, {"--output", "blocks", "fails"},
		{"tell", "--with", "k-9876"}, {"calls-bad"}, {"cannot"}, {"env"}, {"env", "--json"}, {"show", "tell"}, {"show", "tell", "--json"},
		{"env", "--example"}, {"--set", "KEY=k-5555", "env"},
	} {
		r := s.tugline(args...)
		all := r.stdout + r.stderr
		for _, value := range []string{"k-9876", "k-5555", "4711"} {
			assert.NotContains(t, all, value, "%q", args)
		}
		if args[0] != "env" || len(args) == 1 {
			assert.Contains(t, all, "•••", "%q", args)
		}
		screen, _ := s.terminal(100, args...)
		assert.NotContains(t, screen, "k-9876", "%q", args)
	}
	r := s.tugline("-q", "tell")
	assert.Equal(t, result{0, "key ••• pin •••\n•••\nhttps://•••@courier with \n", "to err: •••\n"}, r, "the streams stay apart")
	r = s.tugline("tell")
	assert.Less(t, strings.Index(r.stderr, "to err"), strings.Index(r.stderr, `» echo "$FULL`), "what is printed stands before the next command")
	assert.Contains(t, s.tugline("env", "--example").stdout, "# Key for the courier\nKEY=k-123\n")
	assert.Contains(t, s.tugline("--output", "blocks", "also").stdout, "tell --with •••")
}
