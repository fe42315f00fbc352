package history

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"tugline/internal/atomicfile"
)

// Instance is a recorded call of a task with instances.
type Instance struct {
	ID     string // of the record
	Values string // a digest of the values of each
}

// dropped stands in the place of the values of an instance that is no more.
const dropped = "-"

// instancesPath returns the file that lists the instances of a task, a line each:
// both fields with a space between; of the lines of one ID the last one counts.
// Lines are only added, so no lock is needed. The file tells which records there
// are of a task without reading all.
func (l *Ledger) instancesPath(task string) string {
	sum := sha256.Sum256([]byte(task))
	return filepath.Join(l.folder, "records", hex.EncodeToString(sum[:16])+".instances")
}

// Instances returns the recorded instances of a task, in no order.
func (l *Ledger) Instances(task string) []Instance {
	text, err := os.ReadFile(l.instancesPath(task))
	if err != nil {
		return nil // none is recorded
	}
	values := map[string]string{}
	for line := range strings.Lines(string(text)) {
		if id, v, whole := strings.Cut(strings.TrimSuffix(line, "\n"), " "); whole && strings.HasSuffix(line, "\n") {
			values[id] = v
		}
	}
	var all []Instance
	for id, v := range values {
		if v != dropped {
			all = append(all, Instance{id, v})
		}
	}
	return all
}

// AddInstance notes that a record is that of an instance of a task.
func (l *Ledger) AddInstance(task string, i Instance) error {
	file, err := atomicfile.Open(l.instancesPath(task), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err == nil {
		_, err = file.WriteString(i.ID + " " + i.Values + "\n")
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		return fmt.Errorf("noting an instance of %q: %w", task, err)
	}
	return nil
}

// DropInstance removes the record of an instance that is no more.
func (l *Ledger) DropInstance(task, id string) error {
	return errors.Join(l.AddInstance(task, Instance{id, dropped}), l.Remove(id))
}
