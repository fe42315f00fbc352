//go:build unix

package main

import (
	"encoding/json"
	"os"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const variables = `
env_file = [".env", "local.env"]
[env]
TZ = { value = "UTC", about = "The zone of all times" }
REGION = { default = "north", about = "Which coast\nor all of them", example = "south coast" }
URL = "http://localhost:$PORT/$REGION"
PORT = { default = "80" }
[task.print]
args.day = { default = "1" }
env = { PORT = "9$PORT" }
run = 'echo "$TZ|$REGION|$URL|$PORT|$FROM_FILE|$day"'
`

func TestVariablesTakeTheStrongestValue(t *testing.T) {
	s := tell(t, variables)
	s.write(".env", "REGION=file\nFROM_FILE='a b'\nTZ=file\n")
	s.write("local.env", "FROM_FILE=local\nPORT=81\n")
	s.write("more.env", "FROM_FILE=more\n")
	assert.Equal(t, "UTC|file|http://localhost:981/file|981|local|1\n", s.tugline("-q", "print").stdout)
	assert.Equal(t, "UTC|file|http://localhost:981/file|981|more|1\n", s.tugline("-q", "print", "--env-file", "more.env").stdout)
	s.env = append(s.env, "REGION=caller", "TZ=caller", "FROM_FILE=caller")
	assert.Equal(t, "UTC|caller|http://localhost:981/caller|981|caller|1\n", s.tugline("-q", "print").stdout)
	assert.Equal(t, "set|caller|http://localhost:7/caller|7|caller|2\n", s.tugline("-q", "--set", "TZ=set", "--set=PORT=7", "print", "--day", "2").stdout)
}

func TestEnvTellsWhereValuesComeFrom(t *testing.T) {
	s := tell(t, variables)
	s.write(".env", "REGION=file\nFROM_FILE='a b'\n")
	s.env = append(s.env, "TZ=caller")
	assert.Equal(t, `FROM_FILE  a b                        .env
PORT       980                        task, tugline.toml:10:9; counts: the task sets it
           hides 80, default, tugline.toml:7:1
REGION     file                       .env; counts: a text mentions it
           hides north, default, tugline.toml:5:1
TZ         UTC                        project, tugline.toml:4:1; counts: a text mentions it
           hides caller, your environment
URL        http://localhost:980/file  project, tugline.toml:6:1; counts: a text mentions it
day        1                          argument
`, s.tugline("env", "print").stdout)
	assert.Contains(t, s.tugline("env", "--set", "TZ=x").stdout, "TZ         x                         --set\n           hides UTC, project, tugline.toml:4:1\n")

	var got struct{ Variables []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(s.tugline("env", "--json").stdout), &got))
	assert.Equal(t, map[string]any{
		"name": "TZ", "value": "UTC", "about": "The zone of all times",
		"from":  map[string]any{"kind": "project", "file": "tugline.toml", "line": 4.0, "problem": nil, "value": "UTC"},
		"hides": []any{map[string]any{"kind": "caller", "file": nil, "line": nil, "problem": nil, "value": "caller"}}, "counts": nil,
	}, got.Variables[3])

	assert.Equal(t, "# Which coast\n# or all of them\nREGION=\"south coast\"\nPORT=80\n", s.tugline("env", "--example").stdout)
	assert.Equal(t, 2, s.tugline("env", "nope").code)
}

func TestEnvFilesThatCannotBeUsed(t *testing.T) {
	s := tell(t, "env_file = [{ file = 'ci.env', must_exist = true }]\ntask.a.run = 'x'\n")
	r := s.tugline("a")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "tugline.toml:1:22: the env file \"ci.env\" does not exist\n")
	s.write("ci.env", "A=1\nwhat is this\n")
	assert.Equal(t, result{2, "", "tugline: ci.env:2: this is no NAME=value\n"}, s.tugline("a"))
	s.write("ci.env", "A=1\n")
	assert.Equal(t, result{2, "", "tugline: the env file \"no.env\" does not exist\n"}, s.tugline("a", "--env-file", "no.env"))
}

func TestComputedAndRequiredVariables(t *testing.T) {
	s := tell(t, `
[env]
VERSION = { file = "VERSION" }
STAMP = { run = "echo once >>runs; printf '%s\\n' \"$VERSION-$TZ\" \"\"" }
TITLE = "Almanac $STAMP"
TZ = "UTC"
BAD = { run = "echo first >&2; echo why >&2; exit 4" }
GONE = { file = "nowhere/$TZ" }
KEY = { must_be_set = true, about = "Key for the courier", example = "k-123" }
ADDRESS = "courier/$KEY"
[task.plain]
run = 'echo "$TZ"'
[task.other]
shell = `+interpreter("variable")+`
run = "TITLE"
[task.stamp]
run = 'echo "$TITLE"'
[task.own]
env = { STAMP = { run = "echo own" }, LINE = "<$STAMP>" }
run = 'echo "$LINE"'
[task.bad]
run = 'echo "$BAD"'
[task.gone]
run = 'echo "$GONE"'
[task.send]
run = 'echo "$ADDRESS"'
[task.sends]
needs = ["send", "send-too"]
[task.send-too]
env = { URGENT = { must_be_set = true } }
run = 'echo "$KEY"'
`)
	s.write("VERSION", " 1.2\n\n")
	runs := func() string {
		text, _ := os.ReadFile(s.dir + "/runs") // not there: none
		return string(text)
	}
	assert.Equal(t, "UTC\n", s.tugline("-q", "plain").stdout)
	assert.Equal(t, "", runs(), "nobody referred to it")
	r := s.tugline("-q", "-j1", "stamp", "other", "own")
	assert.Regexp(t, `(?s)Almanac 1\.2-UTC.*Almanac 1\.2-UTC.*<own>`, r.stdout)
	assert.Equal(t, "once\n", runs(), "once a run")

	r = s.tugline("bad", "gone")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `tugline.toml:7:15: the variable "BAD" cannot be computed: exit code 4: why`)
	assert.Contains(t, r.stderr, `tugline.toml:8:17: the variable "GONE" cannot be computed: reading nowhere/UTC: no such file or directory`)

	r = s.tugline("sends")
	assert.Equal(t, 3, r.code)
	assert.Equal(t, `tugline.toml:9:1: the variable "KEY" is not set, and task "send" needs it
    9 | KEY = { must_be_set = true, about = "Key for the courier", example = "k-123" }
      | ^^^ Key for the courier
tugline.toml:30:9: the variable "URGENT" is not set, and task "send-too" needs it
   30 | env = { URGENT = { must_be_set = true } }
      |         ^^^^^^
`, r.stderr)
	s.env = append(s.env, "KEY=k", "URGENT=1")
	assert.Regexp(t, `(?s)courier/k.*k`, s.tugline("-q", "-j1", "sends").stdout)
	assert.Equal(t, "# Key for the courier\nKEY=k-123\n", s.tugline("env", "--example").stdout)
	assert.Equal(t, 0, s.tugline("doctor", "--file-only").code)
}

// What cannot be computed does not hide the rest, nor other tasks.
func TestEnvTellsWhatCannotBeComputed(t *testing.T) {
	s := tell(t, "[env]\nGOOD = '1'\nBAD = { run = 'echo away >&2; exit 4' }\n[task.t]\nrun = 'true'\n[task.refers]\nrun = 'echo $BAD'\n")
	r := s.tugline("env")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.Regexp(t, `(?m)^BAD +cannot be computed: exit code 4: away  project, tugline.toml:3:1\nGOOD  1`, r.stdout)
	assert.Contains(t, s.tugline("env", "--json").stdout, `"problem": "exit code 4: away"`)
	assert.Equal(t, 0, s.tugline("show", "t").code)
	assert.Contains(t, s.tugline("refers").stderr, `tugline.toml:3:15: the variable "BAD" cannot be computed: exit code 4: away`)
}

// A task that says what its programs read runs again for that, and not for other variables.
func TestVariablesCountWhereTheyAreUsed(t *testing.T) {
	s := tell(t, `
[env]
API_URL = "one"
MODE = { default = "dev" }
KEY = { secret = true, default = "key-1" }
PATH = "bin:$PATH"
MUST = { must_be_set = true }
[task.install]
reads_env = ["NODE_ENV", "MODE"]
reads = ["packages"]
env.OWN = "1"
run = "true"
[task.build]
reads = ["packages"]
run = 'echo "$API_URL" >/dev/null'
[task.sealed]
reads_env = ["KEY", "MUST"]
reads = ["packages"]
run = "true"
`)
	s.write("packages", "")
	both := []string{"install", "build"}
	s.states(both...)
	edit := func(from, to string) { s.write("tugline.toml", strings.ReplaceAll(s.read("tugline.toml"), from, to)) }
	edit(`API_URL = "one"`, `API_URL = "two"`)
	assert.Contains(t, s.tugline("plan", "build").stdout, `API_URL is "two", it was "one", used at tugline.toml:15:15`)
	states := s.states(both...)
	assert.Equal(t, "unchanged", states["install"])
	assert.Equal(t, `ran: API_URL is "two", it was "one"`, states["build"])
	s.env = append(s.env, "NODE_ENV=prod", "PATH="+os.Getenv("PATH")+":/nowhere")
	assert.Contains(t, s.tugline("plan", "install").stdout, `NODE_ENV is "prod", it was not set, used at tugline.toml:9:14`)
	states = s.states(both...)
	assert.Equal(t, `ran: NODE_ENV is "prod", it was not set`, states["install"])
	assert.Equal(t, "unchanged", states["build"], "the caller's PATH does not count")

	assert.Contains(t, s.tugline("sealed").stderr, `the variable "MUST" is not set, and task "sealed" needs it`)
	s.env = append(s.env, "MUST=1")
	s.states("sealed")
	edit(`default = "key-1"`, `default = "other"`)
	assert.Equal(t, "ran: the secret KEY changed", s.states("sealed")["sealed"])

	shown := s.tugline("env", "install").stdout
	assert.Regexp(t, `NODE_ENV +prod +your environment; counts: reads_env\n`, shown)
	assert.Regexp(t, `OWN +1 +task, \S+; counts: the task sets it\n`, shown)
	assert.Regexp(t, `API_URL +two +project, \S+\n`, shown)
	assert.Regexp(t, `API_URL +two +project, \S+; counts: a text mentions it\n`, s.tugline("env", "build").stdout)
}

// A variable may have a value for each system.
func TestVariablesBySystem(t *testing.T) {
	s := tell(t, `
[env]
OPENER = { os.linux = "xdg-open", os.darwin = "open", value = "start" }
SHELL_OF = { os.unix = "sh", os.windows = "cmd" }
OTHER = { os.windows = "w", value = "other $SHELL_OF" }
[task.t]
run = 'echo "$OPENER $SHELL_OF $OTHER"'
`)
	want := map[string]string{"linux": "xdg-open", "darwin": "open"}[runtime.GOOS]
	if want == "" {
		want = "start"
	}
	assert.Equal(t, want+" sh other sh\n", s.tugline("-q", "--output", "direct", "t").stdout)
	s.write("tugline.toml", "[env]\nA = { os.plan9 = 'x', value = 'y' }\nB = { os.windows = 'x' }\nC = { os.unix = 'x', run = 'y' }\n[task.t]\nrun = 'x'\n")
	r := s.tugline("list")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, `unknown system "plan9"`)
	assert.Contains(t, r.stderr, `"B" has no value on `+runtime.GOOS)
	assert.Contains(t, r.stderr, `"C" has a value already, by "run"`)
}

// What is computed before a run shows on a terminal while it takes long.
func TestComputingIsShown(t *testing.T) {
	s := tell(t, "[env]\nSLOW = { run = 'sleep 1; echo 5' }\n[task.t]\nrun = 'echo \"is $SLOW\"'\n")
	screen, code := s.terminal(80, "t")
	assert.Equal(t, 0, code)
	assert.Regexp(t, `computing SLOW ….*\r\x1b\[K`, screen)
	assert.Contains(t, screen, "is 5")
	assert.NotContains(t, s.tugline("t").stderr, "computing")
}
