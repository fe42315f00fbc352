package history

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/fingerprint"
)

func newLedger(t *testing.T) *Ledger {
	t.Helper()
	l := At(t.TempDir())
	require.NoError(t, l.Create())
	return l
}

func sample() Record {
	return Record{
		Version: 3, ID: "page", Call: "page --port merrowick", Task: "page", Run: "r1", Finished: time.Date(2026, 10, 1, 2, 3, 4, 0, time.UTC), Ms: 12, Sum: "s", OutputsSum: "o",
		Fingerprint: fingerprint.Fingerprint{Sum: "s", Items: []fingerprint.Item{{Kind: "command", Name: "1", Value: "x"}}, Files: []fingerprint.File{{Path: "a", Mark: "1"}}},
		Outputs:     []fingerprint.File{{Path: "b", Mark: "2"}},
	}
}

func TestARecordIsReadAsItWasWritten(t *testing.T) {
	l := newLedger(t)
	id := "page"
	_, found := l.Read(id)
	assert.False(t, found)
	require.NoError(t, l.Begin(id, "s", Changed))
	sum, mark, begun := l.Begun(id)
	assert.Equal(t, []any{"s", Changed, true}, []any{sum, mark, begun})
	require.NoError(t, l.Write(id, sample()))
	r, found := l.Read(id)
	assert.True(t, found)
	assert.Equal(t, sample(), r)
	head, found := l.Head(id)
	assert.True(t, found)
	assert.Equal(t, Head{"s", "o", 12, false}, head)
	_, _, begun = l.Begun(id)
	assert.False(t, begun, "it ended well")
	assert.Equal(t, []Record{sample()}, l.All())
	require.NoError(t, l.Remove(id))
	assert.Empty(t, l.All())
	text, err := os.ReadFile(filepath.Join(l.Folder(), ".gitignore"))
	require.NoError(t, err)
	assert.Equal(t, "*\n", string(text))
}

// A power cut may leave any beginning of a file, or other bytes in it.
func TestADamagedRecordIsNone(t *testing.T) {
	l := newLedger(t)
	require.NoError(t, l.Write("x", sample()))
	text, err := os.ReadFile(l.path("x", ".json"))
	require.NoError(t, err)
	for at := range text {
		require.NoError(t, os.WriteFile(l.path("x", ".json"), text[:at], 0o644))
		_, found := l.Read("x")
		assert.False(t, found, "%d bytes of it", at)
		damaged := append([]byte{}, text...)
		damaged[at] = 0
		require.NoError(t, os.WriteFile(l.path("x", ".json"), damaged, 0o644))
		_, found = l.Read("x")
		assert.False(t, found, "byte %d is 0", at)
	}
}

func TestACallIsLockedOnce(t *testing.T) {
	l := newLedger(t)
	unlock, err := l.Lock(context.Background(), "x", func() { t.Error("nobody holds it") })
	require.NoError(t, err)
	waits := make(chan struct{})
	done := make(chan error)
	go func() {
		again, err := l.Lock(context.Background(), "x", func() { close(waits) })
		if err == nil {
			again()
		}
		done <- err
	}()
	<-waits
	unlock()
	assert.NoError(t, <-done)

	unlock, err = l.Lock(context.Background(), "x", func() {})
	require.NoError(t, err)
	defer unlock()
	ctx, cancel := context.WithCancel(context.Background())
	_, err = l.Lock(ctx, "x", cancel)
	assert.ErrorIs(t, err, context.Canceled)
}

// A link in the folder of the ledger may lead to anything of the user's.
func TestNothingIsWrittenThroughALinkOfTheLedger(t *testing.T) {
	l := newLedger(t)
	theirs := filepath.Join(t.TempDir(), "theirs")
	require.NoError(t, os.WriteFile(theirs, []byte("theirs"), 0o644))
	for _, name := range []string{"records/x.begun", "records/x.json", "locks/x", "clock", "times"} {
		require.NoError(t, os.Symlink(theirs, filepath.Join(l.Folder(), name)))
	}
	require.NoError(t, l.Begin("x", "s", Started))
	require.NoError(t, l.Write("x", sample()))
	require.NoError(t, l.KeepUsual(map[string]time.Duration{"x": time.Second}))
	unlock, err := l.Lock(context.Background(), "x", func() {})
	require.NoError(t, err)
	unlock()
	text, err := os.ReadFile(theirs)
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(text))

	elsewhere := t.TempDir()
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(l.Folder(), "runs")))
	_, err = l.Record(Run{ID: "r"})
	assert.ErrorContains(t, err, "runs is not a folder")
	linked := At(t.TempDir())
	require.NoError(t, os.Symlink(elsewhere, linked.Folder()))
	assert.ErrorContains(t, linked.Create(), ".tugline is not a folder")
	left, err := os.ReadDir(elsewhere)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestALockIsSharedOrAlone(t *testing.T) {
	l := newLedger(t)
	never := func() { t.Error("it need not wait") }
	first, err := l.Share(context.Background(), "x", never)
	require.NoError(t, err)
	second, err := l.Share(context.Background(), "x", never)
	require.NoError(t, err)
	first()
	_, taken := l.TryLock("x")
	assert.False(t, taken)
	second()
	unlock, taken := l.TryLock("x")
	require.True(t, taken)
	unlock()
}
