package project

import (
	"bytes"
	"fmt"
	"path/filepath"
	"sort"
	"sync"
	"sync/atomic"
	"unicode/utf8"
)

// Source is the text of one project file. It does not change once made and
// may be used from many goroutines.
type Source struct {
	Path string // absolute
	Name string // as it is shown to the user: usually relative to where they stand
	Text []byte // without a byte order mark, every line end a single \n

	order int       // of loading: findings are shown in this order
	once  sync.Once // guards lines
	lines []int     // offset of the start of each line

	last atomic.Pointer[counted] // of the place that was asked for last
}

// Folder returns the folder in which the file stands; empty for a nil source.
func (src *Source) Folder() string {
	if src == nil {
		return ""
	}
	return filepath.Dir(src.Path)
}

// Span is a stretch of a [Source]. The zero Span is no place at all. There are
// many of them, so they are kept small: a file may have 2 GiB.
type Span struct {
	Source       *Source
	offset, size int32 // in bytes
}

// spanOf returns the stretch of src with so many bytes from offset on.
func spanOf(src *Source, offset, length int) Span {
	return Span{Source: src, offset: int32(offset), size: int32(length)}
}

// Offset returns where s starts, in bytes.
func (s Span) Offset() int { return int(s.offset) }

// Length returns how long s is, in bytes.
func (s Span) Length() int { return int(s.size) }

// end returns the offset of the first byte behind s.
func (s Span) end() int { return s.Offset() + s.Length() }

// bytes returns what stands at s.
func (s Span) bytes() []byte { return s.Source.Text[s.Offset():s.end()] }

// IsZero reports whether s is no place at all.
func (s Span) IsZero() bool { return s.Source == nil }

// Position returns the line and the column at which s starts, both from 1.
// Columns count characters, not bytes.
func (s Span) Position() (line, column int) {
	from := counted{s.lineStart(), s.lineStart(), 0}
	if last := s.Source.last.Load(); last != nil && last.start == from.start && last.offset <= s.Offset() {
		from = *last
	}
	now := counted{from.start, s.Offset(), from.characters + utf8.RuneCount(s.Source.Text[from.offset:s.Offset()])}
	s.Source.last.Store(&now)
	return s.Source.lineAt(s.Offset()) + 1, now.characters + 1
}

// counted is how many characters stand before an offset in its line. The places of a long
// line are asked for one after the other.
type counted struct{ start, offset, characters int }

// Columns returns how many characters of its first line s covers, at least 1.
func (s Span) Columns() int {
	covered := s.bytes()
	if end := bytes.IndexByte(covered, '\n'); end >= 0 {
		covered = covered[:end]
	}
	return max(1, utf8.RuneCount(covered))
}

// LineText returns the line on which s starts, without its line end.
func (s Span) LineText() string {
	line := s.Source.Text[s.lineStart():]
	if end := bytes.IndexByte(line, '\n'); end >= 0 {
		line = line[:end]
	}
	return string(line)
}

// String returns the place as "file:line:column".
func (s Span) String() string {
	if s.IsZero() {
		return ""
	}
	line, column := s.Position()
	return fmt.Sprintf("%s:%d:%d", s.Source.Name, line, column)
}

func (s Span) lineStart() int { return s.Source.lineStarts()[s.Source.lineAt(s.Offset())] }

// lineAt returns the number of the line, from 0, that holds the byte at offset.
func (src *Source) lineAt(offset int) int {
	starts := src.lineStarts()
	return sort.Search(len(starts), func(i int) bool { return starts[i] > offset }) - 1
}

// lineStarts is made on first use: a good file needs it only for messages.
func (src *Source) lineStarts() []int {
	src.once.Do(func() {
		src.lines = []int{0}
		for i, b := range src.Text {
			if b == '\n' {
				src.lines = append(src.lines, i+1)
			}
		}
	})
	return src.lines
}
