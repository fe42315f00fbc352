package files

import (
	"path/filepath"
	"time"
)

// Look is what the system tells of a file without reading it. Two looks at a file
// are equal if nothing tells that it changed in between.
type Look struct{ at, behind stamp }

// LookAt returns how a file looks; a link, together with the file to which it leads.
func LookAt(path string) Look {
	l := Look{at: stampOf(path)}
	if l.at.kind == Link {
		if target, err := filepath.EvalSymlinks(path); err == nil {
			l.behind = stampOf(target)
		}
	}
	return l
}

// Modified returns when the file was written, in nanoseconds since 1970 by the clock of its
// file system.
func (l Look) Modified() int64 { return l.at.modified }

// LastChange returns when anything of the file changed last, as [Look.Modified] does.
func (f *Found) LastChange() int64 {
	latest := max(f.stamp.modified, f.stamp.changed)
	if f.behind != nil {
		latest = max(latest, f.behind.modified, f.behind.changed)
	}
	return latest
}

// Kind returns what stands there.
func (l Look) Kind() Kind { return l.at.kind }

// IsSure reports whether a file that looked like this at a time can only have
// changed since if it looks different.
func (l Look) IsSure(at time.Time) bool {
	now := at.UnixNano()
	return l.at.isSure(now) && (l.behind == stamp{} || l.behind.isSure(now))
}
