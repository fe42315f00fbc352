//go:build unix

package main

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// freePort returns a port that nothing listens at.
func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// services is a project of two services, one for the other, and what uses them. The
// helper "listen" of the stories listens at a port.
func services(port int) string {
	return fmt.Sprintf(`
[env]
PORT = "%d"
[task.build]
reads = "src"
writes = "out"
run = 'test "$(cat src)" != bad; cp src out'
[task.base]
stays = true
run = '''echo "base is up"; %s'''
ready = { log = "^base is up$" }
[task.api]
stays = true
needs = ["build", "base"]
reads = "out"
run = '''echo "api with $(cat out)"; %s'''
ready = { port = "$PORT" }
[task.test]
needs = ["api"]
reads = "src"
run = '''%s'''
[task.later]
reads = "src"
needs = ["test"]
timeout = "1m"
run = 'while kill -0 "$(cat pid-api)" 2>/dev/null; do sleep 0.01; done' # it is gone before the run ends
`, port, helper("stay pid-base"), helper("listen $PORT pid-api"), helper("dial $PORT"))
}

func TestServicesLiveWhileTheyAreNeeded(t *testing.T) {
	s := tell(t, services(freePort(t)))
	s.write("src", "one")
	assert.Contains(t, s.tugline("show", "api").stdout, "  keeps running, as a service\n  ready when $PORT accepts connections\n")
	assert.Regexp(t, `(?s)start +base +needed by test\n.*start +api +needed by test\nrun +test `, s.tugline("plan", "later").stdout)
	got := s.tugline("later")
	require.Zero(t, got.code, got.stdout+got.stderr)
	assert.Regexp(t, `(?s)ready +base .*ready +api .*ran +test .*stopped +api .*stopped +base`, got.stdout)
	assert.Regexp(t, `api +· api with one\n`, got.stdout)
	s.eventuallyGone("pid-api")
	s.eventuallyGone("pid-base")

	require.NoError(t, os.Remove(filepath.Join(s.dir, "pid-api")))
	got = s.tugline("later")
	assert.NotContains(t, got.stdout, "api", "nothing runs that needs it")
	assert.Regexp(t, `skip +api +nothing that needs it runs`, s.tugline("plan", "test").stdout)
	assert.Regexp(t, `base is up`, s.tugline("log", "base").stdout)
	assert.Regexp(t, `stopped +api `, s.tugline("runs", s.runs()[1]).stdout)
}

// runs returns the names of the runs, the newest first.
func (s *story) runs() []string {
	s.t.Helper()
	var names []string
	for _, line := range strings.Split(strings.TrimSpace(s.tugline("runs").stdout), "\n")[1:] {
		names = append(names, strings.Fields(line)[0])
	}
	return names
}

func TestAServiceThatFailsFailsWhatNeedsIt(t *testing.T) {
	s := tell(t, `
[task.frail]
stays = true
run = 'echo fine; read line <go; echo "it broke"; exit 3'
ready = { log = "fine" }
[task.user]
needs = ["frail"]
run = 'echo >go; sleep 1000'
[task.next]
needs = ["user"]
run = 'true'
`)
	require.NoError(t, mkfifo(filepath.Join(s.dir, "go")))
	got := s.tugline("next")
	assert.Equal(t, 1, got.code)
	assert.Regexp(t, `(?s)failed +frail .* exit code 3.*\nfailed +user .* the service "frail" failed while it was needed: exit code 3`, got.stdout)
	assert.Regexp(t, `blocked +next`, got.stdout)
	assert.Contains(t, got.stderr, "it broke")
}

func TestServicesAskedForByName(t *testing.T) {
	s := tell(t, `
[task.short]
stays = true
run = 'read x <go; exit 3'
[task.fine]
stays = true
run = 'read x <go'
[task.long]
stays = true
run = "`+strings.ReplaceAll(helper("stay pid"), `"`, `\"`)+`"
[task.both]
needs = ["short", "long"]
`)
	require.NoError(t, mkfifo(filepath.Join(s.dir, "go")))
	for name, code := range map[string]int{"short": 1, "fine": 0} {
		cmd := s.command(name, "long")
		require.NoError(t, cmd.Start())
		s.waitForFile("pid")
		s.write("go", "\n")
		assert.Equal(t, code, exitCode(t, cmd.Wait()), "%s ended by itself", name)
		s.eventuallyGone("pid")
		require.NoError(t, os.Remove(filepath.Join(s.dir, "pid")))
	}
	cmd := s.command("both")
	require.NoError(t, cmd.Start())
	s.waitForFile("pid")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	assert.Equal(t, 130, exitCode(t, cmd.Wait()))
	s.eventuallyGone("pid")
}

func TestATakenPortIsNamed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	s := tell(t, fmt.Sprintf("[task.a]\nstays = true\nrun = 'sleep 1000'\nready = { port = %d }\n[task.b]\nserve = { roots = ['.'], port = %d }\n", port, port))
	for _, name := range []string{"a", "b"} {
		got := s.tugline(name)
		assert.Equal(t, 1, got.code)
		assert.Regexp(t, fmt.Sprintf(`127.0.0.1:%d is taken by .*process %d`, port, os.Getpid()), got.stderr)
	}
}

// Instances that are only known in the run use services, too: one that is there
// already, and one of their own.
func TestServicesOfInstancesThatAreMade(t *testing.T) {
	s := tell(t, fmt.Sprintf(`
[task.names]
needs = ["both"]
writes = "names"
run = 'printf "a\nb\n" >names'
[task.both]
stays = true
run = """%s"""
ready = { run = "test -e pid-both" }
[task.own]
stays = true
run = """%s"""
ready = { run = "test -e pid-own" }
[task.each]
each.name = { lines = "names" }
needs = ["both", "own"]
run = 'kill -0 $(cat pid-both) && kill -0 $(cat pid-own)'
`, helper("stay pid-both"), helper("stay pid-own")))
	got := s.tugline("each")
	require.Zero(t, got.code, got.stdout+got.stderr)
	assert.Equal(t, 1, strings.Count(got.stdout, "ready      both"))
	assert.Equal(t, 1, strings.Count(got.stdout, "ready      own"))
	s.eventuallyGone("pid-both")
	s.eventuallyGone("pid-own")
}

func TestAServiceThatIsNotReady(t *testing.T) {
	s := tell(t, "[task.a]\nstays = true\nrun = 'echo thinking; sleep 1000'\nready = { run = 'test -e never', timeout = '100ms' }\n[task.b]\nneeds = ['a']\nrun = 'true'\n")
	got := s.tugline("b")
	assert.Equal(t, 1, got.code)
	assert.Regexp(t, `(?s)was not ready within 100ms: the check fails: test -e never.*its output:\n +thinking`, got.stderr)
}

func TestAWatchRestartsServices(t *testing.T) {
	port := freePort(t)
	s := tell(t, services(port))
	s.write("src", "one")
	w := s.watch("api", "test")
	first := s.waitForFile("pid-api")
	w.rounds(1)
	s.write("src", "bad")
	last := w.rounds(2)
	assert.Contains(t, last, `api keeps running as it is: needs "build", which failed`)
	assert.Equal(t, first, s.read("pid-api"))

	s.write("src", "two")
	s.write("src", "three")
	last = w.rounds(3)
	assert.Regexp(t, `(?s)ran +build .*ready +api .*ran +test `, last)
	s.until("what it prints", func() bool { return strings.Contains(w.printed(), "api with three\n") })
	assert.Equal(t, 1, strings.Count(last, "ready  "), "one restart, of one service")
	assert.NotEqual(t, first, s.read("pid-api"))
	w.end()
	s.eventuallyGone("pid-api")
	s.eventuallyGone("pid-base")
}

// The log of a service can be followed while it lives.
func TestTheLogOfAServiceIsFollowed(t *testing.T) {
	s := tell(t, "[task.talk]\nstays = true\nrun = 'echo one; read x <go; echo two; read x <end'\nready = { log = \"one\" }\n")
	for _, name := range []string{"go", "end"} { // two: the next read could still see the end of the first
		require.NoError(t, mkfifo(filepath.Join(s.dir, name)))
	}
	w := s.watch("talk")
	w.rounds(1)
	follow := s.command("log", "-f", "talk")
	out, err := follow.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, follow.Start())
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	assert.Equal(t, "one", lines.Text())
	s.write("go", "\n")
	require.True(t, lines.Scan())
	assert.Equal(t, "two", lines.Text())
	s.write("end", "\n")
	assert.False(t, lines.Scan())
	assert.Zero(t, exitCode(t, follow.Wait()))
	w.end()
}

func TestPagesOfAWatch(t *testing.T) {
	s := tell(t, `
[task.page]
reads = "src"
writes = "site/index.html"
run = 'test "$(cat src)" != bad || { echo "no good"; exit 4; }; echo "<p>$(cat src)" >site/index.html'
[task.preview]
serve = { roots = ["site", "public"], refresh = true }
`)
	s.write("src", "one")
	s.write("public/style.css", "b {}")
	w := s.watch("preview")
	address := regexp.MustCompile(`serving (http://\S+/)\n`)
	s.until("it serves", func() bool { return address.MatchString(w.printed()) })
	at := address.FindStringSubmatch(w.printed())[1]
	get := func(path string) string {
		resp, err := http.Get(at + path)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(body)
	}
	w.rounds(1)
	page := get("")
	assert.Contains(t, page, "<p>one")
	version := regexp.MustCompile(`version=([0-9a-f-]+)`).FindStringSubmatch(page)[1]
	resp, err := http.Get(at + ".tugline/events?version=" + version)
	require.NoError(t, err)
	defer resp.Body.Close()
	got := "" // and not waited for yet
	events := func(want string) {
		buf := make([]byte, 4096)
		for !strings.Contains(got, want) {
			n, err := resp.Body.Read(buf)
			require.NoError(t, err, "%s, not %s", got, want)
			got += string(buf[:n])
		}
		_, got, _ = strings.Cut(got, want)
	}
	s.write("src", "two")
	events("event: reload")
	assert.Contains(t, get(""), "<p>two")
	s.write("src", "bad")
	events(`"task":"page","lines":["exit code 4","no good"]`)
	s.write("src", "three")
	events("event: mended")
	events("event: reload")
	s.write("public/style.css", "b { color: red }") // nothing runs for it
	events(`event: styles`)
	w.end()
}

// What is wrong with the texts of a service is told before anything starts.
func TestServicesThatCannotBePlanned(t *testing.T) {
	s := tell(t, `
[task.first]
run = "touch started"
[task.a]
needs = ["first"]
serve = { roots = ["."], port = "$PLACE" }
[task.b]
needs = ["first"]
stays = true
run = "true"
ready = { port = "localhost:$PLACE", http = "http://$NOWHERE/" }
`)
	s.env = append(s.env, "PLACE=harbour")
	got := s.tugline("a", "b")
	assert.Equal(t, 2, got.code)
	for _, want := range []string{`6:33: "harbour" is no port`, `11:18: "localhost:harbour" is no port`, `11:45: "NOWHERE": unbound variable`} {
		assert.Contains(t, got.stderr, want)
	}
	assert.NoFileExists(t, filepath.Join(s.dir, "started"))
}

func TestWrongServices(t *testing.T) {
	s := tell(t, `
[task.a]
ready = { port = 1 }
run = 'true'
[task.b]
stays = true
[task.c]
stays = true
run = 'true'
writes = "out"
restart = "always"
[task.d]
serve = { roots = [] }
run = 'true'
[task.e]
stays = true
run = 'true'
ready = { log = "(" }
`)
	got := s.tugline("list")
	assert.Equal(t, 2, got.code)
	for _, want := range []string{
		`3:1: "ready" goes with a service, and task "a" is none`, `"stays" has nothing to keep running in task "b"`, `task "c" is a service, so it cannot have "writes"`,
		`"restart" must be one of never, on-failure, not "always"`, `"serve" names no roots`, `task "d" has commands, so it cannot have "serve"`, `"log" is no regular expression: missing closing`,
	} {
		assert.Contains(t, got.stderr, want)
	}
}
