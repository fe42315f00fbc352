package shell

import (
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// groupAttributes asks for a process group of its own, and for the hard signal
// should Tugline itself be killed.
func groupAttributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

// adoptOrphans makes this process the parent of every descendant that loses
// its own, so that it can be seen to end.
//
// What is a child already was started by whoever this process was before it
// became Tugline (exec), and is none of its business: it returns those.
var adoptOrphans = sync.OnceValue(func() map[int]bool {
	inherited := map[int]bool{}
	for _, pid := range children() {
		inherited[pid] = true
	}
	unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) // best effort: orphans then go to init
	return inherited
})
