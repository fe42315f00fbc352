// Package files tells which files of a project some patterns mean, and what
// they hold. It remembers digests between runs, so that a file is read again
// only when it may have changed.
package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"tugline/internal/glob"
)

// Kind is what an entry of a folder is.
type Kind uint8

// The kinds of entries.
const (
	Gone   Kind = iota // there is none
	File               // a regular file
	Folder             //
	Link               // a symbolic link
	Other              // a device, a socket and the like
)

// Digest is the BLAKE3 digest of a file's content, or of a link's text.
type Digest [32]byte

// stamp is what the system tells of a file without reading it. A file whose
// stamp is the same holds the same, once its times are old enough.
type stamp struct {
	size, modified, changed int64 // bytes; nanoseconds since 1970
	inode                   uint64
	mode                    uint32 // permission bits
	links                   uint32 // how many names it has
	kind                    Kind
}

// entry is what is known of one name of a folder.
type entry struct {
	name string
	stamp
	checked  int32 // the generation in which the stamp was taken; 0: from the index
	hashed   bool  // digest is that of a file with this stamp
	reliable bool  // the stamp was old enough when the file was read
	digest   Digest
}

// folder is what is known of a folder.
type folder struct {
	path   string // relative to the top, with slashes; empty: the top itself
	follow bool   // it is a link to a folder, which a pattern names

	mu      sync.Mutex        // protects the fields below
	trusted int64             // digests of the index are believed for files that are not younger, in nanoseconds since 1970
	packed  string            // the entries as the index says them; empty when something else was learned
	check   uint32            // the checksum of packed
	entries []entry           // sorted by name; nil while only packed says them
	listed  int32             // the generation in which entries were all there were; 0: never
	stamped int32             // the generation in which the stamps of all its files were taken
	asked   int32             // the last generation in which one of its entries was asked for
	behind  map[string]*stamp // of the files to which links lead, when their digests were made
	self    stamp             // of the folder when its names were read
	named   bool              // entries are all names there were at self
	whole   Digest            // the sum of all its files; zero: not known
	again   bool              // it was used before in this process
	bad     error             // why it could not be read
}

// Tree reads the files below the top folder of a project when a caller needs them,
// and caches what it found until [Tree.InvalidateAll] or [Tree.Invalidate]: between
// two calls of them, it looks at a file once. It may be used from many goroutines.
type Tree struct {
	top        string
	clockFile  string // empty: there is no clock; set before the tree is used
	boot       Digest // of the machine, in which the tree is used
	generation atomic.Int32

	mu      sync.Mutex // protects the fields below
	folders map[string]*folder
	dirty   bool // something was learned that the index does not say
	now     int64
	nowIn   int32 // the generation in which now was read
}

// New returns the tree below top, an absolute path, with nothing known of it.
func New(top string) *Tree {
	t := &Tree{top: top, folders: map[string]*folder{}}
	t.generation.Store(1)
	return t
}

// InvalidateAll makes the tree look at every file again: any may have changed.
func (t *Tree) InvalidateAll() { t.generation.Add(1) }

// Invalidate makes the tree look again at some paths, relative to the top with
// slashes, and at all below them, and at every folder of which watched does not
// say that its changes are told. What is known of the other folders is kept. It
// must not be called while the tree is used otherwise.
func (t *Tree) Invalidate(paths []string, watched func(folder string) bool) {
	t.nowIn = 0
	below := make(map[string]bool, len(paths))
	for _, p := range paths {
		below[p] = true
		if f := t.folders[folderOf(p)]; f != nil {
			f.forget()
		}
	}
	for dir, f := range t.folders {
		if f.listed|f.stamped|f.asked != 0 && (!watched(dir) || len(f.behind) > 0 || isBelow(dir, below)) {
			f.forget()
		}
	}
}

// Knows reports whether a file was there when the tree last looked.
func (t *Tree) Knows(p string) bool {
	f := t.folders[folderOf(p)]
	if f == nil {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.unpack(nil)
	_, known := f.find(path.Base(p))
	return known
}

// folderOf returns the folder in which a path lies; empty: the top.
func folderOf(p string) string {
	if dir := path.Dir(p); dir != "." {
		return dir
	}
	return ""
}

// isBelow reports whether a path is one of those in roots, or lies below one.
func isBelow(p string, roots map[string]bool) bool {
	for len(roots) > 0 && p != "" {
		if roots[p] {
			return true
		}
		p = folderOf(p)
	}
	return false
}

// forget has all be asked again of a folder and its files. Digests are kept for
// files that turn out to be as they were.
func (f *folder) forget() {
	f.listed, f.stamped, f.asked = 0, 0, 0
	for i := range f.entries {
		f.entries[i].checked = 0
	}
}

// Found is one file that patterns mean.
type Found struct {
	Path   string // relative to the top, with slashes
	Kind   Kind   // File or Link; among outputs, also Folder
	Mode   fs.FileMode
	Size   int64 // in bytes
	Digest Digest
	Text   []byte // what it held, from [Tree.Outputs]; nil: not known

	stamp  stamp
	behind *stamp // of the file to which a link leads; nil: none
}

// Untouched reports whether the file, which was found as f before and is found
// as now, held the same all the time. One that was written and put back looks
// touched, where the system tells the time of change.
func (f *Found) Untouched(now *Found) bool {
	if f.Path != now.Path || f.Kind != now.Kind || f.Mode != now.Mode || f.Digest != now.Digest {
		return false
	}
	return f.stamp.untouched(&now.stamp) && (f.behind == nil) == (now.behind == nil) && (f.behind == nil || f.behind.untouched(now.behind))
}

func (s *stamp) untouched(now *stamp) bool {
	renamed := *now
	if now.links != s.links { // it got another name or lost one, which moves the time of change alone
		renamed.links, renamed.changed = s.links, s.changed
	}
	return renamed == *s
}

// Executable reports whether the file may be run.
func (f *Found) Executable() bool { return f.Kind == File && f.Mode&0o111 != 0 }

// neverMatched are folders that no pattern means: our own, and those in which
// version control keeps its records.
var neverMatched = []string{".tugline", ".git", ".hg", ".svn", ".bzr", ".jj", "CVS"}

// NeverMatched reports whether no pattern means a path, because it is one of those
// folders or lies below one.
func NeverMatched(p string) bool {
	for name := range strings.SplitSeq(p, "/") {
		if slices.Contains(neverMatched, name) {
			return true
		}
	}
	return false
}

// Match returns the files that set means, with their digests, folder by
// folder. A link is one of them; if it leads to a file, the content of that
// counts in its digest. A link to a folder is followed only where a pattern
// names it without wildcards. A file that goes while it is being read is not
// there.
func (t *Tree) Match(set *glob.Set) ([]Found, error) {
	m := &matches{}
	err := t.walk(set, m.add)
	return m.found, err
}

// Outputs is [Tree.Match] for what a task has written: a folder that is meant
// and holds nothing counts, too. Where limit is not 0, what is read of the files
// to know their digests comes with them, of small files and up to limit bytes in
// all.
func (t *Tree) Outputs(set *glob.Set, limit int64) ([]Found, error) {
	m := &matches{}
	w := &walker{tree: t, set: set, found: m.add, empty: m.addFolder}
	if limit > 0 {
		w.texts = &texts{}
		w.texts.left.Store(limit)
		w.found = func(f *folder, meant []*entry, all bool) {
			from := len(m.found)
			m.add(f, meant, all)
			for i := range meant {
				m.found[from+i].Text = w.texts.of[i]
			}
		}
	}
	err := w.walk(t.folder("", false), set.Start())
	return m.found, err
}

// texts are the contents of the files that are meant in one folder after the
// other.
type texts struct {
	of   [][]byte     // in the order of the files; nil: not known
	left atomic.Int64 // how many bytes more may be kept
}

// keep keeps the content of a file, if there is room.
func (t *texts) keep(i int, text []byte) {
	if t.left.Add(-int64(len(text))) >= 0 {
		t.of[i] = append(make([]byte, 0, len(text)), text...)
	}
}

// matches gathers what is found. The paths share pieces of memory.
type matches struct {
	found []Found
	paths strings.Builder
}

func (m *matches) add(f *folder, meant []*entry, _ bool) {
	m.found = slices.Grow(m.found, len(meant))
	for _, e := range meant {
		found := Found{Path: m.path(f.path, e.name), Kind: e.kind, Mode: fs.FileMode(e.mode), Size: e.size, Digest: e.digest, stamp: e.stamp}
		if e.kind == Link {
			found.behind = f.behind[e.name]
		}
		m.found = append(m.found, found)
	}
}

func (m *matches) addFolder(f *folder) {
	m.found = append(m.found, Found{Path: f.path, Kind: Folder})
}

// path returns the path of a name in a folder.
func (m *matches) path(folder, name string) string {
	if folder == "" {
		return name
	}
	if m.paths.Cap()-m.paths.Len() < len(folder)+1+len(name) {
		m.paths = strings.Builder{}
		m.paths.Grow(max(8<<10, len(folder)+1+len(name)))
	}
	start := m.paths.Len()
	m.paths.WriteString(folder)
	m.paths.WriteByte('/')
	m.paths.WriteString(name)
	return m.paths.String()[start:]
}

// folder returns what is known of the folder at a path.
func (t *Tree) folder(dir string, follow bool) *folder {
	t.mu.Lock()
	defer t.mu.Unlock()
	f := t.folders[dir]
	if f == nil || f.follow != follow {
		f = &folder{path: dir, follow: follow}
		t.folders[dir] = f
	}
	return f
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// absolute returns the path of a name in f, or of f itself for "".
func (t *Tree) absolute(f *folder, name string) string {
	return filepath.Join(t.top, filepath.FromSlash(f.path), name)
}

// find returns where name stands, or belongs, in f.
func (f *folder) find(name string) (int, bool) {
	return slices.BinarySearchFunc(f.entries, name, func(e entry, name string) int { return strings.Compare(e.name, name) })
}

// lookup returns the entry called name as it is now. f is locked.
func (t *Tree) lookup(f *folder, name string) *entry {
	gen := t.generation.Load()
	if name == ".." { // no folder lists it, and no other name means it
		return &entry{name: name, stamp: stampOf(t.absolute(f, name))}
	}
	at, known := f.find(name)
	if known && f.isKnown(&f.entries[at], gen) {
		return &f.entries[at]
	}
	if !known && f.listed == gen {
		return &entry{}
	}
	now := stampOf(t.absolute(f, name))
	if !known {
		if now.kind == Gone {
			return &entry{}
		}
		f.entries = slices.Insert(f.entries, at, entry{name: name})
		f.named = false
	}
	e := &f.entries[at]
	f.take(e, now, gen)
	return e
}

// isKnown reports whether an entry is what there is in this generation. Of what
// is no file, only the kind is of interest, which the listing tells.
func (f *folder) isKnown(e *entry, gen int32) bool {
	return e.checked == gen || f.stamped == gen || f.listed == gen && e.kind != File && e.kind != Link
}

// take notes the stamp of an entry of f.
func (f *folder) take(e *entry, now stamp, gen int32) {
	if now.kind == Folder || now.kind == Other {
		now = stamp{kind: now.kind}
	}
	if e.stamp != now || e.hashed && !e.reliable && e.checked != gen {
		e.hashed, e.reliable = false, false
		f.changed()
	}
	e.stamp, e.checked, f.asked = now, gen, gen
}

// handle is a folder that is opened when it is first needed.
type handle struct {
	name   string // absolute
	follow bool   // it may be a link
	dir    openFolder
	open   bool
}

func (h *handle) get() (_ openFolder, err error) {
	if !h.open {
		h.dir, err = openDir(h.name, h.follow)
		h.open = err == nil
	}
	return h.dir, err
}

func (h *handle) close() {
	if h.open {
		h.dir.close()
		h.open = false
	}
}

// list makes the entries of f all there are now, with their kinds. f is locked.
func (t *Tree) list(f *folder, h *handle) error {
	gen := t.generation.Load()
	if f.listed == gen {
		return f.bad
	}
	f.bad = t.readFolder(f, h)
	f.listed = gen
	if errors.Is(f.bad, fs.ErrNotExist) {
		f.bad = nil // gone in between
	}
	if f.bad != nil {
		return fmt.Errorf("reading a folder: %w", f.bad)
	}
	return nil
}

// changed notes that the entries are no longer what the index says. f is locked.
func (f *folder) changed() { f.packed, f.whole = "", Digest{} }

// named is a name in a folder, and what stands there.
type named struct {
	name string
	kind Kind
}

// merge makes names, which are sorted, the entries of f, keeping what is known.
func (f *folder) merge(names []named) {
	old := f.entries
	f.changed()
	f.entries = make([]entry, 0, len(names))
	for _, now := range names {
		for len(old) > 0 && old[0].name < now.name {
			old = old[1:] // it is gone
		}
		if len(old) > 0 && old[0].name == now.name && old[0].kind == now.kind {
			f.entries = append(f.entries, old[0])
			continue
		}
		f.entries = append(f.entries, entry{name: now.name, stamp: stamp{kind: now.kind}})
	}
}

// namesOf returns the names that a listing tells, sorted.
func namesOf(list []fs.DirEntry) []named {
	names := make([]named, len(list))
	for i, e := range list {
		names[i] = named{e.Name(), kindOf(e.Type())}
	}
	slices.SortFunc(names, func(a, b named) int { return strings.Compare(a.name, b.name) })
	return names
}

func kindOf(mode fs.FileMode) Kind {
	switch {
	case mode.IsRegular():
		return File
	case mode.IsDir():
		return Folder
	case mode&fs.ModeSymlink != 0:
		return Link
	}
	return Other
}

// learned notes that the index is out of date.
func (t *Tree) learned() {
	t.mu.Lock()
	t.dirty = true
	t.mu.Unlock()
}
