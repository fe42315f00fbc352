package serve

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// site is a server of two roots, below a folder with a file that is not served.
type site struct {
	*Server
	t       *testing.T
	top     string
	address string
}

func serve(t *testing.T, opts Options) *site {
	t.Helper()
	s := &site{t: t, top: t.TempDir()}
	s.write("secret.txt", "not served")
	s.write("first/index.html", "<html><body>first</BODY></html>")
	s.write("first/style.css", "b {}")
	s.write("first/.env", "hidden")
	s.write("second/index.html", "second")
	s.write("second/deep/index.html", "<p>deep")
	s.write("second/data.bin", "0123456789")
	opts.Roots = []string{filepath.Join(s.top, "first"), filepath.Join(s.top, "second"), filepath.Join(s.top, "later")}
	var err error
	s.Server, err = Listen(opts)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- s.Serve(ctx) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	s.address, _ = s.Addresses()
	return s
}

func (s *site) write(name, text string) {
	s.t.Helper()
	path := filepath.Join(s.top, name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(s.t, os.WriteFile(path, []byte(text), 0o644))
}

func (s *site) get(path string, header ...string) (*http.Response, string) {
	s.t.Helper()
	req, err := http.NewRequest(http.MethodGet, s.address+strings.TrimPrefix(path, "/"), nil)
	require.NoError(s.t, err)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	require.NoError(s.t, err)
	return resp, string(body)
}

func TestFilesAreServed(t *testing.T) {
	s := serve(t, Options{})
	resp, body := s.get("/")
	assert.Equal(t, "<html><body>first</BODY></html>", body, "the first root that has it, as it is")
	assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
	assert.Equal(t, "text/html; charset=utf-8", resp.Header.Get("Content-Type"))
	resp, body = s.get("/style.css")
	assert.Equal(t, "text/css; charset=utf-8", resp.Header.Get("Content-Type"))
	assert.Equal(t, "b {}", body)
	resp, body = s.get("/deep?x=1")
	assert.Equal(t, "<p>deep", body)
	assert.Equal(t, "/deep/?x=1", resp.Request.URL.RequestURI(), "a folder ends with a slash")
	resp, body = s.get("/data.bin", "Range", "bytes=2-4")
	assert.Equal(t, http.StatusPartialContent, resp.StatusCode)
	assert.Equal(t, "234", body)
	s.write("later/new.txt", "made after the start")
	_, body = s.get("/new.txt")
	assert.Equal(t, "made after the start", body)

	head, err := http.Head(s.address + "data.bin")
	require.NoError(t, err)
	head.Body.Close()
	assert.EqualValues(t, 10, head.ContentLength)
	post, err := http.Post(s.address, "text/plain", nil)
	require.NoError(t, err)
	post.Body.Close()
	assert.Equal(t, http.StatusMethodNotAllowed, post.StatusCode)
	resp, _ = s.get("/nowhere")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
	resp, _ = s.get("/second/")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode, "nothing is listed")
}

func TestNothingElseIsServed(t *testing.T) {
	s := serve(t, Options{Refresh: true})
	s.write("first/kept/file.txt", "in a root")
	s.write("first/.hidden/file.txt", "hidden")
	for link, to := range map[string]string{
		"first/out.txt": "../secret.txt", "first/up": "..", "first/in.txt": "kept/file.txt", "first/other.bin": "../second/data.bin", "first/dot.txt": ".hidden/file.txt", "first/loop": "loop",
	} {
		require.NoError(t, os.Symlink(to, filepath.Join(s.top, link)))
	}
	for _, path := range []string{
		"/../secret.txt", "/%2e%2e/secret.txt", "/..%2fsecret.txt", "/%2e%2e%2fsecret.txt", "/x/../../secret.txt", "/..%5csecret.txt", "/....//secret.txt", "//secret.txt", "/%2f%2e%2e%2fsecret.txt",
		"/.env", "/%2eenv", "/deep/../.env", "/out.txt", "/up/secret.txt", "/dot.txt", "/loop", "/style.css/", "/.tugline/", "/first/%00.txt", "/.tugline/refresh.js/../../secret.txt",
	} {
		conn, err := net.Dial("tcp", strings.TrimSuffix(strings.TrimPrefix(s.address, "http://"), "/"))
		require.NoError(t, err)
		fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", path) // as it is: a client would clean it
		answer, err := io.ReadAll(conn)
		require.NoError(t, err)
		conn.Close()
		assert.NotContains(t, string(answer), "not served", path)
		assert.NotContains(t, string(answer), "hidden", path)
		assert.Regexp(t, `^HTTP/1.1 (404|400)`, string(answer), path)
	}
	_, body := s.get("/in.txt")
	assert.Equal(t, "in a root", body)
	_, body = s.get("/other.bin")
	assert.Equal(t, "0123456789", body, "another root is inside, too")
}

func TestThePageForWhatIsNotThere(t *testing.T) {
	s := serve(t, Options{NotFound: "index.html"})
	resp, body := s.get("/any/where")
	assert.Equal(t, http.StatusOK, resp.StatusCode, "a site of one page")
	assert.Contains(t, body, "first")
	s = serve(t, Options{NotFound: "missing.html"})
	s.write("second/missing.html", "nothing here")
	resp, body = s.get("/any/where", "Range", "bytes=0-3")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
	assert.Equal(t, "nothing here", body)
}

// stream are the events that a page gets.
type stream struct {
	t     *testing.T
	lines *bufio.Scanner
}

func (s *site) connect(version string) *stream {
	s.t.Helper()
	resp, err := http.Get(s.address + strings.TrimPrefix(eventsPath, "/") + "?version=" + version)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { resp.Body.Close() })
	assert.Equal(s.t, "text/event-stream", resp.Header.Get("Content-Type"))
	e := &stream{s.t, bufio.NewScanner(resp.Body)}
	e.next() // how soon to try again
	return e
}

// next returns the lines up to the next empty one.
func (e *stream) next() string {
	e.t.Helper()
	var lines []string
	for e.lines.Scan() {
		if e.lines.Text() == "" {
			return strings.Join(lines, "\n")
		}
		lines = append(lines, e.lines.Text())
	}
	e.t.Fatal("the events have ended")
	return ""
}

func TestPagesRefresh(t *testing.T) {
	s := serve(t, Options{Refresh: true})
	_, body := s.get("/")
	assert.Regexp(t, `^<html><body>first<script src="/.tugline/refresh.js\?version=[0-9a-f]+-0" async></script></BODY></html>$`, body)
	_, body = s.get("/deep/")
	assert.Regexp(t, `^<p>deep<script .*</script>$`, body)
	_, body = s.get("/style.css")
	assert.Equal(t, "b {}", body, "only pages get the script")
	_, body = s.get(scriptPath)
	assert.Contains(t, body, "EventSource")

	page := s.connect(s.pages.current())
	s.Refresh() // nothing has changed
	s.write("first/style.css", "b { color: red }")
	s.Refresh()
	assert.Regexp(t, `^event: styles\ndata: {"paths":\["/style.css"\],"version":"[0-9a-f]+-1"}$`, page.next())
	s.write("second/deep/index.html", "<p>deeper")
	s.write("first/style.css", "b {}")
	s.Refresh()
	assert.Regexp(t, `^event: reload\ndata: {"paths":\["/deep/index.html","/style.css"\],"version":".*-2"}$`, page.next())

	s.Tell(Notice{Task: "pages", Lines: []string{"bad <b>", "worse"}})
	assert.Equal(t, "event: failed\ndata: "+`{"task":"pages","lines":["bad \u003cb\u003e","worse"]}`, page.next())
	late := s.connect(s.pages.current())
	assert.Contains(t, late.next(), "event: failed", "what is opened later shows it, too")
	s.Refresh()
	assert.Equal(t, "event: mended\ndata: ", page.next())

	old := s.connect("of-another-server")
	assert.Contains(t, old.next(), "event: reload", "it changed before the page asked")
}
