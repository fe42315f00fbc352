package shell

import "io/fs"

// mayAccess reports whether the user may read, write or execute a file: how is r, w or
// x. All can be read here and may be a program; the rest is left to who tries it.
func mayAccess(_ string, how byte, info fs.FileInfo) bool {
	return how != 'w' || info.Mode()&0o200 != 0
}
