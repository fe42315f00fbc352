// Bench measures Tugline beside other ways of doing the same work, in one run,
// and prints the ratios as a table.
//
//	go run ./bench              every row
//	go run ./bench -rounds 20   more rounds of each
//	go run ./bench start chain  the rows whose names begin so
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"
)

// row is one comparison. Both sides are prepared once and run once a round,
// in turn, so that what else the machine does hits them alike.
type row struct {
	name   string
	work   string  // what is done
	beside string  // what it is held against
	goal   float64 // 0: none, the row shows how the cost grows
	ours   func() error
	theirs func() error
	ratios func() (measured, error) // in place of ours and theirs, of a row that takes no time: in simulated time
}

func main() {
	debug.SetGCPercent(200) // as the program does, for the rows that run in this process, on both sides
	rounds := flag.Int("rounds", 9, "how often each side is run")
	flag.Parse()
	if err := run(*rounds, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// verdict returns the columns that hold a ratio against the goal.
func (r *row) verdict(ratio float64) string {
	switch {
	case r.goal == 0:
		return "\t"
	case ratio > r.goal:
		return fmt.Sprintf("≤ %v\tmissed", r.goal)
	}
	return fmt.Sprintf("≤ %v\tmet", r.goal)
}

func run(rounds int, names []string) error {
	dir, err := os.MkdirTemp("", "tugline-bench-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-interrupted
		os.RemoveAll(dir) // best effort: what runs now may still write into it
		os.Exit(1)
	}()
	b := &bench{dir: dir, tugline: filepath.Join(dir, "tugline")}
	if err := b.build(b.tugline, "./cmd/tugline"); err != nil {
		return err
	}
	rows, err := b.rows(names)
	if err != nil {
		return err
	}
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "row\twork\tbeside\tours\ttheirs\tratio\tspread\tgoal\t")
	for _, r := range rows {
		if len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool { return strings.HasPrefix(r.name, n) }) {
			continue
		}
		if r.ratios == nil {
			r.ratios = func() (measured, error) { return measure(r, rounds) }
		}
		m, err := r.ratios()
		if err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%.2f\t%.2f–%.2f\t%s\n",
			r.name, r.work, r.beside, m.ours.Round(10*time.Microsecond), m.theirs.Round(10*time.Microsecond), m.ratio, m.low, m.high, r.verdict(m.ratio))
	}
	return table.Flush()
}

// measured is what a row came to: medians, the ratio of the two, and the
// quartiles of the ratios of the single rounds.
type measured struct {
	ours, theirs     time.Duration
	ratio, low, high float64
}

func measure(r row, rounds int) (measured, error) {
	var ours, theirs []time.Duration
	var ratios []float64
	for i := range rounds + 1 {
		o, err := timed(r.ours)
		if err != nil {
			return measured{}, fmt.Errorf("ours: %w", err)
		}
		t, err := timed(r.theirs)
		if err != nil {
			return measured{}, fmt.Errorf("theirs: %w", err)
		}
		if i == 0 {
			continue // to warm up
		}
		ours, theirs = append(ours, o), append(theirs, t)
		ratios = append(ratios, float64(o)/float64(t))
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	slices.Sort(ratios)
	m := measured{ours: ours[len(ours)/2], theirs: theirs[len(theirs)/2], low: ratios[len(ratios)/4], high: ratios[len(ratios)*3/4]}
	m.ratio = float64(m.ours) / float64(m.theirs)
	return m, nil
}

func timed(f func() error) (time.Duration, error) {
	runtime.GC() // what the other side left is not this one's to clear away
	start := time.Now()
	err := f()
	return time.Since(start), err
}

// bench knows where the programs and files of the rows are.
type bench struct {
	dir     string
	tugline string
}

// build builds a package, static, as the program out.
func (b *bench) build(out, pkg string) error {
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", out, pkg)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if text, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("building %s: %w\n%s", pkg, err, text)
	}
	return nil
}

// write writes a file of a row and returns its path.
func (b *bench) write(name, text string) (string, error) {
	path := filepath.Join(b.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	return path, os.WriteFile(path, []byte(text), 0o644)
}

// command returns a function that runs a program to its end, its output
// thrown away.
func command(name string, args ...string) func() error {
	return func() error {
		cmd := exec.Command(name, args...)
		var stderr strings.Builder
		cmd.Stderr = &stderr
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("%s: %w\n%s", strings.Join(cmd.Args, " "), err, stderr.String())
		}
		return nil
	}
}
