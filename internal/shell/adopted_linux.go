package shell

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// endAdopted ends the processes of the session that left their group on purpose
// and lost their parent, so that they came to this process.
func (s *Session) endAdopted(grace time.Duration) {
	inherited := adoptOrphans()
	deadline := time.Now().Add(grace)
	asked := map[int]bool{}
	for pause := time.Millisecond; ; pause = min(2*pause, 20*time.Millisecond) {
		left := slices.DeleteFunc(children(), func(pid int) bool { return inherited[pid] || isHandedOver(pid) || !asked[pid] && !s.owns(pid) })
		if len(left) == 0 {
			return
		}
		for _, pid := range left {
			if got, _ := syscall.Wait4(pid, nil, syscall.WNOHANG, nil); got == pid {
				delete(asked, pid)
				continue
			}
			switch {
			case time.Now().After(deadline):
				syscall.Kill(pid, syscall.SIGKILL) // fails only when it has ended
			case !asked[pid]:
				asked[pid] = true
				syscall.Kill(pid, syscall.SIGTERM) // as above
			}
		}
		time.Sleep(pause)
	}
}

// owns reports whether a process that came to this one was started in the session:
// its environment says so, or does not say and there is no other session.
func (s *Session) owns(pid int) bool {
	return s.mark != "" && isMarked(pid, s.mark) || sessions.Load() == 1
}

// children returns the processes whose parent this one is.
func children() []int {
	var pids []int
	tasks, _ := os.ReadDir("/proc/self/task") // without /proc there is nothing to find
	for _, task := range tasks {
		text, _ := os.ReadFile(fmt.Sprintf("/proc/self/task/%s/children", task.Name())) // it may have ended
		for _, word := range strings.Fields(string(text)) {
			if pid, err := strconv.Atoi(word); err == nil {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}
