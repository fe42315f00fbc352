package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// group is some rows that share their files.
type group struct {
	names []string // with which the names of its rows begin
	make  func() ([]row, error)
}

// rows makes the files of the rows whose names begin as one of names does; of
// all rows, if there are none.
func (b *bench) rows(names []string) ([]row, error) {
	var rows []row
	for _, g := range []group{
		{[]string{"start"}, b.startUp},
		{[]string{"words"}, b.shellWords},
		{[]string{"patterns"}, b.patterns},
		{[]string{"shell"}, b.shells},
		{[]string{"instances"}, b.instances},
		{[]string{"programs"}, b.programs},
		{[]string{"load"}, b.loading},
		{[]string{"output"}, b.output},
		{[]string{"unchanged", "first"}, b.nothingToDo},
		{[]string{"large"}, b.oneLarge},
		{[]string{"keep", "restore"}, b.keeping},
		{[]string{"plan"}, b.planning},
		{[]string{"makespan"}, b.makespan},
		{[]string{"watch"}, b.watching},
	} {
		if !g.wanted(names) {
			continue
		}
		made, err := g.make()
		if err != nil {
			return nil, err
		}
		rows = append(rows, made...)
	}
	return rows, nil
}

func (g group) wanted(names []string) bool {
	for _, n := range names {
		for _, prefix := range g.names {
			if strings.HasPrefix(n, prefix) || strings.HasPrefix(prefix, n) {
				return true
			}
		}
	}
	return len(names) == 0
}

// tasks writes a project of n tasks, each with the given commands, below a
// task "all" that needs them.
func (b *bench) tasks(name string, n int, run string) (string, error) {
	return b.tasksOf(name, n, func(int) string { return run })
}

// tasksOf does the same with the commands that run returns for each.
func (b *bench) tasksOf(name string, n int, run func(i int) string) (string, error) {
	var text strings.Builder
	text.WriteString("echo = false\n[task.all]\nneeds = [")
	for i := range n {
		fmt.Fprintf(&text, "'task-%d', ", i)
	}
	text.WriteString("]\n")
	for i := range n {
		fmt.Fprintf(&text, "[task.task-%d]\nabout = 'number %d'\nrun = '''%s'''\n", i, i, run(i))
	}
	return b.write(name+"/tugline.toml", text.String())
}

// startUp: a list of 50 tasks beside a static Go program that prints a line.
func (b *bench) startUp() ([]row, error) {
	file, err := b.tasks("start", 50, "true")
	if err != nil {
		return nil, err
	}
	source, err := b.write("hello/main.go", "package main\n\nimport \"fmt\"\n\nfunc main() { fmt.Println(\"hello\") }\n")
	if err != nil {
		return nil, err
	}
	hello := filepath.Join(b.dir, "hello", "hello")
	if err := b.build(hello, source); err != nil {
		return nil, err
	}
	const times = 20
	return []row{{
		name: "start", work: fmt.Sprintf("tugline list, 50 tasks, %d times", times), beside: "a static Go program that prints a line", goal: 2.5,
		ours:   repeat(times, command(b.tugline, "list", "--file", file)),
		theirs: repeat(times, command(hello)),
	}}, nil
}

func repeat(times int, f func() error) func() error {
	return func() error {
		for range times {
			if err := f(); err != nil {
				return err
			}
		}
		return nil
	}
}

// shellWords: tasks that start no program, beside subshells of dash.
func (b *bench) shellWords() ([]row, error) {
	const n = 1000
	const words = `i=1; test "$i" = 1 && x="number $i"; echo "$x" >/dev/null`
	file, err := b.tasks("words", n, words)
	if err != nil {
		return nil, err
	}
	script, err := b.write("words/script", strings.Repeat("("+words+")\n", n))
	if err != nil {
		return nil, err
	}
	return []row{{
		name: "words", work: "1,000 tasks of shell words, -j 1", beside: "dash, 1,000 subshells", goal: 0.7,
		ours:   command(b.tugline, "-q", "-j", "1", "--file", file, "all"),
		theirs: command("dash", script),
	}}, nil
}

// patterns: tasks with a pattern each, in one of many folders that stand side by side.
func (b *bench) patterns() ([]row, error) {
	const n = 2000
	file, err := b.tasksOf("patterns", n, func(i int) string { return fmt.Sprintf("set -- in/%d/*.txt; test $# = 2", i) })
	if err != nil {
		return nil, err
	}
	var script strings.Builder
	for i := range n {
		for _, name := range []string{"a.txt", "b.txt", "c.csv"} {
			if _, err := b.write(fmt.Sprintf("patterns/in/%d/%s", i, name), ""); err != nil {
				return nil, err
			}
		}
		fmt.Fprintf(&script, "(set -- in/%d/*.txt; test $# = 2)\n", i)
	}
	if _, err := b.write("patterns/script", script.String()); err != nil {
		return nil, err
	}
	theirs := func() error {
		cmd := exec.Command("dash", "script")
		cmd.Dir = filepath.Join(b.dir, "patterns")
		return cmd.Run()
	}
	return []row{{
		name: "patterns", work: "2,000 tasks with a pattern in a folder each, -j 1", beside: "dash, 2,000 subshells", goal: 1,
		ours:   command(b.tugline, "-q", "-j", "1", "--file", file, "all"),
		theirs: theirs,
	}}, nil
}

// shells: tasks in plain form, tasks for bash and tasks of one program, beside a shell for
// each of them.
func (b *bench) shells() ([]row, error) {
	const n = 200
	const plain = `x=one; test "$x" = one && y="$x two"; echo "$y" >/dev/null`
	const loop = `for i in 1 2 3; do x="number $i"; done; echo "$x" >/dev/null`
	var rows []row
	for _, r := range []struct {
		name, work, script, other string
		goal                      float64
	}{
		{"shell-plain", "200 tasks in plain form, -j 1", plain, "dash", 0.7},
		{"shell-bash", "200 tasks that bash runs, -j 1", loop, "bash", 1.15},
		{"shell-program", "200 tasks of one program, -j 1", "/bin/true", "dash", 1.3},
	} {
		file, err := b.tasks(r.name, n, r.script)
		if err != nil {
			return nil, err
		}
		script, err := b.write(r.name+"/one", r.script+"\n")
		if err != nil {
			return nil, err
		}
		all, err := b.write(r.name+"/script", fmt.Sprintf("i=0; while [ $i -lt %d ]; do %s %s; i=$((i+1)); done\n", n, r.other, script))
		if err != nil {
			return nil, err
		}
		rows = append(rows, row{
			name: r.name, work: r.work, beside: "a " + r.other + " for each of them", goal: r.goal,
			ours:   command(b.tugline, "-q", "-j", "1", "--file", file, "all"),
			theirs: command("dash", all),
		})
	}
	return rows, nil
}

// instances: a task with 2,000 instances, each with a file of its own, from nothing and
// with nothing to do.
func (b *bench) instances() ([]row, error) {
	const n = 2000
	file, err := b.write("instances/tugline.toml", `echo = false
[task.page]
each.page  = { files = "in/*.txt", as = "stem" }
reads.raw  = "in/$page.txt"
writes.out = "out/$page.txt"
run = 'sed s/tide/water/ "$raw" >"$out"'
`)
	if err != nil {
		return nil, err
	}
	for i := range n {
		if _, err := b.write(fmt.Sprintf("instances/in/%d.txt", i), fmt.Sprintf("the tide of day %d\n", i)); err != nil {
			return nil, err
		}
	}
	dir := filepath.Join(b.dir, "instances")
	sh := func(script string) func() error {
		return func() error {
			cmd := exec.Command("sh", "-c", script)
			cmd.Dir = dir
			return cmd.Run()
		}
	}
	anew := sh("rm -rf out .tugline")
	ours := command(b.tugline, "-q", "-j", "2", "--no-store", "--file", file, "page")
	theirs := sh(`rm -rf theirs; mkdir theirs; ls in | xargs -P2 -I@ sh -c 'sed s/tide/water/ in/@ >theirs/@'`)
	return []row{{
		name: "instances", work: "2,000 instances with a file each, from nothing, -j 2", beside: "xargs -P2 sh -c", goal: 1.3,
		ours:   func() error { return errors.Join(anew(), ours()) },
		theirs: theirs,
	}, {
		name: "instances-0", work: "the same, nothing to do", beside: "xargs -P2 sh -c, all of it", goal: 0.1,
		ours:   ours,
		theirs: theirs,
	}}, nil
}

// programs: tasks that start one program each.
func (b *bench) programs() ([]row, error) {
	const n = 1000
	file, err := b.tasks("programs", n, "/bin/true")
	if err != nil {
		return nil, err
	}
	script, err := b.write("programs/script", fmt.Sprintf("i=0; while [ $i -lt %d ]; do /bin/true; i=$((i+1)); done\n", n))
	if err != nil {
		return nil, err
	}
	return []row{{
		name: "programs", work: "1,000 tasks that call /bin/true, -j 1", beside: "dash, a loop", goal: 1.3,
		ours:   command(b.tugline, "-q", "-j", "1", "--file", file, "all"),
		theirs: command("dash", script),
	}, {
		name: "programs-2", work: "the same, -j 2", beside: "xargs -P2 -n1", goal: 0.8,
		ours:   command(b.tugline, "-q", "-j", "2", "--file", file, "all"),
		theirs: command("sh", "-c", fmt.Sprintf("seq %d | xargs -P2 -n1 /bin/true", n)),
	}}, nil
}

// loading: reading, checking and planning, beside decoding the same as JSON.
func (b *bench) loading() ([]row, error) {
	var rows []row
	for _, n := range []int{10, 1000, 10000} {
		text, asJSON, err := manyTasks(n)
		if err != nil {
			return nil, err
		}
		times := max(1, 1000/n)
		rows = append(rows, row{
			name: fmt.Sprintf("load-%d", n), work: fmt.Sprintf("load, check and plan %d tasks", n), beside: "encoding/json, the same content", goal: 2.0,
			ours: repeat(times, func() error {
				p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", text)
				if err != nil {
					return err
				}
				_, err = plan.New(p, plan.Request{Calls: []project.Call{{Name: "all"}}, Env: os.Environ(), From: "/almanac", OS: "linux"})
				return err
			}),
			theirs: repeat(times, func() error {
				var v any
				return json.Unmarshal(asJSON, &v)
			}),
		})
	}
	parts, err := b.parts(200, 50)
	return append(rows, parts), err
}

// parts: the same, spread over many files.
func (b *bench) parts(files, tasks int) (row, error) {
	text, asJSON, err := manyTasks(tasks)
	if err != nil {
		return row{}, err
	}
	var top strings.Builder
	var calls, contents []string
	top.WriteString("[parts]\n")
	for i := range files {
		if _, err = b.write(fmt.Sprintf("parts/p%d/tugline.toml", i), string(text)); err != nil {
			return row{}, err
		}
		content, err := b.write(fmt.Sprintf("parts/p%d/tugline.json", i), string(asJSON))
		if err != nil {
			return row{}, err
		}
		fmt.Fprintf(&top, "p%d = \"p%d\"\n", i, i)
		calls, contents = append(calls, fmt.Sprintf("p%d/all", i)), append(contents, content)
	}
	fmt.Fprintf(&top, "[task.all]\nneeds = [%s]\n", quoted(calls))
	file, err := b.write("parts/tugline.toml", top.String())
	return row{
		name: "load-parts", work: fmt.Sprintf("load, check and plan %d parts of %d tasks", files, tasks), beside: "encoding/json, the same files", goal: 2.0,
		ours: func() error {
			p, err := project.Load(file, filepath.Base)
			if err != nil {
				return err
			}
			_, err = plan.New(p, plan.Request{Calls: []project.Call{{Name: "all"}}, Env: os.Environ(), From: p.Folder, OS: "linux"})
			return err
		},
		theirs: func() error {
			for _, path := range contents {
				text, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				var v any
				if err := json.Unmarshal(text, &v); err != nil {
					return err
				}
			}
			return nil
		},
	}, err
}

// manyTasks returns a project of n tasks as TOML, and the same as JSON.
func manyTasks(n int) (text, asJSON []byte, err error) {
	type task struct {
		About string            `json:"about"`
		Needs []string          `json:"needs"`
		Env   map[string]string `json:"env"`
		Run   string            `json:"run"`
	}
	var b strings.Builder
	tasks := map[string]task{}
	all := task{About: "all of them"}
	for i := range n {
		name := fmt.Sprintf("task-%d", i)
		t := task{About: fmt.Sprintf("The task with the number %d", i), Run: "awk -f scripts/clean.awk gauges/merrowick.csv >build/out.csv", Env: map[string]string{"NUMBER": fmt.Sprint(i)}}
		for _, need := range []int{i / 2, i / 3} {
			if need < i && need > 0 {
				t.Needs = append(t.Needs, fmt.Sprintf("task-%d", need))
			}
		}
		fmt.Fprintf(&b, "[task.%s]\nabout = %q\nneeds = [%s]\nenv = { NUMBER = %q }\nrun = '%s'\n\n", name, t.About, quoted(t.Needs), t.Env["NUMBER"], t.Run)
		tasks[name] = t
		all.Needs = append(all.Needs, name)
	}
	fmt.Fprintf(&b, "[task.all]\nabout = %q\nneeds = [%s]\n", all.About, quoted(all.Needs))
	tasks["all"] = all
	asJSON, err = json.Marshal(map[string]any{"task": tasks})
	return []byte(b.String()), asJSON, err
}

func quoted(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = fmt.Sprintf("%q", n)
	}
	return strings.Join(out, ", ")
}

// output: two tasks that print at the same time, beside sed adding the names.
func (b *bench) output() ([]row, error) {
	const print = `awk 'BEGIN { for (i = 0; i < 100000; i++) print "line", i, "with some more text behind it" }'`
	file, err := b.tasks("output", 2, print)
	if err != nil {
		return nil, err
	}
	return []row{{
		name: "output", work: "two tasks printing 100,000 lines each, lines", beside: "the same through sed", goal: 1.2,
		ours:   command(b.tugline, "-q", "-j", "2", "--output", "lines", "--file", file, "all"),
		theirs: command("sh", "-c", fmt.Sprintf("%s | sed 's/^/task-0 · /' & %s | sed 's/^/task-1 · /'; wait", print, print)),
	}}, nil
}

// makespan: the time that runs of random graphs take, in simulated time, beside
// what no order can be quicker than. The ratio is that of the run that is
// slower than 95 in 100, the spread goes from the one in the middle to it.
func (b *bench) makespan() ([]row, error) {
	simulate := sync.OnceValues(func() ([4]float64, error) {
		var found [4]float64
		text, err := exec.Command("go", "test", "-count=1", "-v", "-run", "^TestMakespan$", "./internal/engine").CombinedOutput()
		if err != nil {
			return found, fmt.Errorf("simulating runs: %w\n%s", err, text)
		}
		_, line, _ := strings.Cut(string(text), "makespan ")
		_, err = fmt.Sscanf(line, "known %f %f unknown %f %f", &found[0], &found[1], &found[2], &found[3])
		return found, err
	})
	at := func(i int) func() (measured, error) {
		return func() (measured, error) {
			found, err := simulate()
			return measured{ratio: found[i+1], low: found[i], high: found[i+1]}, err
		}
	}
	const bound = "max(longest path, work / jobs)"
	return []row{
		{name: "makespan-known", work: "random graphs of 200 steps, 8 jobs, times known", beside: bound, goal: 1.02, ratios: at(0)},
		{name: "makespan-hops", work: "the same, times unknown", beside: bound, goal: 1.13, ratios: at(2)},
	}, nil
}
