// Package history keeps, in the project's folder .tugline, what became of
// calls: for each, what its last good run read and wrote, and when.
package history

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"tugline/internal/atomicfile"
	"tugline/internal/fingerprint"
)

// FolderName is the name of the folder beside the top project file.
const FolderName = ".tugline"

// version of the format of records.
const version = 3

// Record is what the last good run of a call left.
type Record struct {
	Version     int                     `json:"version"`
	Call        string                  `json:"call"` // as it is shown
	Task        string                  `json:"task"`
	Run         string                  `json:"run"` // the name of the run; empty: it was accepted
	Finished    time.Time               `json:"finished"`
	Ms          int64                   `json:"ms"`
	Sum         string                  `json:"sum"`         // of its fingerprint
	OutputsSum  string                  `json:"outputs_sum"` // of its outputs
	Fingerprint fingerprint.Fingerprint `json:"fingerprint"`
	Outputs     []fingerprint.File      `json:"outputs"`
	// Stale are outputs of earlier runs that the run did not make, and that are still
	// there as they were left. Those that the patterns of writes mean are among Outputs, too.
	Stale []fingerprint.File `json:"stale,omitempty"`

	EmptyReads []string `json:"empty_reads,omitempty"` // the patterns of reads that matched nothing

	Listed []string `json:"listed,omitempty"` // the files that its depfile listed

	ID string `json:"-"` // under which it is kept
}

// Ledger is the folder of records. It may be used from many goroutines and
// many processes. It never writes through a link.
type Ledger struct {
	top, folder string

	mu      sync.Mutex      // protects folders
	folders map[string]bool // see IsFolder; nil: not read yet
}

// At returns the ledger in the project folder top. It touches nothing; without
// [Ledger.Create] only reading may be done.
func At(top string) *Ledger { return &Ledger{top: top, folder: filepath.Join(top, FolderName)} }

// Folder returns the folder of the ledger.
func (l *Ledger) Folder() string { return l.folder }

// Create makes the folder, which version control is told to leave alone.
func (l *Ledger) Create() error {
	for _, name := range []string{"records", "locks"} {
		if _, err := atomicfile.Folders(l.top, FolderName, name); err != nil {
			return fmt.Errorf("making the folder for records: %w", err)
		}
	}
	ignore := filepath.Join(l.folder, ".gitignore")
	if _, err := os.Lstat(ignore); errors.Is(err, fs.ErrNotExist) {
		if err := atomicfile.Write(ignore, []byte("*\n")); err != nil {
			return fmt.Errorf("making the folder for records: %w", err)
		}
	}
	return nil
}

func (l *Ledger) path(id, ending string) string {
	return filepath.Join(l.folder, "records", id+ending)
}

// header is the first line of a record: what is needed to see that nothing
// changed. The second line is the record.
type header struct {
	Version    int    `json:"version"`
	Sum        string `json:"sum"`
	OutputsSum string `json:"outputs_sum"`
	Ms         int64  `json:"ms"`
	EmptyReads bool   `json:"empty_reads,omitempty"` // a pattern of reads matched nothing
	Digest     string `json:"digest"`                // BLAKE3 of the second line
}

// Head is what is needed of a record to see that nothing changed.
type Head struct {
	Sum, OutputsSum string
	Ms              int64 // how long the run took
	EmptyReads      bool  // a pattern of reads matched nothing
}

// Head returns the head of the record of a call. found is false if there is
// none that can be read.
func (l *Ledger) Head(id string) (head Head, found bool) {
	file, err := os.Open(l.path(id, ".json"))
	if err != nil {
		return head, false
	}
	defer file.Close()
	buf := make([]byte, 512) // longer than any header
	n, _ := file.Read(buf)   // what is missing is seen below
	line, _, whole := bytes.Cut(buf[:n], []byte("\n"))
	var h header
	if !whole || json.Unmarshal(line, &h) != nil || h.Version != version {
		return head, false
	}
	return Head{h.Sum, h.OutputsSum, h.Ms, h.EmptyReads}, true
}

// Listed returns the files that the depfile of a call listed after its last good run.
func (l *Ledger) Listed(id string) []string {
	r, _ := l.Read(id) // then it listed none
	return r.Listed
}

// Read returns the whole record of a call. found is false if there is none, or
// it is damaged.
func (l *Ledger) Read(id string) (r Record, found bool) {
	return readRecord(l.path(id, ".json"))
}

// readRecord reads a record, whose path ends in its ID.
func readRecord(path string) (r Record, found bool) {
	text, err := os.ReadFile(path)
	if err != nil {
		return r, false
	}
	first, body, whole := bytes.Cut(text, []byte("\n"))
	var h header
	if !whole || json.Unmarshal(first, &h) != nil || h.Version != version || digest(body) != h.Digest {
		return r, false
	}
	if json.Unmarshal(body, &r) != nil {
		return r, false
	}
	fingerprint.Reread(r.Fingerprint.Files)
	fingerprint.Reread(r.Outputs)
	fingerprint.Reread(r.Stale)
	r.Fingerprint.Sum = r.Sum
	r.ID = strings.TrimSuffix(filepath.Base(path), ".json")
	return r, true
}

func digest(body []byte) string {
	sum := blake3.Sum256(body)
	return hex.EncodeToString(sum[:])
}

// All returns every record that can be read.
func (l *Ledger) All() []Record {
	paths, _ := filepath.Glob(filepath.Join(l.folder, "records", "*.json")) // the pattern is good
	var all []Record
	for _, path := range paths {
		if r, ok := readRecord(path); ok {
			all = append(all, r)
		}
	}
	return all
}

// Mark says why a call has no good end in a state.
type Mark string

// The marks.
const (
	Started   Mark = "started"   // its commands were started, and have not ended well
	Restoring Mark = "restoring" // a restore was started, and has not ended
	Changed   Mark = "changed"   // what it reads changed while it ran
)

// Begin notes what becomes of a call in the state that sum tells of: until its
// record is written, it has not ended well.
func (l *Ledger) Begin(id, sum string, mark Mark) error {
	if err := atomicfile.Overwrite(l.path(id, ".begun"), []byte(sum+" "+string(mark)), 0o644); err != nil {
		return fmt.Errorf("noting that a task starts: %w", err)
	}
	return nil
}

// Marker returns the path of the file that tells in which state a call was begun.
func (l *Ledger) Marker(id string) string { return l.path(id, ".begun") }

// Begun returns the state in which a call was begun that has not ended well.
func (l *Ledger) Begun(id string) (sum string, mark Mark, begun bool) {
	text, err := os.ReadFile(l.path(id, ".begun"))
	sum, word, _ := strings.Cut(string(text), " ")
	return sum, Mark(word), err == nil
}

// Write keeps the record of a call that ended well.
func (l *Ledger) Write(id string, r Record) error {
	r.Version = version
	body, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("writing the record of %q: %w", r.Call, err)
	}
	head, err := json.Marshal(header{version, r.Sum, r.OutputsSum, r.Ms, len(r.EmptyReads) > 0, digest(body)})
	if err != nil {
		return fmt.Errorf("writing the record of %q: %w", r.Call, err)
	}
	path := l.path(id, ".json")
	if err := atomicfile.Write(path, append(append(head, '\n'), body...)); err != nil {
		return fmt.Errorf("writing the record of %q: %w", r.Call, err)
	}
	if err := os.Remove(l.path(id, ".begun")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("writing the record of %q: %w", r.Call, err)
	}
	return nil
}

// Remove forgets the record of a call.
func (l *Ledger) Remove(id string) error {
	for _, ending := range []string{".json", ".begun"} {
		if err := os.Remove(l.path(id, ending)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing a record: %w", err)
		}
	}
	return nil
}

// stagingPrefix begins the names of folders in which outputs are unpacked.
const stagingPrefix = "restore-"

// Staging returns the name of the folder of the ledger in which the outputs of a
// call are unpacked. Who uses it holds the lock of the call.
func Staging(id string) string { return stagingPrefix + id }

// ClearStaging removes the folders in which outputs were unpacked and files that
// were being written when a Tugline was killed. What is in use stays.
func (l *Ledger) ClearStaging() error {
	var failed []error
	entries, _ := os.ReadDir(l.folder) // none, if it cannot be read
	for _, e := range entries {
		id, isStaging := strings.CutPrefix(e.Name(), stagingPrefix)
		if !isStaging {
			continue
		}
		if unlock, taken := l.TryLock(id); taken {
			failed = append(failed, os.RemoveAll(filepath.Join(l.folder, e.Name())))
			unlock()
		}
	}
	if err := errors.Join(failed...); err != nil {
		return fmt.Errorf("clearing what a killed Tugline left: %w", err)
	}
	return nil
}
