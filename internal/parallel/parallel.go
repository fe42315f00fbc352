// Package parallel divides work among the processors.
package parallel

import (
	"runtime"
	"sync"
)

// Do divides n things among the processors, unless there are fewer than least
// for each, and calls do for every share, from the index from up to to, at the
// same time. It returns when all have ended. Starting a share takes some
// microseconds; least is how many things are worth that.
func Do(n, least int, do func(from, to int)) {
	processors := runtime.GOMAXPROCS(0)
	size := max(least, (n+processors-1)/processors)
	var wg sync.WaitGroup
	last := 0 // where the share begins that is left for this goroutine
	for ; n-last > size; last += size {
		from, to := last, last+size
		wg.Go(func() { do(from, to) })
	}
	do(last, n)
	wg.Wait()
}
