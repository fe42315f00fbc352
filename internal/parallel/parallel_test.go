package parallel

import (
	"runtime"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEveryThingIsInOneShare(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	for n := range 50 {
		for _, least := range []int{1, 7, 100} {
			seen := make([]atomic.Int32, n)
			var begun atomic.Int32
			Do(n, least, func(from, to int) {
				begun.Add(1)
				for i := from; i < to; i++ {
					seen[i].Add(1)
				}
			})
			for i := range seen {
				assert.EqualValues(t, 1, seen[i].Load(), "%d of %d", i, n)
			}
			switch {
			case n <= least:
				assert.EqualValues(t, 1, begun.Load(), "%d things, at least %d a share", n, least)
			case n%4 == 0 && n/4 >= least:
				assert.EqualValues(t, 4, begun.Load(), "%d things, at least %d a share", n, least)
			}
		}
	}
}
