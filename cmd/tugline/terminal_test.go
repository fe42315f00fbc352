//go:build unix

package main

import (
	"bytes"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// dialog is a call of Tugline on a terminal, with somebody who types.
type dialog struct {
	s   *story
	cmd *exec.Cmd
	tty *os.File

	mu     sync.Mutex // protects the field below
	screen bytes.Buffer
	more   chan struct{} // something appeared
	ended  chan struct{}
}

func (s *story) dialog(args ...string) *dialog {
	s.t.Helper()
	d := &dialog{s: s, cmd: s.command(args...), more: make(chan struct{}, 1), ended: make(chan struct{})}
	tty, err := pty.StartWithSize(d.cmd, &pty.Winsize{Rows: 30, Cols: 100})
	require.NoError(s.t, err)
	d.tty = tty
	s.t.Cleanup(func() { tty.Close() })
	go func() {
		defer close(d.ended)
		buf := make([]byte, 4096)
		for {
			n, err := tty.Read(buf)
			d.mu.Lock()
			d.screen.Write(buf[:n])
			d.mu.Unlock()
			select {
			case d.more <- struct{}{}:
			default:
			}
			if err != nil {
				return
			}
		}
	}()
	return d
}

func (d *dialog) text() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.screen.String()
}

// sees waits until text stands on the screen.
func (d *dialog) sees(text string) {
	d.s.t.Helper()
	for !strings.Contains(d.text(), text) {
		select {
		case <-d.more:
		case <-d.ended:
			if !strings.Contains(d.text(), text) {
				require.Contains(d.s.t, d.text(), text)
			}
			return
		}
	}
}

func (d *dialog) types(text string) {
	d.s.t.Helper()
	_, err := d.tty.WriteString(text)
	require.NoError(d.s.t, err)
}

func (d *dialog) end() (code int, screen string) {
	d.s.t.Helper()
	<-d.ended
	return exitCode(d.s.t, d.cmd.Wait()), d.text()
}

func TestATaskThatOwnsTheTerminal(t *testing.T) {
	s := tell(t, `
[task.prompt]
terminal = true
run = '''sh -c 'trap "echo caught" INT; echo ready; while ! read x; do :; done; echo "got $x"' '''
[task.asks]
terminal = true
run = '''
echo "name?"
read name
echo "name is $name" | tr a-z A-Z'''
[task.both]
needs = ["around-too", "prompt"]
[task.around-too]
run = "echo beside >>log"
[task.raw]
terminal = true
run = "stty raw -echo; exit 0"
[task.modes]
terminal = true
run = "stty -a"
[task.restored]
calls = ["raw", "modes"]
[task.hangs]
terminal = true
# Some shells lose an interrupt that comes while they start a program: the outer one waits by then.
run = "sh -c 'sh -c \"echo hanging; exec sleep 60\"; :'"
`)
	for _, args := range [][]string{{"prompt"}, {"both", "-j", "2"}} {
		d := s.dialog(args...)
		d.sees("ready\r\n")
		d.types("\x03")
		d.sees("caught")
		d.types("quay\n")
		d.sees("got quay")
		code, screen := d.end()
		assert.Equal(t, 0, code, screen)
	}
	d := s.dialog("asks")
	d.sees("name?")
	d.types("merrowick\n")
	code, screen := d.end()
	assert.Equal(t, 0, code)
	assert.Contains(t, screen, "NAME IS MERROWICK")

	code, screen = s.dialog("restored").end()
	assert.Equal(t, 0, code, screen)
	assert.Regexp(t, ` icanon | echo `, screen)
	assert.NotContains(t, screen, "-icanon")

	d = s.dialog("hangs", "--color", "never")
	d.sees("hanging\r\n")
	d.types("\x03")
	code, screen = d.end()
	assert.Equal(t, 130, code)
	assert.Contains(t, screen, "1 stopped in ")
}

func TestAQuestionBeforeAnythingStarts(t *testing.T) {
	s := tell(t, `
[task.send]
needs = ["pack"]
args.to = { default = "quay" }
ask = "Really send to $to?"
run = 'echo "sent $to" >>log'
[task.pack]
run = "echo packed >>log"
[task.all]
needs = ["send", "send --to merrowick"]
`)
	r := s.tugline("send")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, `task "send" asks "Really send to quay?", and there is no terminal to answer on`)
	assert.NoFileExists(t, s.dir+"/log")
	assert.Equal(t, 0, s.tugline("plan", "send").code)
	require.Equal(t, 0, s.tugline("send", "--yes").code)
	assert.Equal(t, "packed\nsent quay\n", s.read("log"))

	for _, answer := range []string{"no\n", "\n", "\x04"} {
		d := s.dialog("all")
		d.sees("Really send to quay? (yes or no) ")
		d.types("yes\n")
		d.sees("Really send to merrowick? (yes or no) ")
		d.types(answer)
		code, _ := d.end()
		assert.Equal(t, 3, code)
	}
	d := s.dialog("send")
	d.sees("(yes or no) ")
	d.types("\x03")
	code, _ := d.end()
	assert.Equal(t, 130, code)
	assert.Equal(t, "packed\nsent quay\n", s.read("log"))
	d = s.dialog("send", "--to", "tarn")
	d.sees("tarn?")
	d.types("Y\n")
	code, _ = d.end()
	assert.Equal(t, 0, code)
	assert.Contains(t, s.read("log"), "sent tarn\n")
}

func TestALockAcrossTwoTuglines(t *testing.T) {
	s := tell(t, `
[task.first]
lock = "server"
run = "echo x >first-runs; while [ ! -e go ]; do sleep 0.01; done; echo first >>log"
[task.second]
lock = ["server"]
run = "echo second >>log"
[task.waits]
lock = "server"
finally = ["tidy"]
run = "echo never >>log"
[task.tidy]
run = "echo tidy >>log"
`)
	first := s.command("first")
	require.NoError(t, first.Start())
	s.waitForFile("first-runs")
	waiting := s.dialog("waits", "second", "--color", "never")
	waiting.sees("waits for the lock \"server\", which another Tugline holds")
	require.NoError(t, waiting.cmd.Process.Signal(syscall.SIGINT))
	code, screen := waiting.end()
	assert.Equal(t, 130, code)
	assert.Contains(t, screen, "2 stopped in ")

	waiting = s.dialog("second", "--output", "lines")
	waiting.sees("which another Tugline holds")
	s.write("go", "")
	require.NoError(t, first.Wait())
	code, _ = waiting.end()
	assert.Equal(t, 0, code)
	assert.Equal(t, "first\nsecond\n", s.read("log"))
}
