//go:build unix

package files

import (
	"errors"
	"io"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// readFolder reads the names of f, unless they cannot have changed. f is locked.
func (t *Tree) readFolder(f *folder, h *handle) error {
	dir, err := h.get()
	if err != nil {
		f.changed()
		f.entries, f.named = nil, false
		return err
	}
	now := t.clock()
	var st unix.Stat_t
	if err := statOf(int(dir), &st); err != nil {
		return &fs.PathError{Op: "stat", Path: h.name, Err: err}
	}
	self := stampFrom(&st)
	if !f.named || f.self != self {
		list, err := readNames(h.name)
		if err != nil {
			return err
		}
		f.merge(namesOf(list))
		f.self, f.named = self, self.isSure(now)
		t.learned()
	}
	return nil
}

// stampAll takes the stamps of files of f, as far as they are not known. A file
// that was never read is left to the one who reads it. f is locked.
func (t *Tree) stampAll(f *folder, h *handle, files []*entry) error {
	gen := t.generation.Load()
	var asking statter
	for _, e := range files {
		if f.isKnown(e, gen) {
			continue
		}
		if e.stamp == (stamp{kind: File}) {
			e.checked, f.asked = gen, gen
			continue
		}
		dir, err := h.get()
		if err != nil {
			return ignoringGone(err)
		}
		asking.fd = int(dir)
		f.take(e, asking.stamp(e.name), gen)
	}
	return nil
}

// stamp returns the stamp of a name in the folder.
func (a *statter) stamp(name string) stamp {
	for {
		switch err := a.stat(name); err {
		case nil:
			return stampFrom(&a.st)
		case unix.EINTR:
		default:
			return stamp{}
		}
	}
}

func readNames(name string) ([]fs.DirEntry, error) {
	dir, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return dir.ReadDir(-1)
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
		inode: uint64(st.Ino), mode: uint32(st.Mode) & 0o777, links: uint32(st.Nlink),
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

func openDir(name string, follow bool) (openFolder, error) {
	fd, err := openFolderAt(name, follow)
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
