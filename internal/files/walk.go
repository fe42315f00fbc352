package files

import (
	"path"
	"slices"

	"tugline/internal/glob"
)

// adder is given what is meant in one folder after the other; all tells that
// these are all files of the folder. It must not keep the entries.
type adder func(f *folder, meant []*entry, all bool)

// walk gives found what set means, folder by folder.
func (t *Tree) walk(set *glob.Set, found adder) error {
	w := &walker{tree: t, set: set, found: found}
	return w.walk(t.folder("", false), set.Start())
}

// walker is one walk through a tree. The memory that a folder needs is used
// again for the next one.
type walker struct {
	tree  *Tree
	set   *glob.Set
	found adder
	empty func(*folder) // is given folders that are meant and hold nothing; nil: they do not count

	next  glob.State
	meant []*entry
	files int     // how many files of the folder were visited
	spare []entry // for a folder that only the index knows
	texts *texts  // keeps what was read; nil: it is not kept
}

// step is a folder to go down to.
type step struct {
	name   string
	state  glob.State
	follow bool // it is a link
}

// walk gives found what is meant in a folder and below.
func (w *walker) walk(f *folder, st glob.State) error {
	below, err := w.enter(f, st)
	if err != nil {
		return err
	}
	for _, b := range below {
		if err := w.walk(w.tree.folder(path.Join(f.path, b.name), b.follow), b.state); err != nil {
			return err
		}
	}
	return nil
}

// enter gives found what is meant in a folder, and returns where to go on.
func (w *walker) enter(f *folder, st glob.State) (below []step, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.unpack(w.spare)
	w.meant = w.meant[:0]
	h := &handle{name: w.tree.absolute(f, ""), follow: f.follow || f.path == ""}
	defer h.close()
	w.files = 0
	names, only := w.set.Exact(st)
	if only {
		below = w.visitNames(f, st, names)
	} else {
		if err := w.tree.list(f, h); err != nil {
			return nil, err
		}
		for i := range f.entries {
			below = w.visit(f, st, &f.entries[i], false, below)
		}
		if w.empty != nil && len(f.entries) == 0 && f.path != "" && !f.follow && w.set.Matches(st) {
			w.empty(f)
		}
	}
	if err := w.addMeant(f, h, !only && len(w.meant) == w.files); err != nil {
		return nil, err
	}
	w.spare = f.repack(w.tree.generation.Load())
	return below, nil
}

// visitNames visits the only entries that may be meant.
func (w *walker) visitNames(f *folder, st glob.State, names []string) (below []step) {
	slices.Sort(names)
	names = slices.Compact(names)
	for _, name := range names {
		w.tree.lookup(f, name) // before the pointers are taken: it may move the entries
	}
	for _, name := range names {
		if e := w.tree.lookup(f, name); e.kind != Gone {
			below = w.visit(f, st, e, true, below)
		}
	}
	return below
}

// visit adds an entry to what is meant, or to where to go on; named says that a
// pattern names it without wildcards.
func (w *walker) visit(f *folder, st glob.State, e *entry, named bool, below []step) []step {
	w.next = w.set.Step(st, e.name, w.next)
	switch e.kind {
	case Folder:
		if w.set.Below(w.next) && !slices.Contains(neverMatched, e.name) {
			below = append(below, step{e.name, slices.Clone(w.next), false})
		}
	case File, Link:
		w.files++
		if named && e.kind == Link && w.set.Below(w.next) && isFolder(w.tree.absolute(f, e.name)) {
			below = append(below, step{e.name, slices.Clone(w.next), true})
		}
		if w.set.Matches(w.next) {
			w.meant = append(w.meant, e)
		}
	}
	return below
}

// addMeant gives found the entries of f that are meant, with their digests; all
// tells that these are all its files.
func (w *walker) addMeant(f *folder, h *handle, all bool) error {
	generation := w.tree.generation.Load() // before asking: what is asked later counts as older, not as newer
	if err := w.tree.stampAll(f, h, w.meant); err != nil {
		return err
	}
	if all {
		f.stamped = generation
	}
	if w.texts != nil {
		w.texts.of = make([][]byte, len(w.meant))
	}
	if err := w.tree.hashAll(f, h, w.meant, w.texts); err != nil {
		return err
	}
	if there := w.dropGone(); there < len(w.meant) {
		w.meant, all = w.meant[:there], false
	}
	w.found(f, w.meant, all)
	return nil
}

// dropGone moves what is there to the front of what is meant, and returns how
// much that is.
func (w *walker) dropGone() int {
	there := 0
	for i, e := range w.meant {
		if !e.hashed {
			continue
		}
		w.meant[there] = e
		if w.texts != nil {
			w.texts.of[there] = w.texts.of[i]
		}
		there++
	}
	return there
}
