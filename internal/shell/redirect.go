package shell

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// lateFile is a file that a command prints to, which is opened when its words have been
// expanded: bash does it in this order, so that a command with a variable that is not set
// leaves the file alone. The library opens it before.
type lateFile struct {
	b     *builtin
	ctx   context.Context // of the call that asked for it
	path  string
	at    int // the offset of its command
	flag  int
	perm  os.FileMode
	order int64              // in which files were asked for
	file  io.ReadWriteCloser // nil: it is not open
}

// cutMark parts the mark from a path that markLate marked, and returns the offset of
// the command.
func cutMark(path string) (plain string, at int, ok bool) {
	plain, offset, ok := strings.Cut(path, lateMark)
	at, _ = strconv.Atoi(offset) // it was written by markLate
	return plain, at, ok
}

// unread is a file that a command was to read and that cannot be opened.
type unread struct {
	at    int // the offset of the command
	order int64
	err   error
}

// input opens a file that a command reads. That it cannot be opened is told when the
// words of the command have been expanded.
func (b *builtin) input(ctx context.Context, path string, at, flag int, perm os.FileMode) (io.ReadWriteCloser, error) {
	order := b.asked.Add(1)
	file, err := b.openFile(ctx, path, flag, perm)
	if err == nil || ctx.Err() != nil {
		return file, err
	}
	b.mu.Lock()
	b.unread = append(b.unread, unread{at, order, err})
	b.mu.Unlock()
	return os.Open(os.DevNull)
}

// takeUnread returns the file that the command at an offset cannot read, if there is one.
func (b *builtin) takeUnread(at int) (unread, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, u := range b.unread {
		if u.at == at {
			b.unread = slices.Delete(b.unread, i, i+1)
			return u, true
		}
	}
	return unread{}, false
}

// lateMark stands behind the path of a file that is to be opened late, and before the
// offset of its command: the library does not tell for which command a file is opened.
const lateMark = "\x00late "

// markLate marks the files to which a command is redirected, and makes copies of streams
// such as 2>&1 files, too.
func markLate(s *syntax.Stmt) {
	call, ok := s.Cmd.(*syntax.CallExpr)
	if !ok || len(call.Args) == 0 {
		return
	}
	mark := fmt.Sprint(lateMark, call.Args[0].Pos().Offset())
	for _, r := range s.Redirs {
		if r.Op == syntax.DplOut {
			streams := map[string]string{"1": "/dev/stdout", "2": "/dev/stderr"}
			path, known := streams[r.Word.Lit()]
			if !known {
				continue
			}
			r.Op, r.Word = syntax.AppOut, &syntax.Word{Parts: []syntax.WordPart{&syntax.Lit{ValuePos: r.Word.Pos(), ValueEnd: r.Word.End(), Value: path}}}
		}
		if !isProcess(r.Word) && (r.Op == syntax.RdrIn || r.Op == syntax.RdrOut || r.Op == syntax.AppOut) {
			r.Word = &syntax.Word{Parts: append(slices.Clone(r.Word.Parts), &syntax.SglQuoted{Left: r.Word.End(), Right: r.Word.End(), Value: mark})}
		}
	}
}

func (f *lateFile) open() (err error) {
	if f.file == nil {
		f.file, err = f.b.openFile(f.ctx, f.path, f.flag, f.perm)
	}
	return err
}

// Write writes to the file. What is written before it is open are messages of the shell
// about the words of the command.
func (f *lateFile) Write(text []byte) (int, error) {
	if f.file == nil {
		return f.b.watched(f.b.stderr, true).Write(text)
	}
	return f.file.Write(text)
}

func (f *lateFile) Read([]byte) (int, error) { return 0, io.EOF }

// Close closes the file, if it was opened.
func (f *lateFile) Close() error {
	if f.file == nil {
		return nil
	}
	return f.file.Close()
}

// openLate opens the files of the command that is called, in the order in which they stand
// there. It returns the first error, which it has told.
func (b *builtin) openLate(hc interp.HandlerContext) error {
	if !hc.Pos.IsValid() {
		return nil // it is one that rewrite made
	}
	at := int(hc.Pos.Offset())
	var files []*lateFile
	for _, w := range []io.Writer{hc.Stdout, hc.Stderr} {
		if f, ok := w.(*lateFile); ok && f.at == at {
			files = append(files, f)
		}
	}
	missing, isMissing := b.takeUnread(at)
	slices.SortFunc(files, func(a, b *lateFile) int { return cmp.Compare(a.order, b.order) })
	var err error
	for _, f := range files {
		if isMissing && f.order > missing.order {
			break
		}
		if err = f.open(); err != nil {
			break
		}
	}
	if isMissing && err == nil {
		err = missing.err
	}
	if err != nil {
		fmt.Fprintln(b.stderr, err) // a stream that is gone is no reason to fail otherwise
	}
	return err
}
