//go:build unix

package files

import (
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// readText returns the text of a file, which is mapped into memory: what nobody
// asks for is not read. The file must not be shortened; a new one may take its
// place.
func readText(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil || info.Size() == 0 {
		return "", err
	}
	data, err := unix.Mmap(int(file.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_PRIVATE)
	if err != nil {
		return "", &os.PathError{Op: "mmap", Path: name, Err: err}
	}
	return unsafe.String(&data[0], len(data)), nil
}
