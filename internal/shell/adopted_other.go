//go:build !linux

package shell

import "time"

// EndStrays does nothing: only Linux gives orphans to anyone but init.
func EndStrays(time.Duration) {}
