package serve

import (
	"bytes"
	_ "embed" // for the script of the pages
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tugline/internal/files"
)

// The addresses of what refreshes pages. They are those of no file: a name that
// begins with a dot is never served.
const (
	eventsPath = "/.tugline/events"
	scriptPath = "/.tugline/refresh.js"
)

// script runs in the pages.
//
//go:embed refresh.js
var script []byte

// Notice is what pages show when they could not be made anew.
type Notice struct {
	Task  string   `json:"task"`
	Lines []string `json:"lines"` // the last ones that it printed
}

// pages are the pages that are open.
type pages struct {
	roots []string
	start string // tells the versions of this server from those of others

	mu      sync.Mutex // protects the fields below
	version int
	notice  *Notice
	open    map[chan message]bool
	looks   map[string]files.Look // of the files, by their addresses; nil: not known
}

// message is what a page is told.
type message struct{ event, data string }

func (p *pages) init(roots []string) {
	p.roots, p.start, p.open = roots, fmt.Sprintf("%x", time.Now().UnixNano()), map[chan message]bool{}
}

// current returns the version of what a page shows that is sent now.
func (p *pages) current() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.name()
}

func (p *pages) name() string { return fmt.Sprintf("%s-%d", p.start, p.version) }

// withScript adds the script to a page, where its body ends.
func withScript(page []byte, version string) []byte {
	tag := fmt.Appendf(nil, `<script src="%s?version=%s" async></script>`, scriptPath, version)
	at := bytes.LastIndex(bytes.ToLower(page), []byte("</body"))
	if at < 0 {
		at = len(page)
	}
	return slices.Concat(page[:at], tag, page[at:])
}

// Refresh has the open pages show what is there now: style sheets are swapped, for
// anything else the page is loaded again. If nothing changed, nothing happens.
func (s *Server) Refresh() {
	p := &s.pages
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.notice != nil {
		p.notice = nil
		p.send(message{"mended", ""})
	}
	if len(p.open) == 0 {
		p.version, p.looks = p.version+1, nil
		return
	}
	before, now := p.looks, look(p.roots)
	p.looks = now
	var changed []string
	for address, l := range now {
		if before[address] != l {
			changed = append(changed, address)
		}
		delete(before, address)
	}
	changed = append(changed, slices.Collect(maps.Keys(before))...)
	if len(changed) == 0 {
		return
	}
	p.version++
	slices.Sort(changed)
	styles := !slices.ContainsFunc(changed, func(address string) bool { return path.Ext(address) != ".css" })
	data, _ := json.Marshal(map[string]any{"version": p.name(), "paths": changed}) // these can be written
	if styles {
		p.send(message{"styles", string(data)})
	} else {
		p.send(message{"reload", string(data)})
	}
}

// Tell shows a notice on the open pages.
func (s *Server) Tell(n Notice) {
	p := &s.pages
	p.mu.Lock()
	defer p.mu.Unlock()
	p.notice = &n
	p.send(noticeMessage(&n))
}

func noticeMessage(n *Notice) message {
	data, _ := json.Marshal(n) // texts can be written
	return message{"failed", string(data)}
}

// send sends a message to all open pages. p is locked.
func (p *pages) send(m message) {
	for page := range p.open {
		select {
		case page <- m:
		default: // it has not taken the ones before: it reloads when it connects again
			close(page)
			delete(p.open, page)
		}
	}
}

// heartbeat is how often a page is told that the server is there.
const heartbeat = 15 * time.Second

// events tells a page what happens, as server-sent events (HTML standard, 9.2).
func (p *pages) events(w http.ResponseWriter, r *http.Request) {
	flusher, ok := w.(http.Flusher)
	if !ok {
		http.Error(w, "cannot send events", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	if r.Method == http.MethodHead {
		return
	}
	page := make(chan message, 16)
	p.mu.Lock()
	p.open[page] = true
	if p.looks == nil {
		p.looks = look(p.roots)
	}
	if version := r.URL.Query().Get("version"); version != p.name() { // it changed before the page asked
		page <- message{"reload", "{}"}
	}
	if p.notice != nil {
		page <- noticeMessage(p.notice)
	}
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.open, page)
		p.mu.Unlock()
	}()
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	fmt.Fprint(w, "retry: 500\n\n")
	flusher.Flush()
	for {
		select {
		case m, open := <-page:
			if !open {
				return
			}
			fmt.Fprintf(w, "event: %s\ndata: %s\n\n", m.event, m.data) // if the page is gone, the context is done
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
		case <-r.Context().Done():
			return
		}
		flusher.Flush()
	}
}

// look returns how all files look that may be served, by their addresses.
func look(roots []string) map[string]files.Look {
	looks := map[string]files.Look{}
	for _, root := range slices.Backward(roots) { // the first one wins
		filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
			below, relErr := filepath.Rel(root, name)
			switch {
			case err != nil || relErr != nil:
				return nil // not there, or not ours to read
			case name != root && strings.HasPrefix(e.Name(), "."):
				if e.IsDir() {
					return filepath.SkipDir
				}
			case !e.IsDir():
				looks["/"+filepath.ToSlash(below)] = files.LookAt(name)
			}
			return nil
		})
	}
	return looks
}
