//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const publish = `
[task.publish]
about = "Send the edition out\nto the courier"
args.channel = { choices = ["draft", "final"], default = "draft", about = "Where it goes" }
args.copies = { type = "int", default = 1, min = 1, max = 9 }
args.to = { about = "Whom it goes to" }
args.loud = { type = "flag" }
args.tag = { many = true, default = "" }
args.list = { type = "file", default = "none" }
args.words = { rest = true, about = "More for the courier" }
folder = "out"
run = 'echo "$channel $copies $to loud=$loud tags=$(echo $tag) list=$list"; for w; do echo "word <$w>"; done'
[task.plain]
run = "echo plain"
[task.both]
needs = ["publish --to merrowick", "publish --to=saltreach --channel final"]
`

func TestArgumentsAreOptions(t *testing.T) {
	s := tell(t, publish)
	s.write("out/x", "")
	s.write("sub/list.txt", "x")
	tests := []struct {
		args []string
		want string
	}{
		{[]string{"publish", "--to", "a b"}, "draft 1 a b loud= tags= list=none\n"},
		{[]string{"publish", "--to=x", "--channel=final", "--copies", "3", "--loud", "--tag", "a", "--tag=b"}, "final 3 x loud=true tags=a b list=none\n"},
		{[]string{"publish", "--loud=false", "--to", "--odd", "--", "-x", "", "a  'b'"}, "draft 1 --odd loud= tags= list=none\nword <-x>\nword <>\nword <a  'b'>\n"},
		{[]string{"-C", "sub", "publish", "--to", "x", "--list", "list.txt", "-q"}, "draft 1 x loud= tags= list=../sub/list.txt\n"},
		{[]string{"publish", "--to", "x", "-C", "sub", "--list=list.txt"}, "draft 1 x loud= tags= list=../sub/list.txt\n"},
	}
	for _, test := range tests {
		r := s.tugline(test.args...)
		assert.Equal(t, test.want, r.stdout, "%q: %s", test.args, r.stderr)
	}
	r := s.tugline("both", "-j1")
	assert.Regexp(t, `(?s)ran +publish --to merrowick .*draft 1 merrowick .*ran +publish --channel final --to saltreach .*final 1 saltreach `, r.stdout)
	r = s.tugline("plain", "publish", "--to", "x", "plain", "--output", "blocks")
	assert.Regexp(t, `(?s)ran +plain .*ran +publish --to x `, r.stdout)
}

func TestWrongArgumentsAreToldTogether(t *testing.T) {
	s := tell(t, publish)
	r := s.tugline("publish", "--channel", "finel", "--copies", "0", "--lod", "plain", "--to")
	assert.Equal(t, result{2, "", `tugline: neither task "publish" nor Tugline has an option --lod
  did you mean --loud? task options: --channel --copies --to --loud --tag --list; Tugline options: --jobs --output --after-failure --set --env-file --force --force-needs --as-is --no-store --yes --events --junit --dry-run --folder --file --quiet --verbose --color --help
tugline: neither task "plain" nor Tugline has an option --to
  Tugline options: --jobs --output --after-failure --set --env-file --force --force-needs --as-is --no-store --yes --events --junit --dry-run --folder --file --quiet --verbose --color --help
tugline: --channel of task "publish" must be one of draft, final, not "finel"
tugline: --copies of task "publish" must be at least 1, not 0
tugline: task "publish" needs --to
`}, r)
	for msg, args := range map[string][]string{
		`task "plain" takes no words behind --`:                            {"plain", "--", "x"},
		`--to of task "publish" needs a value`:                             {"publish", "--to"},
		`words after -- need a task before them`:                           {"--", "x"},
		`--list of task "publish" must be an existing file, not "../none"`: {"publish", "--to", "x", "--list", "none"},
		`--set takes NAME=VALUE, not "1x=2"`:                               {"plain", "--set", "1x=2"},
		`--jobs needs a value`:                                             {"plain", "--jobs"},
	} {
		r := s.tugline(args...)
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.stderr, "tugline: "+msg+"\n")
	}
}

func TestATaskHasHelpOfItsOwn(t *testing.T) {
	s := tell(t, publish)
	assert.Equal(t, `Send the edition out
to the courier

Usage:
  tugline publish [--channel draft|final] [--copies INT] --to TEXT [--loud] [--tag TEXT …] [--list FILE] [-- WORDS…]

Arguments:
  --channel          Where it goes; one of draft, final; draft if not given
  --copies           int; at least 1; at most 9; 1 if not given
  --to               Whom it goes to; required
  --loud
  --tag              may be repeated
  --list             file; none if not given
  -- …               More for the courier
`, s.tugline("publish", "--help").stdout)
	assert.Contains(t, s.tugline("run", "--help").stdout, "--jobs N")
	assert.Contains(t, s.tugline("--help").stdout, "tugline demo")
	var list struct {
		Tasks []struct{ Args []map[string]any }
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("list", "--json").stdout), &list))
	assert.Equal(t, map[string]any{
		"name": "channel", "type": "text", "default": "draft", "each": false, "choices": []any{"draft", "final"}, "required": false, "about": "Where it goes",
	}, list.Tasks[0].Args[0])
	assert.Contains(t, s.tugline("list").stdout, "--channel --copies --to --loud --tag --list")
}

func TestCompletionOfArguments(t *testing.T) {
	s := tell(t, publish)
	assert.Regexp(t, `^draft\nfinal\n:`, s.tugline("__complete", "publish", "--channel", "").stdout)
	options := s.tugline("__complete", "run", "publish", "--").stdout
	assert.Contains(t, options, "--channel\tWhere it goes\n")
	assert.Contains(t, options, "--jobs\t")
	assert.NotContains(t, s.tugline("__complete", "publish", "--to", "x", "plain", "--").stdout, "--channel")
	assert.Contains(t, s.tugline("__complete", "publish", "--to", "x", "").stdout, "plain\n")

	s.write("tugline.toml", "[task.page]\neach.port = { list = ['merrowick', 'saltreach'] }\neach.file = { files = 'in/*', as = 'stem' }\nrun = 'true'\n")
	s.write("in/a.csv", "")
	assert.Regexp(t, `^merrowick\nsaltreach\n:`, s.tugline("__complete", "page", "--port", "").stdout)
	assert.Regexp(t, `^merrowick\nsaltreach\n:`, s.tugline("__complete", "page", "--port", "merrowick", "--port", "s").stdout)
	assert.Regexp(t, `^a\n:`, s.tugline("__complete", "page", "--file", "").stdout)
	if fish, err := exec.LookPath("fish"); err == nil {
		cmd := exec.Command(fish, "--no-config", "-c", `"$PROGRAM" completion fish | source; function tugline; "$PROGRAM" $argv; end; complete -C "tugline page --port "`)
		cmd.Dir, cmd.Env = s.dir, append(s.env, "PROGRAM="+program, "HOME="+s.dir)
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err)
		assert.Equal(t, "merrowick\nsaltreach\n", string(out))
	}
}

// Values that would break a quote arrive to the letter, however they come and
// whatever runs the commands.
func TestHostileValuesAreHarmless(t *testing.T) {
	s := tell(t, `
[task.builtin]
args.value = {}
args.words = { rest = true }
env = { COPY = "$value" }
run = 'printf "%s|%s|%s|%s|%s\n" "$value" "$COPY" "$SET" "$FILED" "$1"'
[task.bash]
args.value = {}
args.words = { rest = true }
env = { COPY = "$value" }
shell = "bash"
run = 'printf "%s|%s|%s|%s|%s\n" "$value" "$COPY" "$SET" "$FILED" "$1"'
[task.other]
args.value = {}
args.words = { rest = true }
env = { COPY = "$value" }
shell = `+interpreter("values")+`
run = "none of it is read: value COPY SET FILED"
[task.builtin-by-call]
args.value = {}
args.words = { rest = true }
needs = ['builtin --value "$value" -- "$@"', 'bash --value=$value -- "$@"', 'other --value $value -- "$@"']
`)
	inQuotes := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "$", `\$`, "`", "\\`")
	values := []string{
		"a b", `say "x"`, `"`, "'", `'"'"`, "$(touch hit)", "`touch hit`", "a\nb", "-n", "--value", "*", "~", "", "größe 港", `\`, `\n`, "$HOME", "a;touch hit", "{a,b}", "!x", "#x", "%s",
	}
	for _, v := range values {
		want := strings.Join([]string{v, v, v, v, v}, "|") + "\n"
		s.write("filed.env", `FILED="`+inQuotes.Replace(v)+"\"\n")
		for _, task := range []string{"builtin", "bash"} {
			r := s.tugline("-q", "--env-file", "filed.env", "--set", "SET="+v, task, "--value="+v, "--", v)
			assert.Equal(t, result{0, want, ""}, r, "%s with %q", task, v)
		}
		r := s.tugline("-q", "-j1", "--env-file", "filed.env", "--output", "direct", "--set", "SET="+v, "builtin-by-call", "--value="+v, "--", v)
		assert.Equal(t, want+want+want, r.stdout, "by call with %q: %s", v, r.stderr)
	}
	assert.NoFileExists(t, s.dir+"/hit")
}

func TestShow(t *testing.T) {
	s := tell(t, `
[env]
EDITION = "2026-10"
[task.page]
about = "Write a page\nof one harbour"
aliases = "p"
args.port = { about = "Which harbour" }
needs = ["clean"]
folder = "build"
run = ["echo one", """
for x in 1 2; do
    echo "$x"
done
"""]
[task.clean]
run = "x"
[task.all]
needs = ["p --port merrowick"]
`)
	assert.Equal(t, `page  tugline.toml:4:7

Write a page
of one harbour

Usage:
  tugline page --port TEXT

Arguments:
  --port             Which harbour; required

Other names:
  p

Needs:
  clean

Named by:
  all

Folder:
  build

Runs in:
  the built-in shell
  bash, for a loop (tugline.toml:11:1)

Commands:
  echo one
  for x in 1 2; do
      echo "$x"
  done

Variables:
  EDITION  2026-10  project, tugline.toml:3:1; counts: the project declares it
  port     ""       not given
`, s.tugline("show", "p").stdout)
	var shown map[string]any
	require.NoError(t, json.Unmarshal([]byte(s.tugline("show", "page", "--json").stdout), &shown))
	assert.Equal(t, []any{"all"}, shown["needed_by"])
	assert.Equal(t, "page", shown["name"])
	assert.Len(t, shown["variables"], 2)
	assert.Equal(t, result{2, "", "tugline: tugline show takes one task\n  see tugline list for the tasks\n"}, s.tugline("show"))
	assert.Contains(t, s.tugline("show", "pgae").stderr, `did you mean "page"?`)
}

// An option behind a task's name is the task's, if it has one of that name.
func TestEveryOptionOfTuglineMayBeAnArgument(t *testing.T) {
	names := []string{
		"jobs", "output", "after-failure", "set", "env-file", "force", "force-needs", "as-is", "no-store", "yes", "dry-run", "folder", "file", "quiet", "verbose", "color", "v", "q", "C",
	}
	var file strings.Builder
	file.WriteString("[task.plain]\nask = 'Sure?'\nrun = 'echo asked'\n")
	for _, kind := range []string{"text", "flag"} {
		fmt.Fprintf(&file, "[task.%s]\nrun = '''\n", kind)
		for _, name := range names {
			fmt.Fprintf(&file, "echo \"%s=${%s}\"\n", name, strings.ReplaceAll(name, "-", "_"))
		}
		file.WriteString("'''\necho = false\n")
		for _, name := range names {
			if fmt.Fprintf(&file, "args.%s = { type = %q", name, kind); kind == "text" {
				file.WriteString(", default = ''")
			}
			file.WriteString(" }\n")
		}
	}
	s := tell(t, file.String())
	for _, name := range names {
		for _, args := range [][]string{{"--" + name, "--yes"}, {"--" + name + "=--yes"}} {
			r := s.tugline(append([]string{"text"}, args...)...)
			assert.Equal(t, 0, r.code, r.stderr)
			assert.Contains(t, r.stdout, name+"=--yes\n", "%s", args)
		}
		r := s.tugline("flag", "--"+name)
		assert.Equal(t, 0, r.code, r.stderr)
		assert.Contains(t, r.stdout, name+"=true\n")
		assert.Equal(t, 3, s.tugline("text", "--"+name, "--yes", "plain").code, "--%s took the yes", name)
	}
	r := s.tugline("--output", "blocks", "text", "--output", "mine", "-v")
	assert.Contains(t, r.stdout, "output=mine\n", "Tugline's own stand before the task, or have no long name")
	assert.Contains(t, s.tugline("text", "--jobs", "1", "-j", "x").stderr, `tugline: --jobs takes a whole number, not "x"`)
}

func TestTheFolderAndTheFileMayStandBehindATask(t *testing.T) {
	s := tell(t, "[task.t]\nrun = 'echo here'\n[task.file]\nargs.file = {}\nrun = 'echo \"file $file\"'\n")
	s.write("sub/tugline.toml", "[task.t]\nrun = 'echo sub'\n[task.file]\nrun = 'echo none'\n")
	for _, args := range [][]string{{"t", "-C", "sub"}, {"-C", "sub", "t"}, {"t", "--file", "sub/tugline.toml"}, {"t", "-qCsub"}, {"t", "-qC=sub"}, {"t", "--folder=sub"}} {
		assert.Equal(t, "sub\n", s.tugline(append([]string{"-q"}, args...)...).stdout, "%s", args)
	}
	assert.Equal(t, "file x\n", s.tugline("-q", "file", "--file", "x").stdout)
	assert.Equal(t, "here\n", s.tugline("-q", "-C", "sub", "t", "--file", "../tugline.toml").stdout)
	require.NoError(t, os.Rename(filepath.Join(s.dir, "tugline.toml"), filepath.Join(s.dir, "other.toml")))
	assert.Equal(t, "sub\n", s.tugline("-q", "t", "-C", "sub").stdout, "there is no project here")
	r := s.tugline("--file", "other.toml", "file", "--file", "sub/tugline.toml")
	assert.Equal(t, "file sub/tugline.toml\n", r.stdout)
	r = s.tugline("-C", "sub", "file", "--file", "../other.toml")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "it is not clear whether -C or --file behind a task is the task's or Tugline's")
}
