//go:build unix

package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// browse opens a page in a browser without a window.
func browse(t *testing.T, address string) context.Context {
	t.Helper()
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if found, err := exec.LookPath(name); err == nil && path == "" {
			path = found
		}
	}
	if path == "" {
		t.Skip("there is no browser on this machine")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
	)
	ctx, cancel := context.WithTimeout(t.Context(), 90*time.Second)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewExecAllocator(ctx, options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(address)))
	return ctx
}

// What is on the screen follows what is saved, with nobody touching it.
func TestPagesInABrowser(t *testing.T) {
	s := tell(t, `
[task.page]
reads = "src"
writes = "site/index.html"
run = '''
test "$(cat src)" != bad || { echo "no good"; exit 4; }
echo "<!doctype html><link rel=stylesheet href=style.css><body><p id=value>$(cat src)</p></body>" >site/index.html
'''
[task.preview]
serve = { roots = ["site", "public"], refresh = true }
`)
	s.write("src", "one")
	s.write("public/style.css", "p { color: rgb(1, 2, 3) }")
	w := s.watch("preview")
	address := regexp.MustCompile(`serving (http://\S+/)\n`)
	s.until("it serves", func() bool { return address.MatchString(w.printed()) })
	at := address.FindStringSubmatch(w.printed())[1]
	ctx := browse(t, at)
	shows := func(what, script, want string) {
		t.Helper()
		s.until(what, func() bool {
			got, err := chromedp.Run(ctx, chromedp.Evaluate[string](script))
			return err == nil && got == want // while a page is loaded there is nothing to ask
		})
	}
	const value = `document.getElementById("value")?.textContent ?? ""`
	const color = `getComputedStyle(document.getElementById("value")).color`
	shows("the page", value, "one")
	for i := range 50 {
		s.write("src", fmt.Sprintf("save %d", i))
		if i%10 == 9 {
			shows("the last save", value, fmt.Sprintf("save %d", i))
		}
	}

	// A page that was loaded while it was being made is loaded once more.
	s.until("the page is of the last version", func() bool {
		shown, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.querySelector("script[src]")?.src ?? ""`))
		resp, getErr := http.Get(at)
		if err != nil || getErr != nil {
			return false
		}
		defer resp.Body.Close()
		page, err := io.ReadAll(resp.Body)
		_, version, _ := strings.Cut(shown, "version=")
		return err == nil && version != "" && strings.Contains(string(page), version) && strings.HasSuffix(w.printed(), "waiting for changes\n")
	})
	require.NoError(t, chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](`window.marker = true`)))
	s.write("public/style.css", "p { color: rgb(4, 5, 6) }")
	shows("the new style", color, "rgb(4, 5, 6)")
	shows("the marker", `String(window.marker)`, "true")

	const notice = `document.querySelector("[role=status]")?.textContent ?? ""`
	s.write("src", "bad")
	shows("the notice", notice, "task page failed: this page is as it was before\nexit code 4\nno good")
	shows("the old page", value, "save 49")
	s.write("src", "mended")
	shows("the mended page", value, "mended")
	shows("no notice", notice, "")
	w.end()
}
