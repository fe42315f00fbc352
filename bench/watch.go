package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Saves are so many, and so far apart.
const (
	saves   = 500
	between = 80 * time.Millisecond
	lull    = 50 * time.Millisecond
)

// watching: how soon a save is acted on, and what a round costs in which nothing is to do.
func (b *bench) watching() ([]row, error) {
	if _, err := b.write("saves/tugline.toml", "[task.a]\nreads = 'in'\nrun = 'echo >go'\n"); err != nil {
		return nil, err
	}
	dir := filepath.Join(b.dir, "saves")
	if err := command("mkfifo", filepath.Join(dir, "go"))(); err != nil {
		return nil, err
	}
	var ours, theirs []time.Duration
	both := func() (err error) {
		if ours != nil {
			return nil
		}
		if ours, err = b.saves(dir); err == nil {
			theirs, err = bareSaves(filepath.Join(b.dir, "bare"))
		}
		slices.Sort(ours)
		slices.Sort(theirs)
		return err
	}
	at := func(share int) func() (measured, error) {
		return func() (measured, error) {
			if err := both(); err != nil {
				return measured{}, err
			}
			o, t := ours[len(ours)*share/100], theirs[len(theirs)*share/100]
			ratio := float64(o) / float64(t)
			return measured{ours: o, theirs: t, ratio: ratio, low: ratio, high: ratio}, nil
		}
	}
	beside := fmt.Sprintf("a bare fsnotify program that waits %v", lull)
	return []row{
		{name: "watch-save", work: fmt.Sprintf("from the end of a save to the start of the task, median of %d", saves), beside: beside, goal: 1.04, ratios: at(50)}, // 2 ms of 50
		{name: "watch-save-99", work: "the same, 99th percentile", beside: beside, goal: 1.2, ratios: at(99)},                                                       // 10 ms of 50
		{name: "watch-quiet", work: "processor time of a round with nothing to do over 100,000 watched files, one of them saved", beside: "that of a fresh run", goal: 0.1, ratios: b.quietRounds},
	}, nil
}

// saves saves a file again and again under a watch, and returns how long it took each
// time until the task ran.
func (b *bench) saves(dir string) ([]time.Duration, error) {
	in := filepath.Join(dir, "in")
	if err := os.WriteFile(in, []byte("0"), 0o644); err != nil {
		return nil, err
	}
	started, err := os.OpenFile(filepath.Join(dir, "go"), os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer started.Close()
	cmd := exec.Command(b.tugline, "watch", "--lull", lull.String(), "a")
	cmd.Dir = dir
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	defer func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	}()
	buf := make([]byte, 16)
	if _, err := started.Read(buf); err != nil { // the first run
		return nil, err
	}
	time.Sleep(time.Second)
	return timeSaves(in, func() error {
		_, err := started.Read(buf)
		return err
	})
}

// timeSaves saves a file again and again, and returns how long each time until heard returns.
func timeSaves(in string, heard func() error) ([]time.Duration, error) {
	var took []time.Duration
	for i := range saves {
		if err := os.WriteFile(in, fmt.Append(nil, i, " "), 0o644); err != nil {
			return nil, err
		}
		start := time.Now()
		if err := heard(); err != nil {
			return nil, err
		}
		took = append(took, time.Since(start))
		time.Sleep(between)
	}
	return took, nil
}

// bareSaves is saves with nothing but notices and a timer.
func bareSaves(dir string) ([]time.Duration, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	defer w.Close()
	if err := w.Add(dir); err != nil {
		return nil, err
	}
	return timeSaves(filepath.Join(dir, "in"), func() error {
		<-w.Events
		quiet := time.NewTimer(lull)
		for {
			select {
			case <-w.Events:
				quiet.Reset(lull)
			case err := <-w.Errors:
				return err
			case <-quiet.C:
				return nil
			}
		}
	})
}

// quiet is how many rounds are measured.
const quiet = 100

// quietRounds measures rounds in which nothing is to do.
func (b *bench) quietRounds() (measured, error) {
	dir, err := b.tree(100000)
	if err != nil {
		return measured{}, err
	}
	fresh := func() (time.Duration, error) {
		cmd := exec.Command(b.tugline, "-q", "all")
		cmd.Dir = dir
		err := cmd.Run()
		return cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime(), err
	}
	var times []time.Duration
	for i := range 10 {
		took, err := fresh()
		if err != nil {
			return measured{}, err
		}
		if i > 0 {
			times = append(times, took)
		}
	}
	slices.Sort(times)
	cmd := exec.Command(b.tugline, "watch", "all")
	cmd.Dir = dir
	out, err := cmd.StderrPipe()
	if err != nil {
		return measured{}, err
	}
	if err := cmd.Start(); err != nil {
		return measured{}, err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() && !strings.Contains(lines.Text(), "waiting") {
	}
	before, err := processorTime(cmd.Process.Pid)
	if err != nil {
		return measured{}, err
	}
	for i := range quiet {
		path := filepath.Join(dir, fmt.Sprintf("part-%d/folder-%d/file-%d.txt", i, 10*i, 1000*i))
		now := time.Now()
		if err := os.Chtimes(path, now, now); err != nil {
			return measured{}, err
		}
		time.Sleep(2 * between)
	}
	after, err := processorTime(cmd.Process.Pid)
	cmd.Process.Signal(os.Interrupt)
	cmd.Wait()
	m := measured{ours: (after - before) / quiet, theirs: times[len(times)/2]}
	m.ratio = float64(m.ours) / float64(m.theirs)
	m.low, m.high = m.ratio, m.ratio
	return m, err
}

// processorTime returns what a process has used, as proc(5) tells it, in ticks of 10 ms.
func processorTime(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	var user, system int
	_, err = fmt.Sscan(fields[11]+" "+fields[12], &user, &system)
	return time.Duration(user+system) * 10 * time.Millisecond, err
}
