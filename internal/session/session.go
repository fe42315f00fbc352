// Package session opens a project once and serves all commands from that: what
// would run, why, and running it.
package session

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tugline/internal/background"
	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/files"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/secret"
	"tugline/internal/shell"
	"tugline/internal/store"
)

// Config says for whom a session is opened.
type Config struct {
	Vars  []string      // the caller's environment, as NAME=value
	From  string        // absolute: where the user stands
	Run   string        // the name of the run, should it come to one
	Grace time.Duration // from asking a program to end to killing it
	Kill  <-chan struct{}
	Mask  *secret.Mask // is told all secret values
	// Guard is how the guard of what is started is started itself, without the mark of
	// the session. None: there is no guard.
	Guard []string
	// Supervisor is how the supervisor of a service in the background is started.
	Supervisor []string
	Shown      func(path string) string // a path as the user would write it
	// QRCode returns a picture of an address in the network, in text. nil: none is shown.
	QRCode func(address string) string
	Warn   func(text string) // is told what goes wrong and keeps nothing from going on
	// Working is told what a script computes while planning, and returns what is called when
	// that is done. It may be called from many goroutines. nil: nobody is told.
	Working func(what string) (done func())
}

// Session is a project, with the files, records and store that belong to it. It
// is used from one goroutine.
type Session struct {
	Project *project.Project
	Base    *project.File      // in which bare names are looked up
	Files   func() *files.Tree // of the project, opened by the first call
	Ledger  *history.Ledger

	// Background are the services of the project that run in the background.
	Background background.Folder

	cfg    Config
	shell  *shell.Session // all that is started
	warned bool           // that there is no store

	planning atomic.Bool      // a plan is being made: Working is told
	services *engine.Services // that go on between the rounds of a watch; nil: each run ends its own

	sources sources                     // of the plans that were made
	goodEnv map[string]project.Settings // what env files held when they could last be read, by path
}

// InputError says that something the user named is not there or not good.
type InputError struct{ Msg string }

func (e *InputError) Error() string { return e.Msg }

// Open opens a project. It changes nothing.
func Open(p *project.Project, base *project.File, cfg Config) *Session {
	ledger := history.At(p.Folder)
	mark := "TUGLINE_SESSION=" + cfg.Run // a watch has many runs
	var guard []string
	if len(cfg.Guard) > 0 {
		guard = append(slices.Clone(cfg.Guard), mark)
	}
	tree := sync.OnceValue(func() *files.Tree { return files.Open(p.Folder, ledger.Folder()) })
	return &Session{Project: p, Base: base, Files: tree, Ledger: ledger, Background: background.In(ledger.Folder()), cfg: cfg, shell: shell.NewSession(guard, mark)}
}

// Request is what a command asks of a session. All commands ask in the same way,
// so what one knows the others know.
type Request struct {
	Calls      []project.Call
	Set        []string // variables, as NAME=value, stronger than the project file
	EnvFiles   []string // absolute paths of the user's env files, the later ones stronger
	Jobs       int      // steps at once; 0: as the project says
	Force      bool     // run what Calls name even if unchanged
	ForceNeeds bool     // run all even if unchanged
	AsIs       []*project.Task
	NoStore    bool
	NoCompute  bool         // run no script that computes something
	Changed    []string     // what changed before a round of a watch; paths from the top folder
	Resume     *history.Run // the run that is resumed; nil: none
}

// Cache returns what is known from earlier runs, to be used as a request says.
func (s *Session) Cache(r Request) *cache.Cache {
	c := &cache.Cache{
		Top: s.Project.Folder, Files: s.Files(), Ledger: s.Ledger, Run: s.cfg.Run, Nested: s.variable("TUGLINE_RUN") != "",
		ForceNeeds: r.ForceNeeds, Force: map[*project.Task]bool{}, AsIs: map[*project.Task]bool{},
		World: fingerprint.World{Top: s.Project.Folder, OS: runtime.GOOS, Arch: runtime.GOARCH, Hidden: s.cfg.Mask.Text},
	}
	for _, call := range r.Calls {
		if t := s.taskOf(call); r.Force && t != nil {
			c.Force[t] = true
		}
	}
	for _, t := range r.AsIs {
		c.AsIs[t] = true
	}
	c.Writes = func(path string) bool { return plan.MayWrite(s.Project, path) }
	c.Running = func(step *plan.Step, sum string) bool {
		r, runs := s.Background.Find(context.Background(), step.ID())
		return runs && r.Sum == sum
	}
	kept, err := Store(s.cfg.Vars)
	if err != nil && !s.warned {
		s.warned = true
		s.cfg.Warn("outputs are neither stored nor restored: " + err.Error())
	}
	if err == nil && !r.NoStore {
		c.Store = kept
	}
	c.World.Keyed = func(value string) (string, bool) {
		if err != nil {
			return "", false
		}
		digest, err := kept.Keyed(value)
		return digest, err == nil
	}
	return c
}

// taskOf returns the task that a call means; nil: there is none.
func (s *Session) taskOf(c project.Call) *project.Task {
	if c.Task != nil {
		return c.Task
	}
	return s.Base.Task(c.Name)
}

// Store returns the store of the user whose environment is given. It touches nothing.
func Store(vars []string) (*store.Store, error) {
	folder := variable(vars, "TUGLINE_STORE")
	if folder == "" {
		user, err := os.UserCacheDir()
		if err != nil {
			return nil, fmt.Errorf("finding the folder of the store: %w", err)
		}
		folder = filepath.Join(user, "tugline")
	}
	if !filepath.IsAbs(folder) {
		return nil, errors.New("TUGLINE_STORE must be an absolute path")
	}
	return store.At(folder), nil
}

func (s *Session) variable(name string) string { return variable(s.cfg.Vars, name) }

// variable returns the value of a variable in an environment; empty: it is not set.
func variable(vars []string, name string) string {
	for _, pair := range slices.Backward(vars) {
		if value, ok := strings.CutPrefix(pair, name+"="); ok {
			return value
		}
	}
	return ""
}

// Close ends all that was started and not ended: jobs of computed variables, and
// programs that left their group.
func (s *Session) Close() { s.shell.End(s.cfg.Grace) }
