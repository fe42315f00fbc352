package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/serve"
	"tugline/internal/service"
	"tugline/internal/watch"
)

// pageServer makes a service that of the built-in page server.
func (p *Services) pageServer(s *plan.Step, r *running) error {
	opts, err := serveOptions(s)
	if err != nil {
		return err
	}
	var listens atomic.Bool
	r.check = service.Check{Text: "it does not listen", Run: func(context.Context) error {
		if !listens.Load() {
			return errors.New("not yet")
		}
		return nil
	}}
	r.program = func(ctx context.Context, output func([]byte)) error {
		server, err := serve.Listen(opts)
		if errors.Is(err, syscall.EADDRINUSE) {
			return service.Taken(net.JoinHostPort(opts.Host, strconv.Itoa(opts.Port)))
		}
		if err != nil {
			return err
		}
		local, network := server.Addresses()
		text := "serving " + local + "\n"
		if network != "" && network != local {
			text += "in the network: " + network + "\n"
			if p.QRCode != nil {
				text += p.QRCode(network)
			}
		}
		output([]byte(text))
		p.mu.Lock()
		p.servers = append(p.servers, server)
		p.mu.Unlock()
		defer func() {
			p.mu.Lock()
			p.servers = slices.DeleteFunc(p.servers, func(other *serve.Server) bool { return other == server })
			p.mu.Unlock()
		}()
		if opts.Refresh && !p.Keep {
			defer refreshOnChange(server, opts.Roots)()
		}
		listens.Store(true)
		return server.Serve(ctx)
	}
	return nil
}

// serveOptions fills in what a step says of the page server.
func serveOptions(s *plan.Step) (serve.Options, error) {
	from := s.Task.Service.Serve
	opts := serve.Options{Refresh: from.Refresh}
	fill := func(t project.Text) (string, error) {
		value, err := s.Expand(t)
		if err != nil {
			return "", project.Diagnostics{{Span: t.Span, Msg: err.Error()}}
		}
		return value, nil
	}
	for _, root := range from.Roots {
		folder, err := fill(root)
		if err != nil {
			return opts, err
		}
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(s.Task.File.Folder, filepath.FromSlash(folder))
		}
		opts.Roots = append(opts.Roots, folder)
	}
	var err error
	if opts.Host, err = fill(from.Host); err != nil {
		return opts, err
	}
	if opts.NotFound, err = fill(from.NotFound); err != nil {
		return opts, err
	}
	port, err := fill(from.Port)
	if err == nil && port != "" {
		opts.Port, err = strconv.Atoi(port)
		if err != nil || opts.Port < 0 || opts.Port > 65535 {
			err = fmt.Errorf("%q is no port", port)
		}
	}
	if opts.Host == "" {
		opts.Host = "127.0.0.1"
	}
	return opts, err
}

// rootsLull is how long files below the roots must be quiet before pages refresh.
const rootsLull = 50 * time.Millisecond

// refreshOnChange has pages refresh when something below the roots changes, until the
// function is called that it returns.
func refreshOnChange(server *serve.Server, roots []string) (end func()) {
	isHidden := func(p string) bool { return p != "." && (strings.HasPrefix(p, ".") || strings.Contains(p, "/.")) }
	scope := watch.Scope{
		Roots: []string{"."},
		Match: func(p string) bool { return !isHidden(p) },
		Below: func(p string, link bool) bool { return !link && !isHidden(p) },
	}
	quit := make(chan struct{})
	var watchers []*watch.Watcher
	for _, root := range roots {
		w := watch.Open(watch.Options{Top: root, Lull: rootsLull})
		watchers = append(watchers, w)
		w.Watch(scope)
		go func() { // ends with the server
			for {
				select {
				case <-w.Settled():
					w.Take()
					server.Refresh()
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

// Refresh has the open pages of all page servers show what is there now.
func (p *Services) Refresh() {
	for _, server := range p.allServers() {
		server.Refresh()
	}
}

// Tell shows on the open pages that a task failed, with the last lines that it printed.
func (p *Services) Tell(task string, lines []string) {
	for _, server := range p.allServers() {
		server.Tell(serve.Notice{Task: task, Lines: lines})
	}
}

func (p *Services) allServers() []*serve.Server {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.servers)
}
