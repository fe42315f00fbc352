package watch

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/fsnotify/fsnotify"
)

// listen takes what the system tells.
func (w *Watcher) listen(system *fsnotify.Watcher) {
	for {
		select {
		case e, open := <-system.Events:
			if !open {
				return
			}
			w.mu.Lock()
			w.event(e)
			w.mu.Unlock()
		case err, open := <-system.Errors:
			if !open {
				return
			}
			w.mu.Lock()
			w.failed(err)
			w.mu.Unlock()
		case <-w.quit:
			return
		}
	}
}

// failed takes an error of the system's. Whatever it is, some changes may not have
// been told, so all folders are walked again. w is locked.
func (w *Watcher) failed(error) {
	if w.poll > 0 {
		return
	}
	w.reset()
	w.walkAll(nil) // what is gone was told to the library, or is gone again
	w.lose()
}

// event takes one notice. w is locked.
func (w *Watcher) event(e fsnotify.Event) {
	if e.Name == "" || w.poll > 0 {
		return
	}
	name := filepath.Clean(e.Name)
	if _, watched := w.folders[name]; watched && e.Has(fsnotify.Remove|fsnotify.Rename) {
		w.folderGone(name)
	}
	folder, base := filepath.Dir(name), filepath.Base(name)
	for _, link := range w.behind[name] {
		walk := &walker{w: w, tell: true}
		walk.link(link)
		w.noteFolder(link)
	}
	for _, seen := range w.folders[folder] {
		w.inFolder(path.Join(seen, base), e)
	}
}

// inFolder takes a notice of something in a folder that is watched. w is locked.
func (w *Watcher) inFolder(p string, e fsnotify.Event) {
	if e.Has(fsnotify.Create | fsnotify.Rename | fsnotify.Remove | fsnotify.Chmod) {
		info, err := os.Lstat(w.absolute(p))
		switch {
		case err == nil && info.IsDir():
			if w.scope.Below(p, false) && (e.Op != fsnotify.Chmod || w.covered[p] == "") {
				walk := &walker{w: w, tell: true}
				walk.folder(p, "")
			}
			w.note(p, ofOther) // what is in it is told by the walk
			return
		case err == nil && info.Mode()&fs.ModeSymlink != 0:
			walk := &walker{w: w, tell: true}
			walk.link(p)
		}
	}
	w.note(p, w.scope.noticeOf(p))
}

// noteFolder notes that a folder changed, or a link to a folder: if something below
// may match, that may have. w is locked.
func (w *Watcher) noteFolder(p string) {
	if w.scope.Match(p) || w.scope.Below(p, false) {
		w.note(p, ofMatch)
	}
}

// folderGone gives up the watches of a folder that is gone or has another name, and
// of all below it: the system tells of them under the old names. w is locked.
func (w *Watcher) folderGone(name string) {
	for real, seen := range w.folders {
		if real != name && !strings.HasPrefix(real, name+string(filepath.Separator)) {
			continue
		}
		w.system.Remove(real) // it may be gone
		delete(w.folders, real)
		for _, p := range seen {
			delete(w.covered, p)
			if real == name {
				w.noteFolder(p)
			}
		}
	}
	for target, links := range w.behind {
		if strings.HasPrefix(target, name+string(filepath.Separator)) {
			for _, link := range links {
				w.note(link, w.scope.noticeOf(link))
			}
		}
	}
	walk := &walker{w: w, tell: true} // it may have been made again
	if info, err := os.Lstat(name); err == nil && info.IsDir() {
		for _, seen := range w.folders[filepath.Dir(name)] {
			if p := path.Join(seen, filepath.Base(name)); w.scope.Below(p, false) {
				walk.folder(p, "")
			}
		}
	}
}

// walker watches folders and all below them.
type walker struct {
	w       *Watcher
	watched map[string][]string // folders that the system watches already
	tell    bool                // what is found is new: it has changed
}

// folder watches a folder, which the scope knows by a path, and those below it. real
// is its real path; empty: it is looked for.
func (k *walker) folder(p, real string) {
	if real == "" {
		var err error
		if real, err = filepath.EvalSymlinks(k.w.absolute(p)); err != nil {
			return // it is not there
		}
	}
	was := k.w.covered[p]
	if was == real && !k.tell || !k.add(real) {
		return
	}
	if was != real {
		if was != "" { // a link leads elsewhere now
			k.w.folders[was] = slices.DeleteFunc(k.w.folders[was], func(seen string) bool { return seen == p })
		}
		k.w.folders[real] = append(k.w.folders[real], p)
		k.w.covered[p] = real
	}
	list, err := readFolder(real)
	if err != nil {
		return // gone again, or not ours to read
	}
	for _, e := range list {
		child := path.Join(p, e.Name())
		switch {
		case e.IsDir():
			if k.w.scope.Below(child, false) {
				k.folder(child, filepath.Join(real, e.Name()))
			}
		case e.Type()&fs.ModeSymlink != 0:
			k.link(child)
			k.found(child)
		default:
			k.found(child)
		}
	}
}

func (k *walker) found(p string) {
	if k.tell {
		k.w.note(p, k.w.scope.noticeOf(p))
	}
}

// readFolder returns what is in a folder, in any order.
func readFolder(name string) ([]fs.DirEntry, error) {
	dir, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return dir.ReadDir(-1)
}

// link watches what a link leads to.
func (k *walker) link(p string) {
	if info, err := os.Stat(k.w.absolute(p)); err == nil && info.IsDir() {
		if k.w.scope.Below(p, true) {
			k.w.resolve(p)
			k.folder(p, "")
		}
		return
	}
	if k.w.scope.Match(p) {
		k.w.resolve(p)
	}
}

// maxLinks is how many links are followed on the way to one file, as on Linux
// (path_resolution(7)).
const maxLinks = 40

// resolve watches the folders in which that stands to which a link leads, and the
// links on the way. w is locked.
func (w *Watcher) resolve(p string) {
	at := w.absolute(p)
	for range maxLinks {
		text, err := os.Readlink(at)
		if err != nil {
			return // no link: it is the file
		}
		if !filepath.IsAbs(text) {
			text = filepath.Join(filepath.Dir(at), text)
		}
		folder, err := filepath.EvalSymlinks(filepath.Dir(text))
		if err != nil {
			return
		}
		at = filepath.Join(folder, filepath.Base(text))
		k := &walker{w: w}
		if !k.add(folder) {
			return
		}
		if _, known := w.folders[folder]; !known {
			w.folders[folder] = nil
		}
		if !slices.Contains(w.behind[at], p) {
			w.behind[at] = append(w.behind[at], p)
		}
	}
}

// add has the system watch a folder.
func (k *walker) add(real string) bool {
	if k.w.poll > 0 {
		return false
	}
	if _, known := k.w.folders[real]; known && !k.tell {
		return true
	}
	if _, known := k.watched[real]; known {
		return true
	}
	err := k.w.system.Add(real)
	switch {
	case err == nil:
		return true
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission):
		return false // it is gone again, or not ours to read
	}
	k.w.giveUp(err)
	k.w.reset()
	k.w.looks = k.w.scan()
	k.w.lose()
	k.w.ended.Go(k.w.scanAll)
	return false
}
