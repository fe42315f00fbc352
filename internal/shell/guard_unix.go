//go:build unix

package shell

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// guard is a small process of its own that ends what is left when Tugline is
// killed hard. It is told of every process group through a pipe; the end of
// the pipe is the end of Tugline. A group of which it has not heard yet, and a
// process that left its group, it finds by the run's mark in the environment,
// where the system shows that.
var guard guardian

type guardian struct {
	mu      sync.Mutex // protects the fields below
	command []string   // how to start it; none: there is no guard
	pipe    io.WriteCloser
	cmd     *exec.Cmd
	failed  bool
}

// SetGuard says how the guard is started, when the first program is: a command
// that calls [Guard] with its standard input.
func SetGuard(command []string) {
	guard.mu.Lock()
	defer guard.mu.Unlock()
	guard.command = command
}

// EndGuard ends the guard. Nothing that is started later is guarded.
func EndGuard() {
	guard.mu.Lock()
	defer guard.mu.Unlock()
	guard.command = nil
	if guard.pipe != nil {
		guard.pipe.Close() // best effort: it ends with us at the latest
		guard.cmd.Wait()   // as above
		guard.pipe = nil
	}
}

// Guard reads the groups that begin ("+7") and end ("-7") from r. When r ends,
// it kills those that are left and every process with mark, a NAME=value, in
// its environment. It returns then.
func Guard(r io.Reader, mark string) {
	signal.Ignore(syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	alive := map[int]bool{}
	lines := bufio.NewScanner(r)
	for lines.Scan() {
		id, err := strconv.Atoi(strings.TrimLeft(lines.Text(), "+-"))
		if err != nil || id <= 1 {
			continue // half a line: Tugline was killed while it wrote
		}
		if strings.HasPrefix(lines.Text(), "+") {
			alive[id] = true
		} else {
			delete(alive, id)
		}
	}
	for id := range alive {
		syscall.Kill(-id, syscall.SIGKILL) // fails only when all have ended
	}
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

// marked returns the processes with mark in their environment, those aside
// that have ended and wait to be buried.
func marked(mark string) []int {
	var found []int
	files, _ := filepath.Glob("/proc/[0-9]*/environ") // where there is no /proc, nothing is found
	for _, file := range files {
		text, _ := os.ReadFile(file) // of another user's, or ended
		if bytes.Contains(append([]byte{0}, text...), []byte("\x00"+mark+"\x00")) {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			found = append(found, pid)
		}
	}
	return found
}

// ready starts the guard, if it is not there yet.
func (g *guardian) ready() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.pipe == nil {
		g.startLocked()
	}
}

func (g *guardian) add(id int) { g.tell("+%d\n", id) }

func (g *guardian) remove(id int) { g.tell("-%d\n", id) }

// tell writes to the guard. Without one the work goes on: the system still
// ends direct children on Linux.
func (g *guardian) tell(format string, id int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.pipe != nil {
		fmt.Fprintf(g.pipe, format, id) // fails only when the guard was killed
	}
}

func (g *guardian) startLocked() {
	if len(g.command) == 0 || g.failed {
		return
	}
	cmd := exec.Command(g.command[0], g.command[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // out of reach of the terminal's signals
	cmd.Env = []string{}
	r, w, err := os.Pipe()
	if err == nil {
		cmd.Stdin = r
		err = cmd.Start()
		r.Close() // the guard has its own
	}
	if err != nil {
		g.failed = true
		return
	}
	g.cmd, g.pipe = cmd, w
}
