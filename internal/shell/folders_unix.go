//go:build unix

package shell

import "syscall"

// folderOnly makes opening fail for what is no folder: a pipe would wait.
const folderOnly = syscall.O_DIRECTORY
