//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chain is three tasks that files put in order: readings, cleaned, a page, a check.
const chain = `
[env]
EDITION = "2026-10"
[task.clean]
reads.raw = "gauges/*.csv"
writes = "build/clean/*.csv"
run = 'for f in gauges/*.csv; do grep -v err "$f" >"build/clean/${f##*/}"; done; echo x >>ran-clean'
[task.page]
reads = "build/clean/*.csv"
writes.out = "build/page.txt"
run = 'cat build/clean/*.csv >"$out"; echo "$EDITION" >>"$out"; echo x >>ran-page'
[task.check]
reads = "build/page.txt"
run = 'test -s build/page.txt; echo x >>ran-check'
`

func tellChain(t *testing.T) *story {
	s := tell(t, chain)
	s.write("gauges/merrowick.csv", "1\nerr\n2\n")
	s.write("gauges/saltreach.csv", "3\n")
	return s
}

// states returns the state and the reason of each task of a run.
func (s *story) states(args ...string) map[string]string {
	s.t.Helper()
	r := s.tugline(append([]string{"--output", "blocks"}, args...)...)
	require.Equal(s.t, 0, r.code, r.stderr)
	return lines(r.stdout, `^(ran|unchanged|restored|skipped) +(\S+)(?: +[0-9.]+s)?(?:  +(.*))?$`)
}

// planned returns the action and the reason of each task of a plan.
func (s *story) planned(args ...string) map[string]string {
	s.t.Helper()
	r := s.tugline(append([]string{"plan"}, args...)...)
	require.Equal(s.t, 0, r.code, r.stderr)
	return lines(r.stdout, `^(run|maybe|unchanged|restore|skip) +(\S+)(?:  (.*))?$`)
}

func lines(text, pattern string) map[string]string {
	found := map[string]string{}
	for line := range strings.Lines(text) {
		if m := regexp.MustCompile(pattern).FindStringSubmatch(strings.TrimRight(line, "\n")); m != nil {
			found[m[2]] = strings.TrimSuffix(m[1]+": "+strings.TrimSpace(m[3]), ": ")
		}
	}
	return found
}

type states = map[string]string

func TestWhatIsUnchangedIsNotRunAgain(t *testing.T) {
	s := tellChain(t)
	assert.Equal(t, states{"clean": "ran: first run here", "page": "ran: first run here", "check": "ran: first run here"}, s.states("check"))
	all := states{"clean": "unchanged", "page": "unchanged", "check": "unchanged"}
	assert.Equal(t, all, s.states("check"))
	assert.Equal(t, all, s.planned("check"))
	assert.Equal(t, 0, s.tugline("plan", "--check", "check").code)

	touched := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(s.dir, "gauges/saltreach.csv"), touched, touched))
	assert.Equal(t, all, s.states("check"), "times do not count")

	s.write("gauges/saltreach.csv", "3\nerr\n")
	assert.Equal(t, states{"clean": "run: gauges/saltreach.csv changed", "page": "maybe: clean may change what it reads", "check": "maybe: page may change what it reads"}, s.planned("check"))
	assert.Equal(t, 1, s.tugline("plan", "--check", "check").code)
	assert.Equal(t, states{"clean": "ran: gauges/saltreach.csv changed", "page": "unchanged", "check": "unchanged"}, s.states("check"), "the writer made the same again")

	s.write("gauges/saltreach.csv", "4\n")
	s.write("gauges/dunmouth.csv", "5\n")
	assert.Equal(t, states{"clean": "ran: gauges/dunmouth.csv is new, and 1 more", "page": "ran: build/clean/dunmouth.csv is new, and 1 more", "check": "ran: build/page.txt changed"}, s.states("check"))

	require.NoError(t, os.Remove(filepath.Join(s.dir, "gauges/dunmouth.csv")))
	s.write("gauges/saltreach.csv", "3\n")
	assert.Equal(t, "restore: gauges/dunmouth.csv is gone", s.planned("check")["clean"])
	assert.Equal(t, states{"clean": "restored: gauges/dunmouth.csv is gone, and 1 more", "page": "restored: build/clean/dunmouth.csv is gone, and 1 more", "check": "restored: build/page.txt changed"}, s.states("check"), "the edit was undone")
	assert.NoFileExists(t, filepath.Join(s.dir, "build/clean/dunmouth.csv"), "a restore leaves exactly what was made then")
	assert.Equal(t, "1\n2\n3\n2026-10\n", s.read("build/page.txt"))
	assert.Equal(t, all, s.states("check"))

	assert.Equal(t, states{"clean": "unchanged", "page": `ran: EDITION is "2026-11", it was "2026-10"`}, withoutClean(s.states("--set", "EDITION=2026-11", "page")))
	s.write("tugline.toml", strings.Replace(chain, "echo x >>ran-check", "echo y >>ran-check", 1))
	assert.Equal(t, "ran: command changed", s.states("check")["check"])
	assert.Equal(t, 4, strings.Count(s.read("ran-clean"), "x"))
}

// withoutClean: the variable counts for clean too, which does not matter here.
func withoutClean(found states) states {
	found["clean"] = "unchanged"
	return found
}

func TestOutputsAreRestored(t *testing.T) {
	s := tellChain(t)
	s.states("check")
	spoil := map[string]func(){
		"output build/page.txt was changed": func() { s.write("build/page.txt", "mine") },
		"output build/page.txt is missing":  func() { require.NoError(t, os.Remove(filepath.Join(s.dir, "build/page.txt"))) },
	}
	for reason, do := range spoil {
		do()
		assert.Equal(t, "restore: "+reason, s.planned("page")["page"])
		found := s.states("page")
		assert.Equal(t, "unchanged", found["clean"])
		assert.Contains(t, found["page"], "restored: "+reason)
		if _, aside, edited := strings.Cut(found["page"], "; existing files were moved to "); edited {
			assert.Equal(t, "mine", s.read(aside+"/build/page.txt"), "an edit is not lost")
		}
		assert.Equal(t, "1\n2\n3\n2026-10\n", s.read("build/page.txt"))
	}
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "build")))
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "gauges/saltreach.csv"), 0o755))
	assert.Equal(t, "run: gauges/saltreach.csv changed", s.planned("page")["clean"], "that a file may be run counts")
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "gauges/saltreach.csv"), 0o644))
	assert.Equal(t, "unchanged", s.states("check")["check"])

	other := filepath.Join(t.TempDir(), "another checkout")
	require.NoError(t, os.CopyFS(other, os.DirFS(s.dir)))
	require.NoError(t, os.RemoveAll(filepath.Join(other, ".tugline")))
	require.NoError(t, os.RemoveAll(filepath.Join(other, "build")))
	assert.Equal(t, states{"clean": "restore: first run here", "page": "restore: first run here", "check": "restore: first run here"}, s.planned("-C", other, "check"))
	assert.Equal(t, states{"clean": "restored: first run here", "page": "restored: first run here", "check": "restored: first run here"}, s.states("-C", other, "check"))
	page, err := os.ReadFile(filepath.Join(other, "build/page.txt"))
	require.NoError(t, err)
	assert.Equal(t, s.read("build/page.txt"), string(page))
	assert.Equal(t, 1, strings.Count(s.read("ran-clean"), "x"))

	s.write("build/page.txt", "mine")
	assert.Equal(t, "ran: output build/page.txt was changed", s.states("--no-store", "page")["page"])
	s.write("build/page.txt", "mine")
	store := s.env[len(s.env)-1][len("TUGLINE_STORE="):]
	require.NoError(t, filepath.WalkDir(filepath.Join(store, "v1/objects"), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			err = os.WriteFile(path, []byte("damaged"), 0o600)
		}
		return err
	}))
	assert.Equal(t, "ran: output build/page.txt was changed", s.states("page")["page"], "what is damaged is made again")
	assert.Equal(t, "1\n2\n3\n2026-10\n", s.read("build/page.txt"))
	assert.Contains(t, s.tugline("store", "verify").stdout, "damaged and removed")
	assert.Contains(t, s.tugline("store", "verify").stdout, " good, 0 damaged and removed")
	assert.Regexp(t, `: \d+ entr(y|ies), \d+ objects?, `, s.tugline("store", "stats").stdout)
	assert.Equal(t, 0, s.tugline("store", "prune").code)
}

func TestWhatIsDeclaredDecides(t *testing.T) {
	s := tell(t, `
[task.writes-only]
writes = "made"
run = "echo x >made; echo x >>count"
[task.neither]
run = "echo x >>count"
[task.always]
always = true
reads = "tugline.toml"
run = "echo x >>count"
[task.tracks]
reads = "tugline.toml"
reads_env = ["CALLER"]
run = "true"
[task.fmt]
reads = "src/*.txt"
writes = "src/*.txt"
run = 'for f in src/*.txt; do tr a-z A-Z <"$f" >t; cat t >"$f"; done; rm t'
[task.free]
env.NOISE = { default = "1", counts = false }
reads = "tugline.toml"
run = "true"
[task.no-copy]
store = false
reads = "in"
writes = "out"
run = "cat in >out"
`)
	assert.Equal(t, "ran: first run here", s.states("writes-only")["writes-only"])
	assert.Equal(t, "unchanged", s.states("writes-only")["writes-only"])
	assert.Equal(t, "ran", s.states("neither")["neither"])
	assert.Equal(t, "ran", s.states("neither")["neither"])
	s.states("always")
	assert.Equal(t, "ran: always runs", s.states("always")["always"])
	s.env = append(s.env, "CALLER=1", "ELSE=1")
	s.states("tracks")
	s.env = append(s.env, "ELSE=2", "NOISE=2")
	assert.Equal(t, "unchanged", s.states("tracks")["tracks"], "what nobody tracks does not count")
	s.env = append(s.env, "CALLER=2")
	assert.Equal(t, `ran: CALLER is "2", it was "1"`, s.states("tracks")["tracks"])
	s.states("free")
	s.env = append(s.env, "NOISE=3")
	assert.Equal(t, "unchanged", s.states("free")["free"])

	s.write("src/a.txt", "text")
	s.states("fmt")
	assert.Equal(t, "TEXT", s.read("src/a.txt"))
	assert.Equal(t, "unchanged", s.states("fmt")["fmt"], "a formatter is unchanged after it formatted")
	s.write("src/a.txt", "text")
	assert.Equal(t, "restored: src/a.txt changed", s.states("fmt")["fmt"])
	assert.Equal(t, "TEXT", s.read("src/a.txt"))

	s.write("in", "1")
	s.states("no-copy")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "out")))
	assert.Equal(t, "ran: output out is missing", s.states("no-copy")["no-copy"])
}

func TestOutputsThatAreNotAsDeclared(t *testing.T) {
	s := tell(t, `
[task.forgets]
writes = ["a", "b/*.csv"]
run = "echo x >a"
[task.leads-out]
writes = "link"
run = "ln -sf /etc/hostname link"
[task.moves-out]
writes = ["near/x", "new/x"]
run = "echo x >near/x; rmdir new; ln -s \"$AWAY\" new; echo x >new/x"
[task.into]
writes = ["deep/er/", "side/*.csv"]
run = "echo x >deep/er/x; echo x >side/a.csv"
[task.leads-in]
writes = "inside"
run = "echo x >target; ln -sf target inside"
`)
	r := s.tugline("forgets")
	assert.Equal(t, 1, r.code, r.stderr)
	assert.Contains(t, r.stderr, `tugline.toml:3:16: task "forgets" failed
    3 | writes = ["a", "b/*.csv"]
      |                ^^^^^^^^^ succeeded but did not create b/*.csv, declared in writes`)
	assert.Equal(t, "run: its last run did not succeed", s.planned("forgets")["forgets"])
	r = s.tugline("leads-out")
	assert.Contains(t, r.stderr, "the output link leads out of the project")
	assert.Equal(t, 1, r.code)
	r = s.tugline("--set", "AWAY="+t.TempDir(), "moves-out")
	assert.Equal(t, 1, r.code, r.stderr)
	assert.Contains(t, r.stderr, `writes = ["near/x", "new/x"]
      |                     ^^^^^^^ the output new/x leads out of the project`)
	assert.Equal(t, "ran: first run here", s.states("into")["into"], "the folders are made before it starts")
	assert.Equal(t, "ran: first run here", s.states("leads-in")["leads-in"])
	require.NoError(t, os.Remove(filepath.Join(s.dir, "inside")))
	assert.Equal(t, "restored: output inside is missing", s.states("leads-in")["leads-in"])
	to, err := os.Readlink(filepath.Join(s.dir, "inside"))
	require.NoError(t, err)
	assert.Equal(t, "target", to)
}

func TestWhatDidNotEndWellIsNotUnchanged(t *testing.T) {
	s := tell(t, `
[task.t]
reads = "in"
writes = "out"
run = 'echo half >out; test ! -e fail; test ! -e hang || { echo x >hanging; sleep 60; }; cat in >out'
`)
	s.write("in", "good\n")
	for _, how := range []string{"fail", "interrupt", "kill"} {
		t.Run(how, func(t *testing.T) {
			s.write("in", "good "+how+"\n")
			if how == "fail" {
				s.write("fail", "")
				assert.Equal(t, 1, s.tugline("t").code)
				require.NoError(t, os.Remove(filepath.Join(s.dir, "fail")))
			} else {
				s.write("hang", "")
				cmd := s.command("t")
				require.NoError(t, cmd.Start())
				s.waitForFile("hanging")
				sig := syscall.SIGINT
				if how == "kill" {
					sig = syscall.SIGKILL
				}
				require.NoError(t, cmd.Process.Signal(sig))
				assert.Error(t, cmd.Wait())
				require.NoError(t, os.Remove(filepath.Join(s.dir, "hang")))
				require.NoError(t, os.Remove(filepath.Join(s.dir, "hanging")))
			}
			assert.Equal(t, "half\n", s.read("out"))
			assert.Equal(t, "run: its last run did not succeed", s.planned("t")["t"])
			s.states("t")
			assert.Equal(t, "good "+how+"\n", s.read("out"))
			assert.Equal(t, "unchanged", s.states("t")["t"])
		})
	}
}

// A name may hold what a shell, a line or JSON cannot.
func TestFilesWithOddNames(t *testing.T) {
	s := tell(t, "[task.copy]\nreads = 'in/**'\nwrites = 'out/**'\nrun = 'rm -rf out/*; cp in/* out/'\n[task.count]\nreads = 'out/**'\nwrites = 'sum'\nrun = 'cat out/* >sum'\n")
	names := []string{"a b", "q'uote", `d"q`, "new\nline", "bad\xff", "\xff\xfe", "tab\t", "é", `back\slash`, "star*", "-n", "br{a,b}", "$HOME", "!x"}
	for _, name := range names {
		s.write("in/"+name, "x")
	}
	s.states("count")
	assert.Equal(t, states{"copy": "unchanged", "count": "unchanged"}, s.states("count"))
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "out")))
	assert.Equal(t, states{"copy": "restore: output out/!x is missing", "count": "unchanged"}, s.planned("count"))
	s.write("in/bad\xff", "y")
	assert.Equal(t, "run: in/bad\ufffd changed", s.planned("copy")["copy"])
	s.write("in/bad\xff", "x")
	s.write("out/bad\xff", "edited")
	for _, name := range names[:4] {
		s.write("out/"+name, "x")
	}
	assert.Contains(t, s.states("copy")["copy"], "existing files were moved to .tugline/replaced/")
	for _, name := range names {
		assert.Equal(t, "x", s.read("out/"+name), "%q", name)
	}
	aside, err := filepath.Glob(filepath.Join(s.dir, ".tugline/replaced/*/out/*"))
	require.NoError(t, err)
	assert.Len(t, aside, 1, "only what was edited")
	assert.Contains(t, s.tugline("who", "out/bad\xff").stdout, "made by copy")
	assert.Contains(t, s.tugline("sweep").stderr, fmt.Sprintf("%d files deleted", len(names)+1))
}

func TestOptionsOfWhatIsRemembered(t *testing.T) {
	s := tellChain(t)
	s.states("check")
	assert.Equal(t, states{"clean": "unchanged", "page": "unchanged", "check": "ran: forced"}, s.states("--force", "check"))
	assert.Equal(t, states{"clean": "ran: forced", "page": "ran: forced", "check": "ran: forced"}, s.states("--force-needs", "check"))
	s.write("gauges/saltreach.csv", "9\n")
	assert.Equal(t, states{"clean": "unchanged: treated as unchanged, as requested", "page": "unchanged", "check": "unchanged"}, s.states("check", "--as-is", "clean"))
	assert.Equal(t, "run: gauges/saltreach.csv changed", s.planned("check")["clean"])
	assert.Equal(t, "unchanged: treated as unchanged, as requested", s.planned("check", "--as-is", "clean")["clean"])
	assert.Contains(t, s.tugline("check", "--as-is", "nope").stderr, `there is no task "nope"`)
	dry := s.tugline("-n", "check")
	assert.Regexp(t, `run        clean  gauges/saltreach.csv changed\n +writes build/clean/\S+ \(tugline.toml:\d+:\d+\), which page reads.* \(tugline.toml:\d+:\d+\)\n`, dry.stdout)
	var list struct {
		Tasks []struct {
			Name, Action string
			Reasons      []map[string]string
			Needs        []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(s.tugline("plan", "--json", "check").stdout), &list))
	assert.Equal(t, "run", list.Tasks[0].Action)
	require.Len(t, list.Tasks[0].Reasons, 1)
	assert.Subset(t, list.Tasks[0].Reasons[0], map[string]string{"kind": "file", "what": "gauges/saltreach.csv", "text": "gauges/saltreach.csv changed", "place": ""})
	assert.NotEqual(t, list.Tasks[0].Reasons[0]["from"], list.Tasks[0].Reasons[0]["to"])
	assert.Equal(t, []string{"clean"}, list.Tasks[1].Needs)
}

// snapshot returns the names and times of all files below a folder.
func snapshot(t *testing.T, dir string) map[string]time.Time {
	t.Helper()
	all := map[string]time.Time{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := d.Info()
		require.NoError(t, err)
		all[path] = info.ModTime()
		return nil
	}))
	return all
}

func TestLookingChangesNothing(t *testing.T) {
	s := tellChain(t)
	look := func() {
		before := snapshot(t, s.dir)
		for _, args := range [][]string{{"plan", "check"}, {"-n", "check"}, {"why", "page"}, {"who", "build/page.txt"}, {"sweep", "-n"}, {"doctor"}, {"plan", "--json", "check"}} {
			r := s.tugline(args...)
			assert.Equal(t, 0, r.code, "%q: %s", args, r.stderr)
			assert.Equal(t, before, snapshot(t, s.dir), "%q", args)
		}
	}
	look()
	s.states("check")
	s.write("gauges/merrowick.csv", "8\n")
	look()
}

func TestWhyAndWho(t *testing.T) {
	s := tellChain(t)
	assert.Contains(t, s.tugline("why", "clean").stdout, "it has had no good run here\n")
	s.states("check")
	r := s.tugline("why", "page")
	assert.Regexp(t, `^page  unchanged\nlast good run: 2\S+ \S+, in \S+s, run \S+\nnothing differs: 2 files read, 1 file written\n$`, r.stdout)
	s.write("tugline.toml", strings.Replace(strings.Replace(chain, "2026-10", "2026-11", 1), `echo "$EDITION" >>"$out"`, `echo "of $EDITION" >>"$out"`, 1))
	r = s.tugline("why", "page")
	assert.Contains(t, r.stdout, "  command changed\n    @@ -1 +1 @@\n    -cat build/clean/*.csv")
	assert.Contains(t, r.stdout, `  EDITION is "2026-11", it was "2026-10"`)
	assert.Contains(t, s.tugline("why", "page", "--json").stdout, `"last": {`)
	r = s.tugline("who", "build/page.txt")
	assert.Regexp(t, `^build/page.txt\n  made by page  build/page.txt, tugline.toml:10:14\n    last made 2.*, in run \S+\n  read by check  build/page.txt, tugline.toml:13:9\n    last read`, r.stdout)
	assert.Contains(t, s.tugline("-C", "build", "who", "page.txt").stdout, "made by page")
	assert.Contains(t, s.tugline("who", "nothing").stdout, "no task makes or reads it")
	assert.Contains(t, s.tugline("who", "gauges/merrowick.csv", "--json").stdout, `"name": "clean"`)
}

func TestSweepDeletesOutputsAlone(t *testing.T) {
	s := tell(t, chain+"[task.fmt]\nreads = 'src/**'\nwrites = 'src/**'\nrun = 'true'\n[task.kept]\nwrites = 'kept/*'\nrun = 'touch kept/made'\n")
	s.write("gauges/merrowick.csv", "1\n")
	s.write("src/a", "source")
	s.write("kept/tracked", "source")
	git := func(args ...string) {
		cmd := exec.Command("git", append([]string{"-C", s.dir, "-c", "user.name=x", "-c", "user.email=x@example.org"}, args...)...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	git("init", "-q")
	git("add", "gauges", "kept")
	s.states("check", "fmt", "kept")
	assert.Equal(t, result{0, "build/clean/merrowick.csv\nbuild/page.txt\nkept/made\n", "3 files would be deleted\n"}, s.tugline("sweep", "-n"))
	assert.Equal(t, result{0, "build/page.txt\n", "1 file deleted\n"}, s.tugline("sweep", "page"))
	assert.Equal(t, result{0, "build/clean/merrowick.csv\nkept/made\n", "2 files deleted\n"}, s.tugline("sweep"))
	assert.NoDirExists(t, filepath.Join(s.dir, "build"))
	assert.Equal(t, "source", s.read("src/a"))
	assert.Equal(t, "source", s.read("kept/tracked"))
	assert.Equal(t, "restored: output build/page.txt is missing", s.states("check")["page"])

	s.write("tugline.toml", strings.Replace(chain, "build/page.txt", "build/sheet.txt", 2))
	assert.Equal(t, "build/page.txt\n", s.tugline("sweep", "--stale", "-n").stdout)
	assert.Contains(t, s.tugline("doctor").stderr, "stale: build/page.txt, made by \"page\"")
	s.write("build/page.txt", "mine now")
	assert.NotContains(t, s.tugline("sweep", "--stale").stdout, "build/page.txt", "it was edited since")
}

func TestTwoTuglinesDoNotRunACallTwice(t *testing.T) {
	s := tell(t, "[task.t]\nreads = 'in'\nwrites = 'out'\nrun = 'echo x >>count; echo x >running; while [ ! -e go ]; do sleep 0.01; done; cat in >out'\n")
	s.write("in", "1")
	first := s.command("t")
	require.NoError(t, first.Start())
	s.waitForFile("running")
	second := s.command("--output", "blocks", "t")
	out, err := second.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, second.Start())
	told := make([]byte, len("t waiting for another Tugline that runs it or reads its outputs\n"))
	_, err = out.Read(told)
	require.NoError(t, err)
	assert.Equal(t, "t waiting for another Tugline that runs it or reads its outputs\n", string(told))
	s.write("go", "")
	rest := make([]byte, 100)
	n, _ := out.Read(rest)
	assert.Contains(t, string(rest[:n]), "unchanged  t")
	assert.NoError(t, first.Wait())
	assert.NoError(t, second.Wait())
	assert.Equal(t, "x\n", s.read("count"))
}

// However often Tugline is killed: once it says that all is well, the outputs
// are those of a clean run.
func TestNothingHalfMadePassesForGood(t *testing.T) {
	s := tell(t, `
[task.a]
reads = "in/*"
writes = "a/*"
run = 'for f in in/*; do sed s/in/a/ "$f" >"a/${f##*/}"; done'
[task.b]
reads = "a/*"
writes = "b/*"
run = 'for f in a/*; do sed s/a/b/ "$f" >"b/${f##*/}"; done'
[task.c]
reads = "b/*"
writes = "c"
run = 'cat b/* >c'
`)
	random := rand.New(rand.NewPCG(1, 2))
	for round := range 25 {
		want := ""
		for _, name := range []string{"1", "2", "3", "4"} {
			text := "in " + name + string(rune('a'+random.IntN(3))) + "\n" // so that it is often as it was before
			s.write("in/"+name, text)
			want += strings.Replace(text, "in", "b", 1)
		}
		for range 3 {
			cmd := s.command("-q", "c")
			require.NoError(t, cmd.Start())
			timer := time.AfterFunc(time.Duration(random.IntN(40_000))*time.Microsecond, func() { cmd.Process.Kill() })
			cmd.Wait() // it may have been killed, or not
			timer.Stop()
		}
		if random.IntN(3) == 0 {
			require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "b")))
		}
		r := s.tugline("-q", "c")
		require.Equal(t, 0, r.code, r.stderr)
		require.Equal(t, want, s.read("c"), "round %d", round)
	}
}

// A pattern of outputs may mean files that somebody wrote by hand.
func TestARestoreLosesNoWork(t *testing.T) {
	s := tell(t, "[task.generate]\nreads = 'src/*.idl'\nwrites = 'src/*.go'\nrun = 'cp src/a.idl src/a.go'\n")
	s.write("src/a.idl", "1")
	s.write("src/main.go", "by hand")
	s.states("generate")
	s.write("src/a.idl", "2")
	s.states("generate")
	s.write("src/a.idl", "1")
	s.write("src/main.go", "by hand, and edited")
	s.write("src/new.go", "new work")
	assert.Equal(t, "run: src/a.idl changed", s.planned("generate")["generate"], "a restore could not leave the edit alone")
	assert.Equal(t, "ran: src/a.idl changed", s.states("generate")["generate"])
	assert.Equal(t, "1", s.read("src/a.go"))
	assert.Equal(t, "by hand, and edited", s.read("src/main.go"))
	assert.Equal(t, "new work", s.read("src/new.go"))

	s.write("src/a.idl", "2")
	s.write("src/main.go", "by hand")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "src/new.go")))
	s.write("src/newer.go", "newer work")
	state := s.states("generate")["generate"]
	assert.Contains(t, state, "restored: src/a.idl changed; existing files were moved to .tugline/replaced/")
	_, aside, _ := strings.Cut(state, " were moved to ")
	assert.Equal(t, "2", s.read("src/a.go"))
	assert.Equal(t, "newer work", s.read(aside+"/src/newer.go"))
	assert.Equal(t, "by hand", s.read("src/main.go"))
}
