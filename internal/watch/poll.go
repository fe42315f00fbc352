package watch

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"tugline/internal/files"
)

// look is how a file looked when it was scanned.
type look struct {
	files.Look
	young bool // it may have changed since without looking different
}

// scanAll scans until the watcher ends.
func (w *Watcher) scanAll() {
	w.mu.Lock()
	every := w.poll
	w.mu.Unlock()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			w.mu.Lock()
			w.compare()
			w.mu.Unlock()
		case <-w.quit:
			return
		}
	}
}

// compare scans, and notes what looks different. w is locked.
func (w *Watcher) compare() {
	if w.scope.Match == nil {
		return // nothing is watched yet
	}
	before := w.looks
	w.looks = w.scan()
	for p, now := range w.looks {
		switch was, known := before[p]; {
		case !known || was.Look != now.Look:
			w.note(p, ofMatch)
		case was.young:
			w.note(p, unsure)
		}
		delete(before, p)
	}
	for p := range before {
		w.note(p, ofMatch) // it is gone
	}
}

// scan looks at all that matches. w is locked.
func (w *Watcher) scan() map[string]look {
	s := &scanner{w: w, looks: map[string]look{}, now: time.Now()}
	for _, root := range w.scope.Roots {
		s.folder(root, 0)
	}
	return s.looks
}

type scanner struct {
	w     *Watcher
	looks map[string]look
	now   time.Time
}

func (s *scanner) folder(p string, links int) {
	list, err := readFolder(s.w.absolute(p))
	if err != nil {
		return // gone, or not ours to read
	}
	for _, e := range list {
		child := path.Join(p, e.Name())
		switch {
		case e.IsDir():
			if s.w.scope.Below(child, false) {
				s.folder(child, links)
			}
			continue
		case e.Type()&fs.ModeSymlink != 0 && links < maxLinks:
			info, err := os.Stat(filepath.Join(s.w.absolute(p), e.Name()))
			if err == nil && info.IsDir() && s.w.scope.Below(child, true) {
				s.folder(child, links+1)
			}
		}
		if s.w.scope.Match(child) {
			l := files.LookAt(s.w.absolute(child))
			s.looks[child] = look{l, !l.IsSure(s.now)}
		}
	}
}
