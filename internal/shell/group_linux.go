package shell

import (
	"os"
	"runtime"
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

// follow waits for the end of a program in the foreground. If Ctrl-Z stops it,
// Tugline stops too, and goes on with it.
func (t *terminal) follow(pid int) {
	for {
		var info unix.Siginfo
		err := unix.Waitid(unix.P_PID, pid, &info, unix.WSTOPPED|unix.WEXITED|unix.WNOWAIT, nil)
		switch {
		case err == unix.EINTR:
		case err != nil || info.Code != cldStopped:
			return
		default:
			t.stop()
		}
	}
}

// cldStopped says that a process was stopped (CLD_STOPPED, sigaction(2)).
const cldStopped = 5

// stop stops Tugline together with what runs, until somebody has it go on.
func (t *terminal) stop() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.front(t.own)
	runtime.LockOSThread()
	unix.Tgkill(os.Getpid(), unix.Gettid(), syscall.SIGTSTP) // this thread sees it before it goes on
	runtime.UnlockOSThread()
	t.front(t.group)
	syscall.Kill(-t.group, syscall.SIGCONT) // fails only when all have ended
}
