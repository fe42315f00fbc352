//go:build unix

package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"

	"golang.org/x/sys/unix"
)

// readFolder reads the names of f, unless they cannot have changed, and asks for
// each. f is locked.
func (t *Tree) readFolder(f *folder, gen int32) error {
	name := t.absolute(f, "")
	fd, err := openFolderAt(name, f.follow)
	if err != nil {
		f.changed()
		f.entries, f.named = nil, false
		return err
	}
	defer unix.Close(fd)
	now := t.clock()
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	self := stampFrom(&st)
	if !f.named || f.self != self {
		if err := t.readNames(f, name); err != nil {
			return err
		}
		f.self, f.named = self, self.isSure(now)
		t.learned()
	}
	asking := asker{fd: fd}
	for i := range f.entries {
		if e := &f.entries[i]; e.asked != gen {
			f.take(e, asking.stamp(e.name), gen)
		}
	}
	return nil
}

// stamp returns the stamp of a name in the folder.
func (a *asker) stamp(name string) stamp {
	for {
		switch err := a.ask(name); err {
		case nil:
			return stampFrom(&a.st)
		case unix.EINTR:
		default:
			return stamp{}
		}
	}
}

func (t *Tree) readNames(f *folder, name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return err
	}
	slices.Sort(names)
	f.merge(names)
	return nil
}

func openFolderAt(name string, follow bool) (fd int, err error) {
	flags := unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC
	if !follow {
		flags |= unix.O_NOFOLLOW
	}
	err = ignoringEINTR(func() error {
		fd, err = unix.Open(name, flags, 0)
		return err
	})
	switch {
	case errors.Is(err, unix.ENOTDIR), errors.Is(err, unix.ELOOP):
		err = fs.ErrNotExist // it is something else by now
	}
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return fd, nil
}

func ignoringEINTR(call func() error) error {
	for {
		if err := call(); err != unix.EINTR {
			return err
		}
	}
}

// stampOf returns the stamp of what stands at a path, without following a link.
func stampOf(name string) stamp {
	var st unix.Stat_t
	if err := ignoringEINTR(func() error { return unix.Lstat(name, &st) }); err != nil {
		return stamp{}
	}
	return stampFrom(&st)
}

func stampFrom(st *unix.Stat_t) stamp {
	s := stamp{
		size: st.Size, modified: unix.TimespecToNsec(st.Mtim), changed: unix.TimespecToNsec(st.Ctim),
		inode: uint64(st.Ino), mode: uint32(st.Mode) & 0o777,
	}
	switch uint32(st.Mode) & unix.S_IFMT {
	case unix.S_IFREG:
		s.kind = File
	case unix.S_IFDIR:
		s.kind = Folder
	case unix.S_IFLNK:
		s.kind = Link
	default:
		s.kind = Other
	}
	return s
}

// rawFile is an open file without what the os package adds: for small files
// that costs more than reading them.
type rawFile int

// openFolder is an open folder: a file in it is opened without walking its
// whole path.
type openFolder int

func openDir(name string) (openFolder, error) {
	fd, err := openFolderAt(name, true)
	return openFolder(fd), err
}

func (dir openFolder) close() { unix.Close(int(dir)) }

func (dir openFolder) open(name string) (rawFile, error) {
	for {
		// O_NOFOLLOW: a link that came in place of the file is not the file.
		fd, err := openAt(int(dir), name, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK|unix.O_NOFOLLOW)
		switch err {
		case nil:
			return rawFile(fd), nil
		case unix.EINTR:
		case unix.ELOOP:
			return 0, fs.ErrNotExist
		default:
			return 0, &fs.PathError{Op: "open", Path: name, Err: err}
		}
	}
}

// stamp returns the stamp of the file, whatever stands at its path by now.
func (f rawFile) stamp() stamp {
	var st unix.Stat_t
	if err := ignoringEINTR(func() error { return statOf(int(f), &st) }); err != nil {
		return stamp{}
	}
	return stampFrom(&st)
}

func (f rawFile) close() { closeFile(int(f)) }

func (f rawFile) read(buf []byte) (n int, err error) {
	err = ignoringEINTR(func() error {
		n, err = unix.Read(int(f), buf)
		return err
	})
	if err != nil {
		return 0, err
	}
	if n == 0 {
		return 0, io.EOF
	}
	return n, nil
}
