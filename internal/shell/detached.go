package shell

import (
	"bytes"
	"os/exec"
)

// StartDetached starts a program that outlives the session, and all that ends with
// it: it has a session of its own in the system, no terminal, and input as all of its
// standard input.
func (s *Session) StartDetached(input []byte, env []string, command ...string) error {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Env, cmd.Stdin = env, bytes.NewReader(input)
	cmd.SysProcAttr = detachedAttributes()
	if err := cmd.Start(); err != nil {
		return err
	}
	handOver(cmd.Process.Pid)
	go cmd.Wait() // hands it the input, and buries it if it ends before this process
	return nil
}
