//go:build !linux

package atomicfile

import "os"

// nameless returns nil: only Linux has files without a name.
func nameless(string) *os.File { return nil }
