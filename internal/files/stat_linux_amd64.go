package files

import "golang.org/x/sys/unix"

// fstatat is the number of the system call.
const fstatat = unix.SYS_NEWFSTATAT
