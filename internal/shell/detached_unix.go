//go:build unix

package shell

import "syscall"

func detachedAttributes() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }
