//go:build !linux && !darwin

package output

import "os"

// Keys would read single keys from a terminal.
type Keys struct{}

// OpenKeys returns nil: single keys are not read on this system.
func OpenKeys(*os.File) *Keys { return nil }

// Pressed returns no keys.
func (k *Keys) Pressed() <-chan byte { return nil }

// Close does nothing.
func (k *Keys) Close() {}
