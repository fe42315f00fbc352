//go:build unix && !linux

package shell

import "syscall"

// groupAttributes asks for a process group of its own.
func groupAttributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true}
}

// adoptOrphans does nothing: only Linux gives orphans to anyone but init.
func adoptOrphans() {}

// follow does nothing: a program that Ctrl-Z stops is not seen here.
func (t *terminal) follow(int) {}
