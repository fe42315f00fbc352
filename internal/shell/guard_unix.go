//go:build unix

package shell

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// guard is a small process of its own that ends what is left of the process
// groups when Tugline is killed hard. It is told of every group through a
// pipe; the end of the pipe is the end of Tugline.
var guard guardian

type guardian struct {
	mu      sync.Mutex // protects the fields below
	command []string   // how to start it; none: there is no guard
	pipe    io.WriteCloser
	cmd     *exec.Cmd
	failed  bool
}

// SetGuard says how the guard is started when the first program is: a command
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

// Guard reads the groups that begin ("+7") and end ("-7") from r, and kills
// those that are left when r ends. It returns then.
func Guard(r io.Reader) {
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
}

func (g *guardian) add(id int) { g.tell("+%d\n", id) }

func (g *guardian) remove(id int) { g.tell("-%d\n", id) }

// tell writes to the guard, and starts it first if need be. Without a guard
// the work goes on: the system still ends direct children on Linux.
func (g *guardian) tell(format string, id int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.pipe == nil && !g.startLocked() {
		return
	}
	fmt.Fprintf(g.pipe, format, id) // fails only when the guard was killed
}

func (g *guardian) startLocked() bool {
	if len(g.command) == 0 || g.failed {
		return false
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
		return false
	}
	g.cmd, g.pipe = cmd, w
	return true
}
