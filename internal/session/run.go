package session

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tugline/internal/background"
	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/history"
	"tugline/internal/plan"
)

// What holds where the project does not say otherwise.
const (
	StoreLimit = 8 << 30 // bytes
	KeepRuns   = 50
)

// pruneEvery is the time between two looks at the size of the store.
const pruneEvery = time.Hour

// NewRunName returns the name of a new run: its time to the millisecond, to be
// read and sorted, and two digits by chance, since two may start at once.
func NewRunName() string {
	word := make([]byte, 1)
	rand.Read(word) // never fails
	now := time.Now().UTC()
	return fmt.Sprintf("%s-%03d%x", now.Format("20060102-150405"), now.Nanosecond()/1e6, word)
}

// Prepared is a run that may start: its plan is made, its scripts are parsed, and what
// it requires is there.
type Prepared struct {
	Plan *plan.Plan

	request Request
	scripts *engine.Scripts
	took    time.Duration // preparing it
}

// Prepare sees to all that must be well before anything of a request starts. The
// errors are those of [Session.Plan], [engine.Prepare] and [engine.CheckRequirements].
func (s *Session) Prepare(ctx context.Context, r Request) (*Prepared, error) {
	return s.prepare(ctx, r, true)
}

// prepare is Prepare; required says whether to look for what the plan requires.
func (s *Session) prepare(ctx context.Context, r Request, required bool) (*Prepared, error) {
	began := time.Now()
	pl, err := s.Plan(ctx, r)
	if err != nil {
		return nil, err
	}
	scripts, err := engine.Prepare(pl)
	if err != nil {
		return nil, err
	}
	if required {
		if _, err := s.Requirements(ctx, pl); err != nil {
			return nil, err
		}
	}
	return &Prepared{pl, r, scripts, time.Since(began)}, nil
}

// Requirements looks for all that a plan requires, as [engine.CheckRequirements].
func (s *Session) Requirements(ctx context.Context, pl *plan.Plan) ([]engine.Checked, error) {
	return engine.CheckRequirements(ctx, s.shell.Run, pl, s.cfg.Grace)
}

// Words are what the record of a run says of how it was asked for.
type Words struct {
	Request []string // without secrets
	Stood   string   // absolute: where the user stood
	File    string   // the project file, if one was named
}

// Run is a run that is recorded, from [Session.Begin] to its end.
type Run struct {
	Plan     *plan.Plan
	Name     string
	Recorded bool
	Usual    func(call string) time.Duration // what a call usually takes; 0: not known. nil: nothing is known

	session   *Session
	prepared  *Prepared
	words     Words
	cache     *cache.Cache // nil: nothing can be remembered
	recording *engine.Recording

	quiet bool           // it is neither recorded nor told before a step does something
	acted bool           // a step did something
	held  []engine.Event // from before that
}

// Begin begins the record of a run. What cannot be recorded or kept is told as a
// warning.
func (s *Session) Begin(p *Prepared, words Words) *Run {
	run := s.beginQuiet(p, words)
	run.quiet = false
	run.record()
	return run
}

// beginQuiet is Begin for a run that need not be told of if nothing is to do.
func (s *Session) beginQuiet(p *Prepared, words Words) *Run {
	run := &Run{Plan: p.Plan, Name: s.cfg.Run, session: s, prepared: p, words: words, quiet: true}
	c := s.resumed(p.Plan, p.request)
	if !s.create(c) {
		return run
	}
	run.cache = c
	usual := sync.OnceValue(s.Ledger.Usual)
	run.Usual = func(call string) time.Duration { return usual()[call] }
	return run
}

// create makes the folders of the store and the records. It returns false when
// nothing can be kept beside the project.
func (s *Session) create(c *cache.Cache) bool {
	if c.Store != nil {
		if err := c.Store.Create(); err != nil {
			s.cfg.Warn("outputs are neither stored nor restored: " + err.Error())
			c.Store = nil
		}
	}
	if err := s.Ledger.Create(); err != nil {
		s.cfg.Warn("this run is not recorded: " + err.Error())
		return false
	}
	if err := s.Ledger.ClearStaging(); err != nil {
		s.cfg.Warn(err.Error())
	}
	s.Files().Clock(s.Ledger.Folder())
	return true
}

// record begins the record of a run, if one can be kept.
func (r *Run) record() {
	if r.cache == nil {
		return
	}
	s, words := r.session, r.words
	folder, err := filepath.Rel(s.Project.Folder, words.Stood)
	if err != nil {
		folder = words.Stood
	}
	head := history.Run{ID: s.cfg.Run, Started: time.Now().UTC(), Request: []string{}, Folder: filepath.ToSlash(folder), File: filepath.ToSlash(words.File)}
	if resumed := r.prepared.request.Resume; resumed != nil {
		head.Resumes = &resumed.ID
	}
	for _, word := range words.Request {
		head.Request = append(head.Request, s.cfg.Mask.Text(word))
	}
	recorder, err := s.Ledger.Record(head)
	if err != nil {
		s.cfg.Warn("this run is not recorded: " + err.Error())
		return
	}
	r.recording = &engine.Recording{To: recorder, Folder: s.Ledger.RunFolder(s.cfg.Run), Run: s.cfg.Run, Top: s.Project.Folder}
	r.Recorded = true
}

// How says how a run is to go.
type How struct {
	engine.Streams
	After string // what a failure does to the others, stronger than the project; empty: as that says
	Quiet bool   // do not tell of the statements that start
	// Detach starts the services that are asked for in the background, with those that
	// they use.
	Detach bool
	Sink   func(engine.Event) error
	Aside  func(engine.Event) // is told what services do while nothing is told of the run itself; of a quiet run
}

// Do runs all and ends the record. When the sink returns an error, the run is
// stopped. The error is that of [engine.Run].
func (r *Run) Do(ctx context.Context, how How) (engine.Summary, error) {
	s := r.session
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	streams := how.Streams
	streams.Record = streams.Record && (r.Recorded || r.quiet)
	tell := func(e engine.Event) {
		if r.recording != nil {
			r.recording.Event(e)
		}
		if err := how.Sink(e); err != nil {
			cancel(err)
		}
	}
	sink := func(e engine.Event) {
		switch {
		case r.acted || !r.quiet:
		case isAside(e):
			how.Aside(e)
			return
		case !acts(e):
			r.held = append(r.held, e)
			return
		default:
			r.acted = true
			r.record()
			for _, before := range r.held {
				tell(before)
			}
			r.held = nil
		}
		tell(e)
	}
	services := s.services
	if services == nil {
		services = engine.NewServices()
	}
	services.QRCode, services.InBackground = s.cfg.QRCode, s.inBackground
	if how.Detach {
		services.Detach = s.detach
	}
	cfg := engine.Config{
		Jobs: s.Jobs(r.prepared.request), Streams: streams, Cache: r.cache, Secrets: s.cfg.Mask, List: s.list,
		Policy:    engine.Policy{After: s.Project.After, AfterAll: how.After},
		Observer:  engine.Observer{Sink: sink, Quiet: how.Quiet},
		Processes: engine.Processes{Exec: s.shell.Run, Grace: s.cfg.Grace, Kill: s.cfg.Kill, Services: services},
		Past:      engine.Past{Times: r.Usual},
	}
	if r.cache != nil {
		cfg.Log, cfg.Idle = r.log, r.flush
		folder := s.Ledger.RunFolder(s.cfg.Run)
		cfg.ServiceLog = func(step *plan.Step) func() (*history.OwnLog, error) {
			return func() (*history.OwnLog, error) { return history.OpenLog(folder, step.Index, step.Name) }
		}
	}
	summary, err := engine.Run(ctx, r.Plan, r.prepared.scripts, cfg)
	summary.Wall += r.prepared.took // what was computed before is part of what one waited for
	r.end(summary, err)
	return summary, err
}

// inBackground returns whether a service runs in the background and is ready.
func (s *Session) inBackground(ctx context.Context, step *plan.Step, sum string) (bool, error) {
	r, runs := s.Background.Find(ctx, step.ID())
	switch {
	case !runs:
		return false, nil
	case r.Sum != sum:
		return false, fmt.Errorf("runs in the background, but what it depends on has changed since it was started; to start it again: tugline service restart %s", step.Name)
	}
	return true, r.WaitReady(ctx)
}

// detach starts a service in the background.
func (s *Session) detach(ctx context.Context, spec background.Spec) (address string, err error) {
	return s.Background.Start(ctx, spec, func(input []byte) error {
		var env []string // what finds temporary folders and the user's own
		for _, name := range []string{"PATH", "HOME", "TMPDIR", "USERPROFILE", "TEMP", "SYSTEMROOT"} {
			if value := s.variable(name); value != "" {
				env = append(env, name+"="+value)
			}
		}
		return s.shell.StartDetached(input, env, s.cfg.Supervisor...)
	})
}

// isAside reports whether an event tells of a service that goes on.
func isAside(e engine.Event) bool {
	if e.Step == nil || !e.Step.Stays {
		return false
	}
	return e.Kind == engine.StepOutput || e.Kind == engine.StepCommand || e.Kind == engine.ServiceExited || e.Kind == engine.ServiceRestarting || e.Kind == engine.ServiceReady
}

// acts reports whether an event tells of more than that nothing is to do.
func acts(e engine.Event) bool {
	switch e.Kind {
	case engine.StepActs, engine.StepHeld, engine.StepOutput, engine.RunRemoved:
		return true
	case engine.StepStarted:
		return e.Step.Stays
	}
	return e.Kind == engine.StepFinished && e.Result.State == engine.Failed
}

// log returns where the record keeps what a step printed; empty: nowhere.
func (r *Run) log(s *plan.Step) string {
	if r.recording == nil {
		return ""
	}
	return r.recording.Log(s.Index, s.Name)
}

// maxNotice is how many lines of a failed step pages show.
const maxNotice = 12

// lastLines returns how a step failed, and the last lines that it printed.
func (r *Run) lastLines(failed engine.Result) []string {
	lines := []string{failed.Reason}
	path := r.log(r.Plan.Steps[failed.Step.Index])
	if path == "" {
		return lines
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return lines // it is shown elsewhere
	}
	printed := strings.Split(strings.TrimSpace(string(text)), "\n")
	return append(lines, printed[max(0, len(printed)-maxNotice):]...)
}

func (r *Run) flush() {
	if r.recording != nil {
		r.recording.Flush()
	}
}

// end ends the record, and keeps what is known of the files and the store within
// its limit.
func (r *Run) end(summary engine.Summary, runErr error) {
	s := r.session
	if r.recording != nil {
		keep := s.Project.KeepRuns
		if keep == 0 {
			keep = KeepRuns
		}
		if err := errors.Join(r.recording.End(summary, runErr), s.Ledger.KeepUsual(summary.Times()), s.Ledger.PruneRuns(keep)); err != nil {
			s.cfg.Warn("the record of this run is incomplete: " + err.Error())
		}
	}
	if r.cache == nil || r.quiet && !r.acted {
		return
	}
	if err := s.Files().Save(s.Ledger.Folder()); err != nil {
		s.cfg.Warn(err.Error()) // they are read again next time
	}
	if r.cache.Store == nil {
		return
	}
	limit := s.Project.StoreLimit
	if limit == 0 {
		limit = StoreLimit
	}
	if err := r.cache.Store.PruneIfDue(limit, pruneEvery); err != nil {
		s.cfg.Warn(err.Error())
	}
}
