//go:build linux || darwin

package output

import (
	"os"
	"os/signal"
	"syscall"

	"golang.org/x/sys/unix"
)

// Keys reads single keys from a terminal.
type Keys struct {
	file    *os.File
	before  unix.Termios
	pressed chan byte
	resumed chan os.Signal
	quit    chan struct{}
}

// OpenKeys has a terminal hand over each key as it is pressed, without showing it;
// what prints to it and what Ctrl-C does stays as it is. It returns nil where the
// keyboard is not ours: f is no terminal, or the program is in the background.
func OpenKeys(f *os.File) *Keys {
	before, err := unix.IoctlGetTermios(int(f.Fd()), getModes)
	if err != nil || !isInFront(f) {
		return nil
	}
	k := &Keys{file: f, before: *before, pressed: make(chan byte, 16), resumed: make(chan os.Signal, 1), quit: make(chan struct{})}
	// In the background, reading fails instead of stopping the program.
	signal.Ignore(syscall.SIGTTIN)
	signal.Notify(k.resumed, syscall.SIGCONT)
	if k.set() != nil {
		return nil
	}
	go k.read() // ends when the terminal is gone, or with the program
	go func() {
		for {
			select {
			case <-k.resumed:
				if isInFront(f) {
					k.set() // best effort: keys then need Enter
				}
			case <-k.quit:
				return
			}
		}
	}()
	return k
}

// isInFront reports whether the program is in the foreground of a terminal.
func isInFront(f *os.File) bool {
	front, err := unix.IoctlGetInt(int(f.Fd()), unix.TIOCGPGRP)
	return err == nil && front == syscall.Getpgrp()
}

// set sets the modes of the terminal (termios(3)).
func (k *Keys) set() error {
	modes := k.before
	modes.Lflag &^= unix.ICANON | unix.ECHO
	modes.Cc[unix.VMIN], modes.Cc[unix.VTIME] = 1, 0
	return unix.IoctlSetTermios(int(k.file.Fd()), setModes, &modes)
}

func (k *Keys) read() {
	buf := make([]byte, 64)
	for {
		n, err := k.file.Read(buf)
		if err != nil {
			return
		}
		if n == 1 { // more is the sequence of a special key, or something pasted
			select {
			case k.pressed <- buf[0]:
			case <-k.quit:
				return
			}
		}
	}
}

// Pressed returns the keys that are pressed.
func (k *Keys) Pressed() <-chan byte { return k.pressed }

// Close gives the terminal back as it was.
func (k *Keys) Close() {
	close(k.quit)
	signal.Stop(k.resumed)
	if isInFront(k.file) {
		unix.IoctlSetTermios(int(k.file.Fd()), setModes, &k.before) // best effort: it may be gone
	}
	signal.Reset(syscall.SIGTTIN)
}
