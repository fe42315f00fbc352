//go:build unix

package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// background is a story whose services are ended with it.
func background(t *testing.T, projectFile string) *story {
	s := tell(t, projectFile)
	t.Cleanup(func() { s.tugline("service", "stop", "--all") })
	return s
}

// serviceNames returns the names of the services that run in the background.
func (s *story) serviceNames() []string {
	s.t.Helper()
	var list struct {
		Services []struct {
			Name, State string
			Process     int
		}
	}
	require.NoError(s.t, json.Unmarshal([]byte(s.tugline("service", "list", "--json").stdout), &list))
	names := []string{}
	for _, r := range list.Services {
		assert.Equal(s.t, "ready", r.State)
		names = append(names, r.Name)
	}
	return names
}

func TestServicesInTheBackground(t *testing.T) {
	s := background(t, services(freePort(t)))
	s.write("src", "one")
	assert.Equal(t, "no service runs in the background\n", s.tugline("service", "list").stdout)
	got := s.tugline("service", "start", "api")
	require.Zero(t, got.code, got.stdout+got.stderr)
	assert.Regexp(t, `(?s)ran +build .*ready +base .*ready +api .*127.0.0.1:`, got.stdout)
	assert.Equal(t, []string{"base", "api"}, s.serviceNames())
	pid := s.read("pid-api")

	assert.Regexp(t, `reuse +api +runs in the background`, s.tugline("plan", "test").stdout)
	got = s.tugline("test")
	assert.Zero(t, got.code, got.stdout+got.stderr)
	assert.Regexp(t, `ready +api +runs in the background\n`, got.stdout)
	require.Zero(t, s.tugline("service", "start", "api").code, "once more changes nothing")
	assert.Equal(t, pid, s.read("pid-api"))
	assert.Contains(t, s.tugline("log", "api").stdout, "api with one\n")

	s.write("src", "two")
	got = s.tugline("test")
	assert.Equal(t, 1, got.code)
	assert.Contains(t, got.stderr, "to start it again: tugline service restart api")
	assert.Equal(t, pid, s.read("pid-api"))
	got = s.tugline("service", "restart", "api")
	require.Zero(t, got.code, got.stdout+got.stderr)
	assert.NotEqual(t, pid, s.read("pid-api"))
	assert.Zero(t, s.tugline("test").code)

	got = s.tugline("service", "stop", "api")
	require.Zero(t, got.code, got.stderr)
	assert.Equal(t, "stopped  api\nstopped  base\n", got.stderr, "what it alone used goes, too")
	s.eventuallyGone("pid-api")
	s.eventuallyGone("pid-base")
	assert.Empty(t, s.serviceNames())
	got = s.tugline("service", "stop", "api")
	assert.Equal(t, 2, got.code)
	assert.Contains(t, got.stderr, "api does not run in the background")
}

func TestAServiceAskedForStaysWhenItsUserGoes(t *testing.T) {
	s := background(t, services(freePort(t)))
	s.write("src", "one")
	require.Zero(t, s.tugline("service", "start", "api").code)
	require.Zero(t, s.tugline("service", "start", "base").code)
	require.Zero(t, s.tugline("service", "stop", "api").code)
	assert.Equal(t, []string{"base"}, s.serviceNames())
}

// Nothing is left of a service whose supervisor was killed, and it is not taken for
// running.
func TestAKilledSupervisor(t *testing.T) {
	s := background(t, services(freePort(t)))
	require.Zero(t, s.tugline("service", "start", "base").code)
	s.waitForFile("pid-base")
	var list struct{ Services []struct{ Process int } }
	require.NoError(t, json.Unmarshal([]byte(s.tugline("service", "list", "--json").stdout), &list))
	require.NoError(t, syscall.Kill(list.Services[0].Process, syscall.SIGKILL))
	s.eventuallyGone("pid-base")
	s.until("it is not listed", func() bool { return len(s.serviceNames()) == 0 })
	require.NoError(t, os.Remove(filepath.Join(s.dir, "pid-base")))
	require.Zero(t, s.tugline("service", "start", "base").code)
	s.waitForFile("pid-base")
}

// An entry that a reboot left names a process that is another one by now.
func TestAnEntryOfAnotherProcessIsNotTaken(t *testing.T) {
	s := background(t, services(freePort(t)))
	require.Zero(t, s.tugline("service", "start", "base").code)
	entries, err := filepath.Glob(filepath.Join(s.dir, ".tugline/services/*.json"))
	require.NoError(t, err)
	entry, err := os.ReadFile(entries[0])
	require.NoError(t, err)
	require.Zero(t, s.tugline("service", "stop", "base").code)
	other := exec.Command("sleep", "1000")
	require.NoError(t, other.Start())
	defer func() {
		other.Process.Kill()
		other.Wait()
	}()
	var e map[string]any
	require.NoError(t, json.Unmarshal(entry, &e))
	e["process"] = other.Process.Pid
	text, err := json.Marshal(e)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(entries[0], text, 0o644))
	assert.Equal(t, 2, s.tugline("service", "stop", "base").code)
	assert.NoError(t, syscall.Kill(other.Process.Pid, 0))
	assert.NoFileExists(t, entries[0])
}

func TestServicesInTheBackgroundThatFail(t *testing.T) {
	s := background(t, `
[env]
KEY = { secret = true, value = "hush-hush" }
[task.bad]
stays = true
run = 'echo "no luck with $KEY"; exit 3'
ready = { run = "false" }
[task.brief]
stays = true
run = 'true'
ready = { run = "false" }
[task.slow]
stays = true
run = 'echo waiting; sleep 1000'
ready = { log = "never", timeout = "50ms" }
[task.plain]
run = 'true'
[task.far]
stays = true
run = 'echo here; sleep 1000'
ready = { log = "here" }
folder = "`+strings.Repeat("a", 60)+`"
`)
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, strings.Repeat("a", 60)), 0o755))
	got := s.tugline("service", "start", "bad")
	assert.Equal(t, 1, got.code)
	assert.Regexp(t, `(?s)exit code 3; its last output:.*no luck with •••`, got.stderr)
	assert.NotContains(t, s.tugline("log", "bad").stdout, "hush")
	got = s.tugline("resume")
	assert.Equal(t, 2, got.code)
	assert.Contains(t, got.stderr, "to try again: tugline service start bad")
	got = s.tugline("service", "start", "brief")
	assert.Equal(t, 1, got.code)
	assert.Contains(t, got.stderr, "ended")
	got = s.tugline("service", "start", "slow")
	assert.Regexp(t, `(?s)was not ready within 50ms.*waiting`, got.stderr)
	assert.Empty(t, s.serviceNames())
	for _, words := range []string{"service", "service begin", "service start", "service stop", "service restart plain", "service start nothing"} {
		assert.Equal(t, 2, s.tugline(strings.Fields(words)...).code, words)
	}
	got = s.tugline("service", "start", "plain")
	assert.Equal(t, 2, got.code)
	assert.Contains(t, got.stderr, "plain is no service")

	deep := filepath.Join(s.dir, strings.Repeat("deep/", 30)) // longer than the path of a socket may be
	require.NoError(t, os.MkdirAll(filepath.Join(deep, strings.Repeat("a", 60)), 0o755))
	require.NoError(t, os.Rename(filepath.Join(s.dir, "tugline.toml"), filepath.Join(deep, "tugline.toml")))
	s.dir = deep
	got = s.tugline("service", "start", "far")
	assert.Zero(t, got.code, got.stderr)
	assert.Equal(t, []string{"far"}, s.serviceNames())
	info, err := os.Stat(filepath.Join(deep, ".tugline/services"))
	require.NoError(t, err)
	assert.True(t, info.IsDir())
}
