package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/store"
)

// tree writes n files of 2 KiB in folders of 100 below tasks that read 1,000 of
// them each, all under version control.
func (b *bench) tree(n int) (dir string, err error) {
	name := fmt.Sprintf("tree-%d", n)
	dir = filepath.Join(b.dir, name)
	random := rand.New(rand.NewPCG(1, uint64(n)))
	text := make([]byte, 2<<10)
	for i := range n {
		for k := range text {
			text[k] = byte('a' + random.IntN(26))
		}
		path := filepath.Join(dir, fmt.Sprintf("part-%d/folder-%d/file-%d.txt", i/1000, i/100, i))
		if i%100 == 0 {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return "", err
			}
		}
		if err := os.WriteFile(path, text, 0o644); err != nil {
			return "", err
		}
	}
	parts := (n + 999) / 1000
	var file strings.Builder
	file.WriteString("echo = false\n[task.all]\nneeds = [")
	for i := range parts {
		fmt.Fprintf(&file, "'read-%d', ", i)
	}
	file.WriteString("]\n")
	for i := range parts {
		fmt.Fprintf(&file, "[task.read-%d]\nreads = 'part-%d/**'\nrun = 'true'\n", i, i)
	}
	if _, err := b.write(name+"/tugline.toml", file.String()); err != nil {
		return "", err
	}
	if err := committed(dir); err != nil {
		return "", err
	}
	return dir, onDisk()
}

// committed puts all files of a folder under version control. That must not
// tidy up in the background afterwards: it would take a processor from what is
// measured.
func committed(dir string) error {
	quiet := []string{"-C", dir, "-c", "gc.auto=0", "-c", "maintenance.auto=false", "-c", "user.name=x", "-c", "user.email=x@example.org"}
	for _, args := range [][]string{{"init", "-q"}, {"add", "."}, {"commit", "-qm", "x"}} {
		if err := command("git", append(slices.Clone(quiet), args...)...)(); err != nil {
			return err
		}
	}
	return nil
}

// onDisk returns when all that was written is on the disk: writing it later
// would slow down what is measured then.
func onDisk() error { return command("sync")() }

// nothingToDo: all is unchanged, beside what version control says of the files.
func (b *bench) nothingToDo() ([]row, error) {
	var rows []row
	for _, n := range []int{1000, 10000, 100000} {
		dir, err := b.tree(n)
		if err != nil {
			return nil, err
		}
		goal := 0.0
		if n == 100000 {
			goal = 0.5
		}
		rows = append(rows, row{
			name: fmt.Sprintf("unchanged-%d", n), work: fmt.Sprintf("nothing to do, %d files read by %d tasks", n, (n+999)/1000), beside: "git status --porcelain", goal: goal,
			ours:   b.kept("-C", dir, "-q", "all"),
			theirs: command("git", "-C", dir, "status", "--porcelain"),
		}, row{
			name: fmt.Sprintf("first-%d", n), work: "first fingerprint of the same files", beside: "find | xargs -P2 sha256sum", goal: goal,
			ours: func() error {
				if err := os.RemoveAll(filepath.Join(dir, ".tugline")); err != nil {
					return err
				}
				return b.kept("-C", dir, "-q", "--no-store", "all")()
			},
			theirs: command("sh", "-c", "find '"+dir+"' -name 'file-*' -print0 | xargs -0 -P2 sha256sum >/dev/null"),
		})
	}
	return rows, nil
}

// kept returns a function that calls Tugline with a store of the benchmark's own.
func (b *bench) kept(args ...string) func() error {
	return command("env", append([]string{"TUGLINE_STORE=" + filepath.Join(b.dir, "store"), b.tugline}, args...)...)
}

// oneLarge: the first fingerprint of one file of 1 GiB.
func (b *bench) oneLarge() ([]row, error) {
	dir := filepath.Join(b.dir, "large")
	if _, err := b.write("large/tugline.toml", "[task.all]\nreads = 'large.bin'\necho = false\nrun = 'true'\n"); err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "large.bin")
	if err := errors.Join(command("dd", "if=/dev/urandom", "of="+file, "bs=1M", "count=1024")(), onDisk()); err != nil {
		return nil, err
	}
	return []row{{
		name: "large", work: "first fingerprint of a file of 1 GiB", beside: "sha256sum", goal: 0.15,
		ours: func() error {
			if err := os.RemoveAll(filepath.Join(dir, ".tugline")); err != nil {
				return err
			}
			return b.kept("-C", dir, "-q", "--no-store", "all")()
		},
		theirs: command("sha256sum", file),
	}}, nil
}

// outputs is a folder with 10,000 files of 2 KiB, and a store.
type outputs struct {
	dir   string
	round int
	set   *glob.Set
	store *store.Store
	found []files.Found
}

const outputsKey = "00000000000000000000000000000000000000000000000000000000000000aa"

// keeping: keep and restore outputs, beside copying them.
func (b *bench) keeping() ([]row, error) {
	o := &outputs{dir: filepath.Join(b.dir, "outputs")}
	random := rand.New(rand.NewPCG(1, 2))
	text := make([]byte, 2<<10)
	for i := range 10000 {
		for k := range text {
			text[k] = byte('a' + random.IntN(26))
		}
		if _, err := b.write(fmt.Sprintf("outputs/from/out/folder-%d/file-%d", i/100, i), string(text)); err != nil {
			return nil, err
		}
	}
	set, err := glob.Compile([]glob.Pattern{{Text: "out"}})
	if err := errors.Join(err, onDisk()); err != nil {
		return nil, err
	}
	o.set = set
	from := filepath.Join(o.dir, "from")
	copyOut := func() error {
		o.round++
		to := filepath.Join(o.dir, fmt.Sprintf("copy-%d", o.round))
		return command("cp", "-r", filepath.Join(from, "out"), to)()
	}
	return []row{{
		name: "keep", work: "keep 10,000 outputs of 2 KiB", beside: "cp -r", goal: 0.75,
		ours: func() error { return o.keep(from) }, theirs: copyOut,
	}, {
		name: "restore", work: "restore them into an empty place", beside: "cp -r", goal: 0.75,
		ours: func() error {
			o.round++
			return o.restore(filepath.Join(o.dir, fmt.Sprintf("restored-%d", o.round)), nil)
		}, theirs: copyOut,
	}, {
		name: "restore-right", work: "restore what is right already", beside: "cp -r", goal: 0.05,
		ours: func() error { return o.restore(from, o.found) }, theirs: copyOut,
	}}, nil
}

func (o *outputs) keep(from string) error {
	o.round++
	kept := store.At(filepath.Join(o.dir, fmt.Sprintf("store-%d", o.round)))
	err := kept.Create()
	if err != nil {
		return err
	}
	o.store = kept
	if o.found, err = files.New(from).Outputs(o.set, 32<<20); err != nil {
		return err
	}
	root, err := os.OpenRoot(from)
	if err != nil {
		return err
	}
	defer root.Close()
	return kept.Put(context.Background(), outputsKey, root, o.found, store.Made{Local: []string{from}, LocalKey: strings.Repeat("b", 64)})
}

func (o *outputs) restore(to string, present []files.Found) error {
	if o.store == nil {
		if err := o.keep(filepath.Join(o.dir, "from")); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer root.Close()
	entry, err := o.store.Get(context.Background(), outputsKey)
	if err != nil {
		return err
	}
	_, err = o.store.Restore(context.Background(), entry, root, store.Restoring{Staging: "staging", Present: present, May: o.set.Match})
	return err
}

// planning: what would happen, with many tasks that read and write a file each.
func (b *bench) planning() ([]row, error) {
	var rows []row
	for _, n := range []int{10, 1000, 10000} {
		var file strings.Builder
		name := fmt.Sprintf("plan-%d", n)
		file.WriteString("[task.all]\nreads = 'out/**'\nrun = 'true'\n")
		for i := range n {
			fmt.Fprintf(&file, "[task.task-%d]\nreads = 'in/%d/*.txt'\nwrites = 'out/%d.txt'\nrun = 'cat in/%d/*.txt >out/%d.txt'\n", i, i, i, i, i)
			if _, err := b.write(fmt.Sprintf("%s/in/%d/a.txt", name, i), fmt.Sprint(i)); err != nil {
				return nil, err
			}
		}
		if _, err := b.write(name+"/tugline.toml", file.String()); err != nil {
			return nil, err
		}
		dir := filepath.Join(b.dir, name)
		if err := errors.Join(committed(dir), onDisk()); err != nil {
			return nil, err
		}
		rows = append(rows, row{
			name: name, work: fmt.Sprintf("plan of %d tasks that never ran, each with a file", n), beside: "git status --porcelain", goal: 10,
			ours: b.kept("-C", dir, "plan", "all"), theirs: command("git", "-C", dir, "status", "--porcelain"),
		})
	}
	return rows, nil
}
