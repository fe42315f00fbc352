// Package background keeps services running when Tugline has ended: each has a
// process of its own that supervises it and answers on a socket. It knows no task.
package background

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/gofrs/flock"

	"tugline/internal/atomicfile"
	"tugline/internal/serve"
	"tugline/internal/service"
)

// Spec is a service to start. It holds its environment, which may hold secrets: it
// goes through a pipe, and is never written to disk.
type Spec struct {
	Entry
	Commands []Command
	Serve    *serve.Options // the page server; nil: Commands are run
	Port     string         // a check of [service.Check], as are the next ones
	HTTP     string
	Log      string // a regular expression
	Check    *Command
	Timeout  time.Duration
	Restart  bool
	Secrets  []string // values that are not to be shown
}

// Command is a script and what surrounds it, as in package shell.
type Command struct {
	Args   []string // the interpreter; none: the built-in shell
	Script string
	Params []string
	Folder string
	Env    []string
	Grace  time.Duration
}

// Entry is what is kept of a service in the background.
type Entry struct {
	Version int       `json:"version"`
	ID      string    `json:"id"` // of its call
	Name    string    `json:"name"`
	Task    string    `json:"task"`
	Sum     string    `json:"sum"`     // of its fingerprint
	Uses    []string  `json:"uses"`    // the IDs of the services that it uses
	Asked   bool      `json:"asked"`   // it was started by name
	Process int       `json:"process"` // that supervises it
	Socket  string    `json:"socket"`  // absolute
	LogFile string    `json:"log"`     // absolute
	Started time.Time `json:"started"`
}

// entryVersion is the version of the format of an entry.
const entryVersion = 1

// Status is how a service in the background is.
type Status struct {
	State    service.State `json:"state"`
	Since    time.Time     `json:"since"`
	Restarts int           `json:"restarts"`
	Address  string        `json:"address"` // where it is reached; empty: it is not known
	Error    string        `json:"error"`   // why it failed; empty: it did not
}

// Running is a service in the background.
type Running struct {
	Entry
	Status
}

// Folder is that of the services of a project, below the folder of its records.
type Folder struct{ parent, path string }

// In returns the folder of services in a folder of records.
func In(records string) Folder { return Folder{records, filepath.Join(records, "services")} }

func (f Folder) file(id, ending string) string { return filepath.Join(f.path, id+ending) }

// lock returns the lock that the supervisor of a service holds while it lives.
func (f Folder) lock(id string) *flock.Flock {
	return flock.New(f.file(id, ".lock"), flock.SetFlag(os.O_CREATE|os.O_RDWR|atomicfile.NoFollow))
}

// List returns the services that run, in the order in which they were started. What
// a supervisor left that was killed, or that a reboot ended, is removed: nobody holds
// its lock.
func (f Folder) List(ctx context.Context) []Running {
	names, _ := os.ReadDir(f.path) // none, if it is not there
	var all []Running
	for _, n := range names {
		id, isEntry := strings.CutSuffix(n.Name(), ".json")
		if !isEntry {
			continue
		}
		if r, runs := f.Find(ctx, id); runs {
			all = append(all, r)
		}
	}
	slices.SortFunc(all, func(a, b Running) int { return a.Started.Compare(b.Started) })
	return all
}

// Find returns the service of a call; runs is false if there is none.
func (f Folder) Find(ctx context.Context, id string) (r Running, runs bool) {
	if !f.isSupervised(id) {
		return r, false
	}
	text, err := os.ReadFile(f.file(id, ".json"))
	if err != nil || json.Unmarshal(text, &r.Entry) != nil || r.Version != entryVersion {
		return r, false
	}
	if r.Status, err = r.call(ctx, "status"); err != nil {
		// It ends in this moment: it listened before there was an entry.
		return r, !isUnheard(err) && f.isSupervised(id)
	}
	return r, true
}

// isSupervised reports whether a process supervises the service of a call. If not,
// what is left of it is removed.
func (f Folder) isSupervised(id string) bool {
	if _, err := os.Lstat(f.file(id, ".json")); err != nil {
		return false
	}
	lock := f.lock(id)
	alone, err := lock.TryLock()
	if err != nil || !alone {
		return err == nil
	}
	os.Remove(f.file(id, ".json")) // best effort: it is found again next time
	lock.Unlock()
	return false
}

// call asks the supervisor of a service for something, and returns its answer.
func (e *Entry) call(ctx context.Context, what string) (status Status, err error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", e.Socket)
	if err != nil {
		return status, fmt.Errorf("asking the service: %w", err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if _, err = fmt.Fprintln(conn, what); err == nil {
		err = json.NewDecoder(bufio.NewReader(conn)).Decode(&status)
	}
	if ctx.Err() != nil {
		return status, context.Cause(ctx)
	}
	if err != nil {
		return status, fmt.Errorf("asking the service: %w", err)
	}
	return status, nil
}

// Ask notes that a service is asked for by name, if it runs.
func (f Folder) Ask(ctx context.Context, id string) error {
	r, runs := f.Find(ctx, id)
	if !runs || r.Asked {
		return nil
	}
	r.Asked = true
	entry, err := json.Marshal(r.Entry)
	if err == nil {
		err = atomicfile.Write(f.file(id, ".json"), append(entry, '\n'))
	}
	if err != nil {
		return fmt.Errorf("noting the service: %w", err)
	}
	return nil
}

// WaitReady returns when a service is ready, or why it is not.
func (e *Entry) WaitReady(ctx context.Context) error {
	status, err := e.call(ctx, "wait")
	switch {
	case err != nil:
		return err
	case status.Error != "":
		return errors.New(status.Error)
	case status.State == service.Stopped:
		return errEnded
	}
	return nil
}

// errEnded says that a service ended well before it was ready.
var errEnded = errors.New("it ended by itself")

// Stop stops a service, and returns when it has ended.
func (f Folder) Stop(ctx context.Context, e *Entry) error {
	if _, err := e.call(ctx, "stop"); err != nil && ctx.Err() != nil {
		return err
	}
	for { // the lock is given back when all has ended
		if _, runs := f.Find(ctx, e.ID); !runs {
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// maxSocket is the longest path of a socket (sun_path of unix(7), and of macOS).
const maxSocket = 100

// prepare makes the folder and fills in where the service is kept.
func (f Folder) prepare(spec *Spec) error {
	if _, err := atomicfile.Folders(f.parent, "services"); err != nil {
		return fmt.Errorf("making the folder of services: %w", err)
	}
	os.Remove(f.file(spec.ID, ".failed")) // of an earlier start
	spec.Version, spec.LogFile, spec.Socket = entryVersion, f.file(readable(spec.Name)+"-"+spec.ID[:6], ".log"), f.file(spec.ID, ".sock")
	if len(spec.Socket) > maxSocket {
		folder, err := os.MkdirTemp("", "tugline-") // for this user alone
		if err != nil {
			return fmt.Errorf("making a place for the socket: %w", err)
		}
		spec.Socket = filepath.Join(folder, "s")
	}
	return nil
}

// readable returns a name as a part of the name of a file.
func readable(name string) string {
	name = strings.Map(func(c rune) rune {
		if unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune("-_.", c) {
			return c
		}
		return '_'
	}, name)
	for len(name) > 60 {
		name = name[:len(name)-1]
	}
	return strings.ToValidUTF8(name, "")
}

// Starter starts a program that outlives this one, and gives it its input.
type Starter func(input []byte) error

// Start starts a service, and returns when it is ready, or why it is not. start
// starts a program that calls [Supervise]. address is where the service is reached;
// empty: it is not known.
func (f Folder) Start(ctx context.Context, spec Spec, start Starter) (address string, err error) {
	if err := f.prepare(&spec); err != nil {
		return "", err
	}
	if err := f.launch(ctx, spec, start); err != nil {
		return "", err
	}
	r, _ := f.Find(ctx, spec.ID)
	return r.Address, nil
}

// launch starts the supervisor of a service, and waits until that is ready.
func (f Folder) launch(ctx context.Context, spec Spec, start Starter) error {
	input, err := json.Marshal(request{f.parent, spec})
	if err == nil {
		err = start(input)
	}
	if err != nil {
		return fmt.Errorf("starting the service in the background: %w", err)
	}
	late := time.Now().Add(startTime)
	for pause := 2 * time.Millisecond; ; pause = min(2*pause, 50*time.Millisecond) {
		err := spec.WaitReady(ctx)
		if err == nil || !isUnheard(err) || ctx.Err() != nil || time.Now().After(late) {
			return err
		}
		if text, readErr := os.ReadFile(f.file(spec.ID, ".failed")); readErr == nil { // before it could listen
			os.Remove(f.file(spec.ID, ".failed"))
			return errors.New(string(text))
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
		}
	}
}

// startTime is how long a supervisor may take until it listens.
const startTime = 10 * time.Second

// isUnheard reports whether nobody answers at a socket, yet or any more.
func isUnheard(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) || errors.Is(err, io.EOF)
}
