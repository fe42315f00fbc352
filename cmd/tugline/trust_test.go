//go:build unix

package main

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// checkout returns a story in another folder with the project file and the store
// of s, and nothing else.
func (s *story) checkout(files ...string) *story {
	s.t.Helper()
	other := &story{t: s.t, dir: s.t.TempDir(), env: s.env}
	for _, name := range append(files, "tugline.toml") {
		other.write(name, s.read(name))
	}
	return other
}

// An input that changes while its task runs must not be recorded or kept under
// what it held before.
func TestAnInputThatChangesMeanwhile(t *testing.T) {
	s := tell(t, `
[task.t]
reads = "in"
writes = "out"
run = 'echo >started; while [ ! -e go ]; do sleep 0.01; done; cat in >out; echo >>ran'
[task.check]
reads = "in"
run = 'echo >checking; while [ ! -e go ]; do sleep 0.01; done; grep -q two in; echo >>checked'
`)
	for task, started := range map[string]string{"t": "started", "check": "checking"} {
		os.Remove(filepath.Join(s.dir, "go"))
		s.write("in", "one\n")
		done := make(chan map[string]string)
		go func() { done <- s.states(task) }()
		s.waitForFile(started)
		s.write("in", "two\n")
		s.write("go", "")
		assert.Equal(t, "ran: but in changed meanwhile: not recorded, it runs again next time", (<-done)[task])
		s.write("in", "one\n")
		plan := s.planned(task)[task]
		assert.Equal(t, "run: first run here", plan, "nothing is recorded")
	}
	os.Remove(filepath.Join(s.dir, "go"))
	os.Remove(filepath.Join(s.dir, "started"))
	direct := make(chan result)
	go func() { direct <- s.tugline("--force", "t") }()
	s.waitForFile("started")
	s.write("in", "two\n")
	s.write("go", "")
	assert.Contains(t, (<-direct).stderr, "but in changed meanwhile: not recorded, it runs again next time\n", "also where one task prints by itself")
	s.write("in", "one\n")
	other := s.checkout("in", "go")
	assert.Equal(t, "ran: first run here", other.states("t")["t"], "nothing is kept")
	assert.Equal(t, "one\n", other.read("out"))
	assert.Contains(t, s.states("t")["t"], "restored: first run here")
	assert.Equal(t, "one\n", s.read("out"))
}

func TestAReaderAndAWriterInTwoTuglines(t *testing.T) {
	s := tell(t, `
[task.w]
reads = "in"
writes = "mid"
run = 'cat in >mid; echo >>wrote'
[task.r]
reads = "mid"
writes = "out"
run = 'echo >reading; while [ ! -e go ]; do sleep 0.01; done; cat mid >out'
[task.nested]
reads = "mid"
run = '"$TUGLINE" --force w'
`)
	s.write("in", "1")
	reader := s.command("r")
	require.NoError(t, reader.Start())
	s.waitForFile("reading")
	writer := s.command("--force", "--output", "blocks", "w")
	out, err := writer.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, writer.Start())
	told := make([]byte, len("w waiting for another Tugline that runs it or reads its outputs\n"))
	_, err = out.Read(told)
	require.NoError(t, err)
	assert.Equal(t, "w waiting for another Tugline that runs it or reads its outputs\n", string(told))
	s.write("go", "")
	require.NoError(t, reader.Wait())
	require.NoError(t, writer.Wait())
	assert.Equal(t, "unchanged", s.states("r")["r"], "nothing changed while it read")

	s.env = append(s.env, "TUGLINE="+program)
	assert.Contains(t, s.states("nested")["nested"], "mid changed meanwhile", "who is called by a reader does not wait for it")
	assert.Equal(t, 3, strings.Count(s.read("wrote"), "\n"))
}

func TestSecretsInPlainValues(t *testing.T) {
	s := tell(t, `
[env]
ONE = { value = "alpha", secret = true }
TWO = { value = "beta", secret = true }
CHANNEL = { default = "alpha" }
[task.t]
writes = "out"
run = 'echo "$CHANNEL" >out'
[task.tracks]
reads_env = ["ONE"]
writes = "tracked"
run = "echo >>tracked"
`)
	s.states("t")
	assert.Equal(t, "ran: the secret CHANNEL changed", s.states("--set", "CHANNEL=beta", "t")["t"])
	assert.Equal(t, "beta\n", s.read("out"))
	assert.Contains(t, s.states("t")["t"], "restored: the secret CHANNEL changed")
	assert.Equal(t, "alpha\n", s.read("out"))
	assert.NoError(t, filepath.WalkDir(filepath.Join(s.dir, ".tugline"), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			text, _ := os.ReadFile(path)
			assert.NotContains(t, string(text), "beta", path)
		}
		return err
	}))

	tracks := []string{"--set", "CHANNEL=plain", "tracks"}
	s.states(tracks...)
	assert.Equal(t, "unchanged", s.states(tracks...)["tracks"])
	s.env = append(s.env, "TUGLINE_STORE=relative")
	assert.Equal(t, "ran: cannot tell whether the secret ONE changed: no key to compare it", s.states(tracks...)["tracks"])
}

func TestOutputsThatHoldThePathOfTheProject(t *testing.T) {
	s := tell(t, `
[env]
LIB = "$TUGLINE_PROJECT/lib"
[task.local]
writes = "local"
run = 'echo "$LIB" >local'
[task.shared]
writes = "shared"
run = 'echo lib >shared'
`)
	s.states("local", "shared")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "local")))
	assert.Equal(t, "restored: output local is missing", s.states("local")["local"], "here it is right")
	other := s.checkout()
	assert.Equal(t, states{"local": "run: first run here", "shared": "restore: first run here"}, other.planned("local", "shared"))
	assert.Equal(t, states{"local": "ran: first run here", "shared": "restored: first run here"}, other.states("local", "shared"))
	assert.Equal(t, other.dir+"/lib\n", other.read("local"))
}

func TestFoldersAsOutputs(t *testing.T) {
	s := tell(t, `
[task.t]
reads = "in"
writes = ["cache/", "file"]
run = 'mkdir -p cache/deep/empty cache/full; echo 1 >cache/full/x; cat in >file; echo >>ran'
`)
	s.write("in", "1")
	s.states("t")
	assert.Equal(t, "unchanged", s.states("t")["t"])
	for gone, reason := range map[string]string{
		"cache/deep/empty": "unexpected output cache/deep", "cache/deep": "output cache/deep/empty is missing", "cache": "output cache/deep/empty is missing",
	} {
		require.NoError(t, os.RemoveAll(filepath.Join(s.dir, gone)))
		assert.Contains(t, s.planned("t")["t"], "restore: "+reason, gone)
		assert.Contains(t, s.states("t")["t"], "restored: "+reason, gone)
		assert.DirExists(t, filepath.Join(s.dir, "cache/deep/empty"))
		assert.Equal(t, "unchanged", s.states("t")["t"])
	}

	inTheWay := func() {
		require.NoError(t, os.Remove(filepath.Join(s.dir, "file")))
		s.write("file/mine", "mine")
	}
	inTheWay()
	found := s.states("t")["t"]
	assert.Contains(t, found, "restored: ")
	_, aside, told := strings.Cut(found, "; existing files were moved to ")
	require.True(t, told, found)
	assert.Equal(t, "mine", s.read(aside+"/file/mine"))
	inTheWay()
	found = s.states("--no-store", "t")["t"]
	assert.Contains(t, found, "ran: ")
	_, aside, told = strings.Cut(found, "; existing files were moved to ")
	require.True(t, told, found)
	assert.Equal(t, "mine", s.read(aside+"/file/mine"))
	assert.Equal(t, "1", s.read("file"))
	require.NoError(t, os.Remove(filepath.Join(s.dir, "file")))
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "file"), 0o755))
	assert.Equal(t, "restored: output file was changed", s.states("t")["t"], "an empty folder is not worth a word")
}

func TestAFormatterIsUnchangedAfterItsRestore(t *testing.T) {
	s := tell(t, "[task.fmt]\nreads = 'src/*'\nwrites = 'src/*'\nrun = 'tr a-z A-Z <src/a >new; cat new >src/a; rm new; echo >>ran'\n")
	s.write("src/a", "one")
	s.states("fmt")
	s.write("src/a", "one")
	assert.Contains(t, s.states("fmt")["fmt"], "restored: src/a changed")
	assert.Equal(t, "ONE", s.read("src/a"))
	assert.Equal(t, "unchanged", s.states("fmt")["fmt"])
	assert.Equal(t, "\n", s.read("ran"))
}

func TestAPlanKnowsWhatARunKnows(t *testing.T) {
	s := tell(t, `
[env]
FLAGS = "-j$TUGLINE_JOBS $TUGLINE_RUN"
PATHS = "bin:$PATH"
JOBS  = { run = 'echo "$TUGLINE_JOBS"' }
[task.t]
reads = "in"
run = 'true $FLAGS $PATHS $JOBS'
`)
	s.write("in", "1")
	s.states("t")
	assert.Equal(t, "unchanged", s.planned("t")["t"])
	assert.Equal(t, 0, s.tugline("plan", "--check", "t").code)
	s.env = append(s.env, "PATH="+os.Getenv("PATH")+":/elsewhere")
	assert.Equal(t, "unchanged", s.states("t")["t"])
	s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), "bin:", "lib:", 1))
	assert.Equal(t, `run: PATHS is "lib:$PATH", it was "bin:$PATH", used at tugline.toml:8:21`, s.planned("t")["t"])
}

// What was made for a source that is gone must not go on into what is shipped.
func TestOutputsOfInstancesThatAreNoMore(t *testing.T) {
	s := tell(t, `
[task.page]
each.port = { files = "gauges/*.csv", as = "stem" }
reads.raw = "gauges/$port.csv"
writes.out = "pages/$port.html"
run = 'cat "$raw" >"$out"; echo "$port" >>ran'
[task.fmt]
reads = "pages/*.html"
writes = "pages/*.html"
needs = ["page"]
run = 'for f in pages/*.html; do tr a-z A-Z <"$f" >new; cmp -s new "$f" || cat new >"$f"; rm new; done'
[task.site]
needs = ["fmt"]
reads = "pages/*.html"
writes = "site.txt"
run = 'cat pages/*.html >site.txt'
`)
	for _, port := range []string{"dunmouth", "merrowick", "saltreach"} {
		s.write("gauges/"+port+".csv", port+"\n")
	}
	s.states("site")
	assert.Equal(t, "DUNMOUTH\nMERROWICK\nSALTREACH\n", s.read("site.txt"))
	gone := s.read("gauges/merrowick.csv")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "gauges/merrowick.csv")))

	plan := s.tugline("plan", "site")
	assert.Contains(t, plan.stdout, "would remove pages/merrowick.html: its instance page --port merrowick no longer exists\n")
	assert.Contains(t, plan.stdout, "pages/merrowick.html is gone")
	assert.Equal(t, 1, s.tugline("plan", "--check", "site").code)
	assert.Contains(t, s.tugline("plan", "--json", "site").stdout, `"made_by": "page --port merrowick"`)
	r := s.tugline("site")
	assert.Contains(t, r.stdout, "removed pages/merrowick.html: its instance page --port merrowick no longer exists\n")
	assert.NoFileExists(t, filepath.Join(s.dir, "pages/merrowick.html"))
	assert.Equal(t, "DUNMOUTH\nSALTREACH\n", s.read("site.txt"))
	assert.NotContains(t, s.tugline("site").stdout, "removed")

	s.write("gauges/merrowick.csv", gone)
	assert.Regexp(t, `restored +page --port merrowick +\S+ +first run here`, s.tugline("site").stdout, "the source is back")
	assert.Equal(t, "DUNMOUTH\nMERROWICK\nSALTREACH\n", s.read("site.txt"))

	s.write("pages/saltreach.html", "EDITED\n")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "gauges/saltreach.csv")))
	assert.Contains(t, s.tugline("site").stdout, "kept pages/saltreach.html: edited since its instance page --port saltreach, which no longer exists, made it\n")
	assert.Equal(t, "EDITED\n", s.read("pages/saltreach.html"))
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "gauges")))
	assert.Contains(t, s.tugline("page").stdout, "removed pages/dunmouth.html", "the last one, too")
	left, err := filepath.Glob(filepath.Join(s.dir, "pages/*"))
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(s.dir, "pages/saltreach.html")}, left)
}

func TestSweepDeletesOnlyWhatARunMade(t *testing.T) {
	s := tell(t, `
[task.docs]
writes = "docs/*.md"
args.part = { default = "one" }
run = 'echo "$part" >"docs/$part.md"'
[task.never-run]
writes = "elsewhere/*"
run = "true"
`)
	s.write("docs/notes.md", "by hand")
	s.write("elsewhere/x", "by hand")
	s.states("docs", "docs", "--part", "two")
	s.write("docs/late.md", "by hand, later")
	s.write("docs/two.md", "edited")
	assert.Equal(t, result{0, "docs/one.md\n", "1 file would be deleted, 1 edited since left: --edited deletes them, too\n"}, s.tugline("sweep", "-n"))
	assert.Equal(t, result{0, "docs/one.md\n", "1 file would be deleted\n"}, s.tugline("sweep", "-n", "docs", "--part", "one"))
	assert.Equal(t, result{0, "docs/one.md\n", "1 file deleted, 1 edited since left: --edited deletes them, too\n"}, s.tugline("sweep"))
	assert.Equal(t, result{0, "docs/two.md\n", "1 file deleted\n"}, s.tugline("sweep", "--edited"))
	for _, name := range []string{"docs/notes.md", "docs/late.md", "elsewhere/x"} {
		assert.Contains(t, s.read(name), "by hand")
	}

	s.states("docs")
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "docs"), 0o555))
	defer os.Chmod(filepath.Join(s.dir, "docs"), 0o755) // so that it can be removed
	var stderr strings.Builder
	cmd := s.command("sweep")
	cmd.Stderr = &stderr
	if os.Getuid() == 0 { // nothing keeps root from deleting
		require.NoError(t, os.Chmod(filepath.Dir(s.dir), 0o755))
		require.NoError(t, filepath.WalkDir(filepath.Join(s.dir, ".tugline"), func(path string, _ fs.DirEntry, err error) error {
			return errors.Join(err, os.Chown(path, 65534, 65534))
		}))
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	assert.Equal(t, 4, exitCode(t, cmd.Run()), stderr.String())
	assert.Contains(t, stderr.String(), "removing docs/one.md")
}

func TestWhatIsCalledAfterAFailureIsRecorded(t *testing.T) {
	s := tell(t, `
[task.t]
run = "exit 1"
if_failed = "collect"
[task.collect]
reads = "in"
writes = "out"
run = 'cp in out; echo >>ran'
`)
	s.write("in", "1")
	s.states("collect")
	assert.Equal(t, 1, s.tugline("--no-store", "t").code)
	assert.Equal(t, "unchanged", s.states("collect")["collect"], "its record is whole")
	r := s.tugline("t")
	assert.Equal(t, 1, r.code)
	assert.NotContains(t, r.stderr, "panic")
	assert.Equal(t, "unchanged", s.states("collect")["collect"])
	assert.Equal(t, "\n\n\n", s.read("ran"), "it is called whatever has changed")
}

// alive reports whether a process runs whose number stands in a file.
func (s *story) alive(file string) bool {
	s.t.Helper()
	state, err := os.ReadFile("/proc/" + strings.TrimSpace(s.read(file)) + "/stat")
	return err == nil && !strings.Contains(string(state), ") Z ")
}

func TestNothingOutlivesWhatStartedIt(t *testing.T) {
	if _, err := os.Stat("/proc/self/environ"); err != nil {
		t.Skip("the system does not show whose a process is")
	}
	s := tell(t, `
[env]
V = { run = """`+helper("setsid")+` sh -c 'echo $$ >computed; exec sleep 1000' >/dev/null 2>&1; while [ ! -s computed ]; do sleep 0.01; done; echo v""" }
[task.t]
reads = "in"
run = 'true $V'
[task.slow]
timeout = "300ms"
retry = { times = 1 }
run = '''
if [ -s first ]; then kill -0 "$(cat first)" 2>/dev/null && echo alive >early; exit 0; fi
`+helper("setsid")+` sh -c 'trap "" TERM; echo $$ >first; exec sleep 1000'
while [ ! -s first ]; do sleep 0.01; done
sleep 1000
'''
shell = "bash"
[task.held]
timeout = "100ms"
when = "sleep 1000"
run = "true"
[task.hosts]
timeout = "100ms"
each.host = { lines = "hosts" }
run = "true"
[task.make-hosts]
writes = "hosts"
run = "echo a >hosts"
[task.listed]
timeout = "100ms"
each.host = { lines = "hosts" }
each.more = { run = "sleep 1000" }
run = "true"
`)
	require.Equal(t, 0, s.tugline("plan", "t").code)
	assert.False(t, s.alive("computed"), "what a computed variable started")
	s.env = append(s.env, "V=x")
	s.write("tugline.toml", strings.Replace(s.read("tugline.toml"), "V = { run", "W = { run", 1))
	r := s.tugline("slow")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.NoFileExists(t, filepath.Join(s.dir, "early"), "what left its group is gone before the next attempt")
	r = s.tugline("held")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "timed out after 100ms", "conditions are bounded, too")
	r = s.tugline("listed")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "timed out after 100ms", "so are lists")
}

// A task may print on both streams at once while secrets are masked: run with
// -race this finds what they share.
func TestTwoStreamsAreMaskedAtOnce(t *testing.T) {
	s := tell(t, `
[env]
KEY = { value = "k-123", secret = true }
[task.t]
writes = "out"
shell = "bash"
run = 'for i in {1..2000}; do echo "one $KEY"; done & for i in {1..2000}; do echo "two $KEY" >&2; done; wait; echo >out'
`)
	r := s.tugline("t")
	assert.Equal(t, 0, r.code, r.stderr)
	assert.Equal(t, 2000, strings.Count(r.stdout, "one •••\n"))
	assert.Equal(t, 2000, strings.Count(r.stderr, "two •••\n"))
	assert.NotContains(t, r.stdout+r.stderr, "DATA RACE")
}

// What a Tugline left that was killed is cleared by the next one.
func TestTheNextStartClearsWhatIsLeft(t *testing.T) {
	s := tell(t, "[task.t]\nrun = 'echo >started; while true; do sleep 0.01; done'\nshell = 'sh'\n[task.u]\nrun = 'true'\nshell = 'sh'\n")
	tmp := t.TempDir()
	s.env = append(s.env, "TMPDIR="+tmp)
	cmd := s.command("t")
	require.NoError(t, cmd.Start())
	s.waitForFile("started")
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait() // it was killed
	s.write(".tugline/restore-"+strings.Repeat("0", 32)+"/half", "x")
	old := time.Now().Add(-time.Minute)
	left, err := filepath.Glob(filepath.Join(tmp, "*"))
	require.NoError(t, err)
	for _, name := range left {
		os.Chtimes(name, old, old) // it may be gone: the guard clears, too
	}
	require.Equal(t, 0, s.tugline("u").code)
	left, err = filepath.Glob(filepath.Join(tmp, "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	left, err = filepath.Glob(filepath.Join(s.dir, ".tugline/restore-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What finally undid is done again from its first call, instance by instance.
func TestGoingOnWithInstancesThatWereTornDown(t *testing.T) {
	for name, each := range map[string]string{"known": `{ list = ["a", "b"] }`, "made": `{ lines = "hosts" }`} {
		t.Run(name, func(t *testing.T) {
			s := tell(t, `
[task.hosts]
writes = "hosts"
run = 'printf "a\nb\n" >hosts'
[task.trial]
each.host = `+each+`
calls = ['up --host "$host"', 'use --host "$host"']
finally = ['down --host "$host"']
[task.up]
args.host = {}
run = 'echo "up $host" >>log'
[task.use]
args.host = {}
run = 'echo "use $host" >>log; test "$host" = a || test -e fine'
[task.down]
args.host = {}
run = 'echo "down $host" >>log'
`)
			require.Equal(t, 1, s.tugline("-j1", "trial").code)
			assert.ElementsMatch(t, []string{"up a", "use a", "down a", "up b", "use b", "down b"}, strings.Split(strings.TrimSpace(s.read("log")), "\n"))
			s.write("fine", "")
			s.write("log", "")
			r := s.tugline("resume")
			assert.Equal(t, 0, r.code, r.stdout+r.stderr)
			assert.Equal(t, "up b\nuse b\ndown b\n", s.read("log"))
		})
	}
}

// Programs that end others often signal twice at once: that is one interrupt.
func TestADoubledSignalDoesNotSkipCleaningUp(t *testing.T) {
	s := tell(t, "[task.t]\nrun = 'echo >started; while true; do sleep 0.01; done'\nfinally = 'down'\n[task.down]\nrun = 'sleep 0.2; echo >down'\n")
	cmd := s.command("t")
	require.NoError(t, cmd.Start())
	s.waitForFile("started")
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT)) // two of a kind may become one
	assert.Contains(t, []int{130, 143}, exitCode(t, cmd.Wait()))
	assert.FileExists(t, filepath.Join(s.dir, "down"))
}

func TestAFolderThatIsNotKnownYet(t *testing.T) {
	s := tell(t, `
[task.t]
args.sub = { default = "deep" }
args.in = { type = "file" }
folder = "$sub"
run = 'cat "$in"'
`)
	s.write("deep/x", "wrong\n")
	s.write("x", "right\n")
	s.write("here/y", "from here\n")
	assert.Equal(t, "right\n", s.tugline("-q", "t", "--in", "x").stdout)
	assert.Equal(t, "from here\n", s.tugline("-q", "-C", "here", "t", "--in", "y").stdout)
	assert.Contains(t, s.tugline("t", "--in", "none").stderr, "must be an existing file")
}

// A name may hold what a terminal obeys.
func TestControlCharactersInNamesAreNotPrinted(t *testing.T) {
	s := tell(t, "[task.t]\nreads = 'in/*'\nargs.x = { default = '' }\nrun = 'true'\n[task.fails]\nargs.x = {}\nrun = 'exit 1'\n")
	s.write("in/a", "1")
	s.states("t")
	s.write("in/\x1b[31mred\nline", "2")
	s.write("in/\u202eright", "2")
	for _, args := range [][]string{{"plan", "t"}, {"plan", "-v", "t"}, {"why", "t"}, {"--output", "lines", "t"}, {"t", "--x", "\x1b[31m"}, {"fails", "--x", "\x1b[2J"}, {"runs", "latest"}, {"show", "t"}, {"no\x1b[2Jtask"}} {
		r := s.tugline(args...)
		assert.NotContains(t, r.stdout+r.stderr, "\x1b", "%q", args)
		assert.NotContains(t, r.stdout+r.stderr, "\u202e", "%q", args)
	}
}

func TestSecretsAreMaskedWhereTheyAreEscaped(t *testing.T) {
	s := tell(t, `
[env]
KEY = { value = "k\n\"1\\", secret = true }
[task.t]
args.n = { type = "int" }
run = "true"
[task.u]
needs = ['t --n "$KEY"']
run = "true"
[task.w]
when = { env = { KEY = "x" } }
run = "true"
[task.names]
writes = "out/*"
run = 'echo 1 >"out/$(printf %s "$KEY" | tr -d "\n")"; exit 1'
`)
	for _, args := range [][]string{{"u"}, {"plan", "u"}, {"w"}, {"plan", "--json", "w"}, {"names"}, {"env", "--json"}, {"runs", "latest", "--json"}} {
		r := s.tugline(args...)
		for _, form := range []string{"k\n\"1\\", `k\n\"1\\`} {
			assert.NotContains(t, r.stdout+r.stderr, form, "%q", args)
		}
	}
	assert.Contains(t, s.tugline("u").stderr, "•••")
}

func TestADistributionsSuffixIsNoPreRelease(t *testing.T) {
	s := tell(t, "[task.t]\nrequire = [{ tool = './tool', version = '>=12.2, <13' }]\nrun = 'true'\n[task.pre]\nrequire = [{ tool = './pre', version = '>=12.2' }]\nrun = 'true'\n")
	s.write("tool", "#!/bin/sh\necho 'tool (Debian 12.2.0-14+deb12u1)'\n")
	s.write("pre", "#!/bin/sh\necho 'pre 12.2.0-rc1'\n")
	for _, name := range []string{"tool", "pre"} {
		require.NoError(t, os.Chmod(filepath.Join(s.dir, name), 0o755))
	}
	assert.Equal(t, 0, s.tugline("t").code)
	assert.Equal(t, 3, s.tugline("pre").code)
}
