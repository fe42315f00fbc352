// Package watch tells which files change: it gathers what the system reports of
// folders, or what it finds by scanning them, into sets of paths that are quiet.
package watch

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Options say how changes are found.
type Options struct {
	Top  string        // absolute: all paths count from it, with slashes; the top itself is "."
	Lull time.Duration // how long what changed must be quiet before it is told
	Poll time.Duration // scan so often instead of asking the system; 0: ask the system
	// Warn is told, by any goroutine, that the system cannot tell of changes, and that
	// the watcher scans from now on. It may be nil.
	Warn func(text string)
}

// Scope says which paths are watched. Its functions are called by one goroutine at
// a time.
type Scope struct {
	Roots []string               // folders with which the walk begins
	Match func(path string) bool // a change of it is told
	// Below reports whether something below a folder may match; link: the folder is a
	// link to one.
	Below func(path string, link bool) bool
}

// Change is what changed since the last one was taken.
type Change struct {
	Paths  []string  // sorted: they match, or are folders with something that matches
	Unsure []string  // they match, and may have changed without looking different
	Other  []string  // what else changed in the folders that are watched
	Lost   bool      // the system lost count: anything may have changed
	Last   time.Time // when the last of all that is told changed
}

// Empty reports whether nothing is told.
func (c *Change) Empty() bool { return len(c.Paths)+len(c.Unsure) == 0 && !c.Lost }

// notice is what is known of a path that changed.
type notice int

const (
	ofOther notice = iota // it does not match
	unsure                // it matches, and may have changed
	ofMatch               // it matches, and has changed
)

// noticeOf returns the notice of a path that changed.
func (s *Scope) noticeOf(p string) notice {
	if s.Match(p) {
		return ofMatch
	}
	return ofOther
}

// maxLulls is after how many lulls a change is told, though changes go on.
const maxLulls = 40

// pollAfterLimit is how often it scans when the system cannot tell.
const pollAfterLimit = time.Second

// Watcher watches folders. It may be used from many goroutines.
type Watcher struct {
	opts    Options
	settled chan struct{} // holds one value while what is pending is quiet
	quit    chan struct{}
	ended   sync.WaitGroup

	mu      sync.Mutex // protects the fields below
	system  *fsnotify.Watcher
	scope   Scope
	poll    time.Duration
	changed map[string]notice // pending, by path
	last    time.Time         // when the last of those that match changed
	lost    bool
	first   time.Time // of the pending changes
	timer   *time.Timer
	folders map[string][]string // the folders that are watched, by their real paths: the paths under which the scope knows them
	covered map[string]string   // by the paths under which folders are watched: their real paths
	behind  map[string][]string // by the real paths of files behind links, and of links on the way: the links
	looks   map[string]look     // of what matches, when it was scanned last
}

// Open returns a watcher that watches nothing yet.
func Open(opts Options) *Watcher {
	w := &Watcher{
		opts: opts, poll: opts.Poll, settled: make(chan struct{}, 1), quit: make(chan struct{}),
		changed: map[string]notice{}, timer: time.NewTimer(time.Hour),
	}
	w.timer.Stop()
	w.reset()
	if w.poll == 0 {
		var err error
		if w.system, err = fsnotify.NewWatcher(); err != nil {
			w.giveUp(err)
		}
	}
	w.ended.Go(w.settle)
	if w.system != nil {
		w.ended.Go(func() { w.listen(w.system) })
	}
	if w.poll > 0 {
		w.ended.Go(w.scanAll)
	}
	return w
}

func (w *Watcher) reset() {
	w.folders, w.covered, w.behind = map[string][]string{}, map[string]string{}, map[string][]string{}
}

// Close ends the watcher.
func (w *Watcher) Close() {
	close(w.quit)
	if w.system != nil {
		w.system.Close() // best effort
	}
	w.ended.Wait()
}

// Settled returns a channel on which there is a value once something has changed
// and nothing more changes.
func (w *Watcher) Settled() <-chan struct{} { return w.settled }

// Take returns what has changed, quiet or not, and begins anew.
func (w *Watcher) Take() Change {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := w.pending()
	w.changed, w.lost, w.first = map[string]notice{}, false, time.Time{}
	w.timer.Stop()
	select {
	case <-w.settled:
	default:
	}
	return c
}

// Peek returns what has changed without taking it.
func (w *Watcher) Peek() Change {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.pending()
}

// pending returns what has changed. w is locked.
func (w *Watcher) pending() Change {
	c := Change{Lost: w.lost, Last: w.last}
	lists := [...]*[]string{&c.Other, &c.Unsure, &c.Paths}
	for _, p := range slices.Sorted(maps.Keys(w.changed)) {
		list := lists[w.changed[p]]
		*list = append(*list, p)
	}
	return c
}

// Settle tells at once what is pending.
func (w *Watcher) Settle() {
	select {
	case w.settled <- struct{}{}:
	default:
	}
}

// IsWatched reports whether all changes in a folder, as the scope knows it, are told.
func (w *Watcher) IsWatched(folder string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.poll == 0 && w.covered[path.Clean(folder)] != ""
}

// Watch makes the watcher watch another scope. When it returns, every later change
// will be told.
func (w *Watcher) Watch(scope Scope) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.scope = scope
	before := w.folders
	w.reset()
	if w.poll > 0 {
		w.looks = w.scan()
		return
	}
	w.walkAll(before)
}

// walkAll watches all folders of the scope; before are those that are watched. w is
// locked.
func (w *Watcher) walkAll(before map[string][]string) {
	walk := &walker{w: w, watched: before}
	for _, root := range w.scope.Roots {
		walk.folder(root, "")
	}
	if w.poll > 0 {
		return // it has given up
	}
	for real := range before {
		if _, still := w.folders[real]; !still {
			w.system.Remove(real) // it may be gone
		}
	}
}

// settle tells when what is pending has been quiet long enough.
func (w *Watcher) settle() {
	for {
		select {
		case <-w.timer.C:
			w.Settle()
		case <-w.quit:
			return
		}
	}
}

// note notes that a path changed. w is locked.
func (w *Watcher) note(p string, n notice) {
	w.changed[p] = max(w.changed[p], n)
	if n > ofOther {
		w.wait()
	}
}

// wait lets the lull begin anew. w is locked.
func (w *Watcher) wait() {
	now := time.Now()
	w.last = now
	if w.first.IsZero() {
		w.first = now
	}
	w.timer.Reset(max(0, min(w.opts.Lull, w.opts.Lull*maxLulls-now.Sub(w.first))))
}

// lose notes that anything may have changed. w is locked.
func (w *Watcher) lose() {
	w.lost = true
	w.wait()
}

// giveUp has the watcher scan, since the system cannot tell of changes. w is locked,
// or not used yet.
func (w *Watcher) giveUp(err error) {
	w.poll = pollAfterLimit
	text := fmt.Sprintf("the system cannot watch the folders (%v)", err)
	switch {
	case errors.Is(err, syscall.ENOSPC):
		text = "the system's limit of watched folders is reached; to raise it on Linux: sysctl fs.inotify.max_user_watches=524288"
	case errors.Is(err, syscall.EMFILE):
		text = "the system's limit of watching programs is reached; to raise it on Linux: sysctl fs.inotify.max_user_instances=512"
	}
	if w.opts.Warn != nil {
		w.opts.Warn(fmt.Sprintf("%s. Looking at all files every %v instead", text, w.poll))
	}
}

// real returns the absolute path of a path of the scope.
func (w *Watcher) absolute(p string) string {
	return filepath.Join(w.opts.Top, filepath.FromSlash(p))
}
