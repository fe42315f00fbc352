package engine

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"

	"tugline/internal/plan"
	"tugline/internal/serve"
	"tugline/internal/service"
)

// pageServer makes a service that of the built-in page server.
func (p *Services) pageServer(s *plan.Step, r *running) error {
	opts, err := serveOptions(s)
	if err != nil {
		return err
	}
	r.spec.Serve = &opts
	var listens atomic.Bool
	r.check = service.Check{Text: "it does not listen", Run: func(context.Context) error {
		if !listens.Load() {
			return errors.New("not yet")
		}
		return nil
	}}
	r.program = func(ctx context.Context, output func([]byte)) error {
		err := serve.Run(ctx, opts, !p.Keep, func(server *serve.Server) {
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
			p.servers = append(slices.DeleteFunc(p.servers, (*serve.Server).Ended), server)
			p.mu.Unlock()
			listens.Store(true)
		})
		var taken *serve.TakenError
		if errors.As(err, &taken) {
			return service.Taken(taken.Address)
		}
		return err
	}
	return nil
}

// serveOptions fills in what a step says of the page server.
func serveOptions(s *plan.Step) (serve.Options, error) {
	from := s.Task.Service.Serve
	opts := serve.Options{Refresh: from.Refresh}
	for _, root := range from.Roots { // all texts were found good when the step was planned
		folder, err := s.Expand(root)
		if err != nil {
			return opts, err
		}
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(s.Task.File.Folder, filepath.FromSlash(folder))
		}
		opts.Roots = append(opts.Roots, folder)
	}
	var err error
	if opts.Host, err = s.Expand(from.Host); err != nil {
		return opts, err
	}
	if opts.NotFound, err = s.Expand(from.NotFound); err != nil {
		return opts, err
	}
	port, err := s.Expand(from.Port)
	if err == nil && port != "" {
		opts.Port, err = strconv.Atoi(port)
	}
	if opts.Host == "" {
		opts.Host = "127.0.0.1"
	}
	return opts, err
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
