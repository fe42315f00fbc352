package shell

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"runtime"
	"syscall"
)

// readFolder lists a folder for the patterns of a script, in no order: the
// library sorts what matches. A folder that may not be read has nothing in it,
// as in bash.
//
// The library also lists a folder only to see that it is there: each one that a
// pattern names on its way, as in /usr/lib/*.so. It need not be readable for
// that, and may be large.
func readFolder(_ context.Context, path string) ([]fs.DirEntry, error) {
	if onlyAsks() {
		info, err := os.Stat(path)
		if err == nil && !info.IsDir() {
			err = &fs.PathError{Op: "list", Path: path, Err: syscall.ENOTDIR}
		}
		return nil, err
	}
	list, err := listFolder(path)
	if errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	return list, err
}

// asksOnly is the function of the library that looks at the error alone. Were
// it called otherwise one day, the folder would be listed in vain.
const asksOnly = "mvdan.cc/sh/v3/expand.(*Config).glob"

// onlyAsks reports whether the caller was called by asksOnly, through the
// function that the library makes of it.
func onlyAsks() bool {
	var callers [2]uintptr
	frames := runtime.CallersFrames(callers[:runtime.Callers(3, callers[:])])
	frames.Next()
	frame, _ := frames.Next()
	return frame.Function == asksOnly
}

func listFolder(path string) ([]fs.DirEntry, error) {
	folder, err := os.OpenFile(path, os.O_RDONLY|folderOnly, 0)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return folder.ReadDir(-1)
}
