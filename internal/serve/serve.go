// Package serve is a small page server: files below some folders, and pages that
// refresh by themselves. It knows no task.
package serve

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// Options say what is served, and where.
type Options struct {
	Roots    []string // absolute folders; the first one that has a file wins
	Host     string   // empty: this machine alone
	Port     int      // 0: any that is free
	Refresh  bool     // pages refresh by themselves
	NotFound string   // the page for what is not there, below the roots with slashes; empty: none
}

// Server serves files.
type Server struct {
	opts     Options
	listener net.Listener
	pages    pages
	ended    atomic.Bool
}

// Ended reports whether the server has ended.
func (s *Server) Ended() bool { return s.ended.Load() }

// thisMachine is the address at which only this machine reaches a server.
const thisMachine = "127.0.0.1"

// Listen returns a server that listens, and serves nothing yet.
func Listen(opts Options) (*Server, error) {
	if opts.Host == "" {
		opts.Host = thisMachine
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(opts.Host, strconv.Itoa(opts.Port)))
	if err != nil {
		return nil, fmt.Errorf("listening: %w", err)
	}
	s := &Server{opts: opts, listener: listener}
	s.pages.init(opts.Roots)
	return s, nil
}

// Addresses returns where the server is reached from this machine, and from the
// network; empty: it is not.
func (s *Server) Addresses() (local, network string) {
	at, ok := s.listener.Addr().(*net.TCPAddr)
	if !ok {
		return "http://" + s.listener.Addr().String() + "/", ""
	}
	port := strconv.Itoa(at.Port)
	host := at.IP.String()
	if at.IP.IsUnspecified() {
		host = "localhost"
		if ip := networkIP(); ip != "" {
			network = "http://" + net.JoinHostPort(ip, port) + "/"
		}
	} else if !at.IP.IsLoopback() {
		network = "http://" + net.JoinHostPort(host, port) + "/"
	}
	return "http://" + net.JoinHostPort(host, port) + "/", network
}

// networkIP returns an address of this machine in its network; empty: it has none.
func networkIP() string {
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return ""
	}
	for _, a := range addresses {
		if ip, ok := a.(*net.IPNet); ok && ip.IP.To4() != nil && ip.IP.IsGlobalUnicast() {
			return ip.IP.String()
		}
	}
	return ""
}

// Serve serves until ctx is done. Its end then is no error.
func (s *Server) Serve(ctx context.Context) error {
	server := &http.Server{
		Handler: s, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		BaseContext: func(net.Listener) context.Context { return ctx }, // ends what waits for refreshes
	}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	defer s.ended.Store(true)
	err := server.Serve(s.listener)
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "only GET and HEAD", http.StatusMethodNotAllowed)
		return
	}
	if s.opts.Refresh {
		switch r.URL.Path {
		case eventsPath:
			s.pages.events(w, r)
			return
		case scriptPath:
			w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
			w.Write(script) // the client may be gone
			return
		}
	}
	name := path.Clean("/" + r.URL.Path)
	if !strings.HasSuffix(r.URL.Path, "/") && s.isFolder(name) {
		to := url.URL{Path: name + "/", RawQuery: r.URL.RawQuery}
		http.Redirect(w, r, to.String(), http.StatusFound)
		return
	}
	if strings.HasSuffix(r.URL.Path, "/") {
		name = path.Join(name, "index.html")
	}
	if s.file(w, r, name, http.StatusOK) {
		return
	}
	if s.opts.NotFound != "" && s.file(w, r, path.Clean("/"+s.opts.NotFound), s.notFoundStatus()) {
		return
	}
	http.Error(w, "not found: "+name, http.StatusNotFound)
}

// notFoundStatus is that of the page for what is not there: it stands for all pages
// of a site that has only one.
func (s *Server) notFoundStatus() int {
	if path.Base(s.opts.NotFound) == "index.html" {
		return http.StatusOK
	}
	return http.StatusNotFound
}

// open opens the file of a name, which begins with a slash, in the first root that
// has it. A link is followed if it leads to a file in one of the roots.
func (s *Server) open(name string) (*os.File, fs.FileInfo, error) {
	if !allowed(name) {
		return nil, nil, fs.ErrNotExist
	}
	for _, root := range s.opts.Roots {
		file, info, err := s.openIn(root, name)
		if err == nil && info.Mode().IsRegular() {
			return file, info, nil
		}
		if file != nil {
			file.Close()
		}
	}
	return nil, nil, fs.ErrNotExist
}

// openIn opens the file of a name below a root.
func (s *Server) openIn(root, name string) (*os.File, fs.FileInfo, error) {
	real, err := filepath.EvalSymlinks(filepath.Join(root, filepath.FromSlash(name)))
	if err != nil {
		return nil, nil, err
	}
	for _, in := range s.opts.Roots {
		if in, err = filepath.EvalSymlinks(in); err != nil {
			continue // not made yet
		}
		below, err := filepath.Rel(in, real)
		if err != nil || !filepath.IsLocal(below) || !allowed("/"+filepath.ToSlash(below)) {
			continue
		}
		folder, err := os.OpenRoot(in) // nothing leads out of it, whatever changes meanwhile
		if err != nil {
			return nil, nil, err
		}
		defer folder.Close()
		file, err := folder.Open(below)
		if err != nil {
			return nil, nil, err
		}
		info, err := file.Stat()
		return file, info, err
	}
	return nil, nil, fs.ErrNotExist
}

// allowed reports whether a path may be served: it names no hidden file, and nothing
// that some system takes for more than a name.
func allowed(name string) bool {
	if strings.ContainsAny(name, "\\:\x00") {
		return false
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(name, "/"), "/") {
		if strings.HasPrefix(part, ".") {
			return false
		}
	}
	return true
}

// isFolder reports whether a name is a folder with an index page, and no file.
func (s *Server) isFolder(name string) bool {
	if file, _, err := s.open(name); err == nil {
		file.Close()
		return false
	}
	file, _, err := s.open(path.Join(name, "index.html"))
	if err == nil {
		file.Close()
	}
	return err == nil
}

// maxPage is how large a page may be that is given the script, in bytes.
const maxPage = 32 << 20

// file answers with a file. It reports false if there is none.
func (s *Server) file(w http.ResponseWriter, r *http.Request, name string, status int) bool {
	version := s.pages.current() // before it is read: should it change meanwhile, the page is out of date
	file, info, err := s.open(name)
	if err != nil {
		return false
	}
	defer file.Close()
	kind := typeOf(name)
	if kind != "" {
		w.Header().Set("Content-Type", kind)
	}
	var content io.ReadSeeker = file
	if s.opts.Refresh && strings.HasPrefix(kind, "text/html") && info.Size() <= maxPage {
		page, err := io.ReadAll(file)
		if err != nil {
			http.Error(w, "the page cannot be read", http.StatusInternalServerError)
			return true
		}
		content = bytes.NewReader(withScript(page, version))
	}
	if status != http.StatusOK {
		w = &fixedStatus{w, status}
		r = r.Clone(r.Context())
		r.Header.Del("Range")
	}
	http.ServeContent(w, r, name, time.Time{}, content)
	return true
}

// fixedStatus gives an answer a status of its own.
type fixedStatus struct {
	http.ResponseWriter
	status int
}

func (f *fixedStatus) WriteHeader(int) { f.ResponseWriter.WriteHeader(f.status) }

// typeOf returns the media type of a file; empty: it is found by its content.
func typeOf(name string) string {
	ending := strings.ToLower(path.Ext(name))
	if kind := types[ending]; kind != "" {
		return kind
	}
	return mime.TypeByExtension(ending)
}

// types are those of which systems know other ones, or none (media types of IANA).
var types = map[string]string{
	".html": "text/html; charset=utf-8", ".htm": "text/html; charset=utf-8", ".css": "text/css; charset=utf-8",
	".js": "text/javascript; charset=utf-8", ".mjs": "text/javascript; charset=utf-8", ".json": "application/json",
	".map": "application/json", ".svg": "image/svg+xml", ".wasm": "application/wasm", ".webmanifest": "application/manifest+json",
	".txt": "text/plain; charset=utf-8", ".md": "text/markdown; charset=utf-8", ".csv": "text/csv; charset=utf-8", ".xml": "text/xml; charset=utf-8",
	".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".webp": "image/webp", ".avif": "image/avif",
	".ico": "image/vnd.microsoft.icon", ".woff": "font/woff", ".woff2": "font/woff2", ".ttf": "font/ttf", ".pdf": "application/pdf", ".mp4": "video/mp4", ".webm": "video/webm",
}
