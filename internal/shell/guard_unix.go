//go:build unix

package shell

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"tugline/internal/atomicfile"
)

// guardian is a small process of its own that ends what is left when Tugline is
// killed hard, which it sees by the end of a pipe. The process groups stand in
// a file that both share, so that noting one wakes nobody. A group that is not
// noted yet, and a process that left its group, it finds by the run's mark in
// the environment, where the system shows that.
type guardian struct {
	mu      sync.Mutex // protects the fields below
	command []string   // how to start it; none: there is no guard
	cmd     *exec.Cmd
	pipe    io.Closer
	shared  []byte // the file: guardSlots numbers of groups, 0 for none
	free    []int  // slots
	slots   map[int]int
	failed  bool
}

// guardSlots bounds how many groups are noted at once. More are found by the
// mark alone.
const guardSlots = 1024

// end ends the guard. Nothing that is started later is guarded.
func (g *guardian) end() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.command = nil
	if g.cmd != nil {
		g.pipe.Close() // best effort: it ends with us at the latest
		g.cmd.Wait()   // as above
		unix.Munmap(g.shared)
		g.cmd = nil
	}
}

// Guard waits for the end of r. Then it kills the process groups whose numbers
// stand in groups, and every process with mark, a NAME=value, in its
// environment, removes the scripts that Tugline left, and returns.
func Guard(r io.Reader, groups io.ReaderAt, mark string) {
	signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	io.Copy(io.Discard, r) // nothing comes but the end
	table := make([]byte, 4*guardSlots)
	groups.ReadAt(table, 0) // what cannot be read is found by the mark
	for ; len(table) > 0; table = table[4:] {
		if id := binary.NativeEndian.Uint32(table); id > 1 {
			syscall.Kill(-int(id), syscall.SIGKILL) // fails only when all have ended
		}
	}
	defer clearScripts()
	for range 100 { // what is found may have started more in the meantime
		found := marked(mark)
		if len(found) == 0 {
			return
		}
		for _, pid := range found {
			syscall.Kill(pid, syscall.SIGKILL) // as above
		}
	}
}

// marked returns the processes with all marks in their environment, those aside
// that have ended and wait to be buried, and this one.
func marked(marks ...string) []int {
	var found []int
	files, _ := filepath.Glob("/proc/[0-9]*/environ") // where there is no /proc, nothing is found
	for _, file := range files {
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if pid != os.Getpid() && isMarked(pid, marks...) {
			found = append(found, pid)
		}
	}
	return found
}

// isMarked reports whether a process has all marks in its environment.
func isMarked(pid int, marks ...string) bool {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid)) // of another user's, or ended
	text = append([]byte{0}, text...)
	missing := func(mark string) bool { return !bytes.Contains(text, []byte("\x00"+mark+"\x00")) }
	return !slices.ContainsFunc(marks, missing)
}

// endMarked ends the processes with all marks in their environment, politely
// first, and the hard way once the grace time has ended. It returns when none is left.
func endMarked(marks []string, graceEnds <-chan struct{}) {
	asked := map[int]bool{}
	kill := false
	for pause := time.Millisecond; ; pause = min(2*pause, 20*time.Millisecond) {
		found := marked(marks...)
		if len(found) == 0 {
			break
		}
		for _, pid := range found {
			switch {
			case kill:
				syscall.Kill(pid, syscall.SIGKILL) // fails only when it has ended
			case !asked[pid]:
				syscall.Kill(pid, syscall.SIGTERM) // as above
			}
			asked[pid] = true
		}
		if kill {
			time.Sleep(pause)
			continue
		}
		select {
		case <-graceEnds:
			kill = true
		case <-time.After(pause):
		}
	}
	for pid := range asked {
		bury(pid)
	}
}

// bury waits for a process that has lost its environment, which it does when it
// ends, if it came to us: until then its number is taken.
func bury(pid int) {
	for range 100 { // it may have ended, and not be ours, or have left only its environment
		if got, err := syscall.Wait4(pid, nil, syscall.WNOHANG, nil); got == pid || err != nil && err != syscall.EINTR {
			return
		}
		time.Sleep(time.Millisecond)
	}
}

// ready starts the guard, if it is not there yet. Without one the work goes
// on: the system still ends direct children on Linux.
func (g *guardian) ready() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.cmd != nil || len(g.command) == 0 || g.failed {
		return
	}
	if err := g.startLocked(); err != nil {
		g.failed = true
	}
}

func (g *guardian) startLocked() error {
	file, err := atomicfile.NewScratch()
	if err != nil {
		return err
	}
	defer file.Close() // it lives as long as it is held
	if err := file.Truncate(4 * guardSlots); err != nil {
		return err
	}
	shared, err := unix.Mmap(int(file.Fd()), 0, 4*guardSlots, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer r.Close() // the guard has its own
	cmd := exec.Command(g.command[0], g.command[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // out of reach of the terminal's signals
	cmd.Env, cmd.Stdin, cmd.ExtraFiles = []string{"TMPDIR=" + os.TempDir()}, r, []*os.File{file.File}
	if err := cmd.Start(); err != nil {
		w.Close()
		return err
	}
	g.cmd, g.pipe, g.shared = cmd, w, shared
	g.slots, g.free = map[int]int{}, make([]int, guardSlots)
	for i := range g.free {
		g.free[i] = i
	}
	return nil
}

// add notes a group.
func (g *guardian) add(id int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.cmd == nil || len(g.free) == 0 {
		return
	}
	slot := g.free[len(g.free)-1]
	g.free = g.free[:len(g.free)-1]
	g.slots[id] = slot
	binary.NativeEndian.PutUint32(g.shared[4*slot:], uint32(id))
}

// remove forgets a group, all of which has ended.
func (g *guardian) remove(id int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if slot, noted := g.slots[id]; noted && g.cmd != nil {
		binary.NativeEndian.PutUint32(g.shared[4*slot:], 0)
		g.free = append(g.free, slot)
		delete(g.slots, id)
	}
}
