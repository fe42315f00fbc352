//go:build unix

package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"
)

// helperArg as the first argument makes the test binary a helper of the stories:
// they need no program that a fresh machine has not.
const helperArg = "story-helper"

// help does what a helper is asked for, and returns the exit code.
//
//	setsid PROGRAM ARGS…    starts a program in a session of its own, and does not wait
//	values FILE WORD        an interpreter that prints variables and the word, with | between
//	stay FILE               writes its process into a file, and stays
//	listen PORT FILE        the same, and listens at a port
//	dial PORT               succeeds if something listens at a port
//	variable FILE           an interpreter that prints the variable which the script names
func help(args []string) int {
	switch args[0] {
	case "setsid":
		cmd := exec.Command(args[1], args[2:]...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
		if err := cmd.Start(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
	case "stay", "listen":
		if args[0] == "listen" {
			l, err := net.Listen("tcp", "127.0.0.1:"+args[1])
			if err != nil {
				fmt.Fprintln(os.Stderr, err)
				return 1
			}
			defer l.Close()
		}
		if err := os.WriteFile(args[len(args)-1], fmt.Append(nil, os.Getpid()), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		<-time.After(time.Hour) // longer than any story; without a timer the runtime takes this for a deadlock
	case "dial":
		conn, err := net.Dial("tcp", "127.0.0.1:"+args[1])
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		conn.Close()
	case "values":
		var values []string
		for _, name := range []string{"value", "COPY", "SET", "FILED"} {
			values = append(values, os.Getenv(name))
		}
		fmt.Println(strings.Join(append(values, args[2]), "|"))
	case "variable":
		script, err := os.ReadFile(args[1])
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		fmt.Println(os.Getenv(strings.TrimSpace(string(script))))
	}
	return 0
}

// helper returns a call of the helper, for a script.
func helper(what string) string { return "'" + os.Args[0] + "' " + helperArg + " " + what }

func mkfifo(name string) error { return syscall.Mkfifo(name, 0o600) }

// interpreter returns a helper as the value of shell.
func interpreter(what string) string { return fmt.Sprintf("[%q, %q, %q]", os.Args[0], helperArg, what) }
