package serve

import (
	"cmp"
	"context"
	"errors"
	"net"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tugline/internal/watch"
)

// TakenError says that another program listens at the address already.
type TakenError struct{ Address string }

func (e *TakenError) Error() string { return e.Address + " is taken by another program" }

// Run serves until ctx is done. up is called once the server listens. Where follow
// is true, pages refresh when a file below the roots changes. The error is a
// [*TakenError] if the address is not free.
func Run(ctx context.Context, opts Options, follow bool, up func(*Server)) error {
	server, err := Listen(opts)
	if errors.Is(err, syscall.EADDRINUSE) {
		return &TakenError{net.JoinHostPort(cmp.Or(opts.Host, thisMachine), strconv.Itoa(opts.Port))}
	}
	if err != nil {
		return err
	}
	if opts.Refresh && follow {
		defer server.follow()()
	}
	up(server)
	return server.Serve(ctx)
}

// rootsLull is how long files below the roots must be quiet before pages refresh.
const rootsLull = 50 * time.Millisecond

// follow has pages refresh when something below the roots changes, until the
// function is called that it returns.
func (s *Server) follow() (end func()) {
	isHidden := func(p string) bool { return p != "." && (strings.HasPrefix(p, ".") || strings.Contains(p, "/.")) }
	scope := watch.Scope{
		Roots: []string{"."},
		Match: func(p string) bool { return !isHidden(p) },
		Below: func(p string, link bool) bool { return !link && !isHidden(p) },
	}
	quit := make(chan struct{})
	var watchers []*watch.Watcher
	for _, root := range s.opts.Roots {
		w := watch.Open(watch.Options{Top: root, Lull: rootsLull})
		watchers = append(watchers, w)
		w.Watch(scope)
		go func() { // ends with the server
			for {
				select {
				case <-w.Settled():
					w.Take()
					s.Refresh()
				case <-quit:
					return
				}
			}
		}()
	}
	return func() {
		close(quit)
		for _, w := range watchers {
			w.Close()
		}
	}
}
