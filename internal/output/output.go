// Package output turns events, diagnostics and tables into what a user reads:
// on a terminal, as plain text, as JSON.
package output

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/fatih/color"
	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"tugline/internal/engine"
)

// Mode is how the output of tasks is shown.
type Mode string

// The modes of output.
const (
	Lines  Mode = "lines"  // each line behind its task's name, as it comes
	Blocks Mode = "blocks" // all of a task's output when it ends
	Direct Mode = "direct" // untouched: the tasks print past the display
)

// Display shows a run as it goes on. It is an [engine.Sink] by its Event
// method; it is used from one goroutine.
type Display struct {
	out, err io.Writer
	mode     Mode
	style    Style
	quiet    bool
	verbose  bool
	round    bool
	fromTop  bool
	usual    func(call string) time.Duration // what a call usually takes; may be nil
	width    int                             // of the longest name, in columns
	steps    map[stepKey]*stepOutput
	looped   map[string]*instances
	waits    map[string]bool            // lines about waiting that were shown
	live     *live                      // nil when there is none
	size     func() (columns, rows int) // of the terminal; nil: there is none
	next     []byte                     // lines of one step that are shown next; empty between events
	failed   error                      // the first error of writing

	own   *os.File    // the terminal that tasks may own; nil: there is none
	modes *term.State // of own, while a task owns it
}

// DisplayConfig says how a run is to be shown.
type DisplayConfig struct {
	Out, Err io.Writer
	Mode     Mode
	Style    Style // of Out
	Quiet    bool  // show only task output and failures
	Verbose  bool  // groups too
	Round    bool  // it is a round of a watch: what is unchanged says nothing
	// Size returns the size of the terminal that Out is, for a live part
	// below the output. nil: there is none.
	Size func() (columns, rows int)
	// Usual returns what a call usually takes; 0: not known. It may be nil.
	Usual    func(call string) time.Duration
	Jobs     int      // how many steps may run at once
	FromTop  bool     // the user does not stand where the names of steps count from
	Terminal *os.File // the terminal that tasks may own, whose modes are kept; may be nil
}

// stepOutput is what a display knows of a step that runs.
type stepOutput struct {
	prefix  string // what stands before each line
	started time.Time

	stays    bool // it is a service
	restarts int
	lines    lineBuffer
	block    spool
	tail     tail
}

// instances are those of one task in a run.
type instances struct {
	total, ended int
	quiet        map[ending]*quietEnds // of those of which no line was shown
	failed       int                   // of how many a line says that they failed
}

// ending is how several instances ended alike.
type ending struct {
	state  engine.State
	reason string // empty where reasons are not told
}

// quietEnds are instances that ended alike.
type quietEnds struct {
	count int
	names []string // of the first ones
}

// manyInstances is how many instances a task has of which those that need not
// run are told of together.
const manyInstances = 4

// maxName is the widest name that others are aligned with, in columns.
const maxName = 40

// NewDisplay returns a display for a run of such steps.
func NewDisplay(steps []*engine.Step, cfg DisplayConfig) *Display {
	d := &Display{out: cfg.Out, err: cfg.Err, mode: cfg.Mode, style: cfg.Style, quiet: cfg.Quiet, verbose: cfg.Verbose, round: cfg.Round && !cfg.Verbose, own: cfg.Terminal, fromTop: cfg.FromTop, usual: cfg.Usual, steps: map[stepKey]*stepOutput{}, looped: map[string]*instances{}, waits: map[string]bool{}}
	switch {
	case d.mode == Direct:
		d.out = d.err // stdout belongs to the task
	case cfg.Size != nil && !d.quiet:
		d.live = newLive(cfg)
		d.out = d.live
	}
	d.size = cfg.Size
	d.added(steps)
	return d
}

// Err returns the first error of writing, if any. That nobody reads any more
// is none.
func (d *Display) Err() error { return d.failed }

// Event shows e.
func (d *Display) Event(e engine.Event) {
	switch e.Kind {
	case engine.StepsAdded:
		d.added(e.Added)
	case engine.StepStarted:
		d.steps[keyOf(e.Step)] = &stepOutput{prefix: d.prefix(e.Step), started: e.Time, stays: e.Step.Stays}
		if d.live != nil {
			d.live.start(e.Step)
		}
		if e.Step.Terminal {
			d.leave()
		}
	case engine.StepCommand:
		d.command(e.Step, string(e.Text))
	case engine.StepOutput:
		if d.modeOf(e.Step) != Direct { // there it was shown already
			d.output(e.Step, e.Text)
		}
	case engine.StepHeld:
		d.held(e.Step, string(e.Text))
	case engine.StepWaiting:
		d.waiting(e.Step, string(e.Text))
	case engine.RunNote, engine.RunRemoved:
		if !d.quiet {
			d.write(d.style.faint(printable(string(e.Text))) + "\n")
		}
	case engine.StepRetry:
		d.retry(e.Step, string(e.Text))
	case engine.ServiceReady, engine.ServiceRestarting, engine.ServiceExited:
		d.service(e)
	case engine.StepFinished:
		if e.Result.State != engine.Up {
			d.finished(e.Result)
		}
	}
}

// service shows that a service is ready, or starts again.
func (d *Display) service(e engine.Event) {
	_, started := d.steps[keyOf(e.Step)]
	step := d.step(e.Step)
	d.flushPartial(e.Step, step)
	state, took := "ready", ""
	switch e.Kind {
	case engine.ServiceExited:
		return // its end is shown
	case engine.ServiceRestarting:
		state = "restarting"
		step.restarts++
	default:
		if started {
			took = duration(e.Time.Sub(step.started))
		}
	}
	if d.live != nil {
		text := state
		switch {
		case step.restarts == 1:
			text += ", 1 restart"
		case step.restarts > 1:
			text += fmt.Sprintf(", %d restarts", step.restarts)
		}
		d.live.partial(e.Step, text)
	}
	if !d.quiet {
		d.write(d.endLine(engine.State(state), e.Step.Name, took, string(e.Text)))
	}
}

// stepKey tells steps apart. A service may be one of an earlier plan.
type stepKey struct {
	index int
	name  string
}

func keyOf(s *engine.Step) stepKey { return stepKey{s.Index, s.Name} }

// step returns what is known of a step that runs. A service may have been started
// before the display.
func (d *Display) step(s *engine.Step) *stepOutput {
	if d.steps[keyOf(s)] == nil {
		d.steps[keyOf(s)] = &stepOutput{prefix: d.prefix(s), started: time.Now(), stays: s.Stays}
	}
	return d.steps[keyOf(s)]
}

// leave leaves the terminal to a task that owns it; take takes it back, in the
// modes that it had.
func (d *Display) leave() {
	if d.live != nil {
		d.live.hide(true)
	}
	if d.own != nil {
		d.modes, _ = term.GetState(int(d.own.Fd())) // it may be no terminal
	}
}

func (d *Display) take() {
	if d.modes != nil {
		term.Restore(int(d.own.Fd()), d.modes) // best effort: it may be gone
		d.modes = nil
	}
	if d.live != nil {
		d.live.hide(false)
	}
}

// added makes room for steps that are new in the plan.
func (d *Display) added(steps []*engine.Step) {
	for _, s := range steps {
		if !s.Works {
			continue
		}
		d.width = max(d.width, min(d.maxName(), runewidth.StringWidth(s.Name)))
		if d.live != nil {
			d.live.expect(s)
		}
		if s.Looped {
			if d.looped[s.Task] == nil {
				d.looped[s.Task] = &instances{quiet: map[ending]*quietEnds{}}
			}
			d.looped[s.Task].total++
		}
	}
}

// maxName returns the widest name that others are aligned with: a quarter of the
// terminal, where there is one.
func (d *Display) maxName() int {
	if d.size == nil {
		return maxName
	}
	columns, _ := d.size()
	return max(8, min(maxName, columns/4))
}

// retry tells that an attempt failed and another one follows.
func (d *Display) retry(s *engine.Step, told string) {
	step := d.step(s)
	d.flushPartial(s, step)
	line := d.style.paint(printable(told), color.FgHiYellow) + "\n"
	switch d.mode {
	case Lines:
		d.write(step.prefix + line)
	case Blocks:
		d.keep(step.block.write([]byte(line)))
	default:
		d.write(line)
	}
}

// command shows a statement that starts.
func (d *Display) command(s *engine.Step, statement string) {
	first, _, more := strings.Cut(statement, "\n")
	line := "» " + first
	if more {
		line += " …"
	}
	switch step := d.step(s); d.modeOf(s) {
	case Lines:
		d.flushPartial(s, step)
		d.write(step.prefix + d.style.faint(printable(line)) + "\n")
	case Blocks:
		d.flushPartial(s, step)
		d.keep(step.block.write([]byte(printable(line) + "\n")))
	default:
		d.write(d.style.faint(printable(line)) + "\n")
	}
}

// held tells that a step waits for a condition before it starts: in the live part, where
// one sees for how long, or in a line.
func (d *Display) held(s *engine.Step, until string) {
	if d.live != nil {
		d.live.start(s)
		d.live.partial(s, "waits until "+until)
	} else if !d.quiet {
		d.write(d.style.faint(printable(s.Name+" waits until "+until)) + "\n")
	}
}

// waiting tells that a step waits: in the live part, or in a line if it is for
// something that may take long and cannot be seen there.
func (d *Display) waiting(s *engine.Step, what string) {
	switch {
	case d.live != nil && d.steps[keyOf(s)] != nil:
		d.live.partial(s, what)
	case !d.quiet && strings.Contains(what, "another Tugline"), !d.quiet && strings.Contains(what, "the lock"):
		if line := printable(s.Name + " " + what); !d.waits[line] {
			d.waits[line] = true
			d.write(d.style.faint(line) + "\n")
		}
	}
}

func (d *Display) output(s *engine.Step, text []byte) {
	step := d.step(s)
	step.lines.add(text, func(line []byte) { d.line(step, line) })
	d.flush(step)
	if d.live != nil {
		d.live.partial(s, string(clean(step.lines.partial[:min(len(step.lines.partial), tailBytes)], false)))
	}
}

// flushPartial shows what the step printed without ending the line.
func (d *Display) flushPartial(s *engine.Step, step *stepOutput) {
	step.lines.end(func(line []byte) { d.line(step, line) })
	d.flush(step)
	if d.live != nil {
		d.live.partial(s, "")
	}
}

// flush shows the lines that were gathered.
func (d *Display) flush(step *stepOutput) {
	switch {
	case len(d.next) == 0:
		return
	case d.mode == Blocks && !step.stays:
		d.keep(step.block.write(d.next))
	default:
		_, err := d.out.Write(d.next)
		d.keep(err)
	}
	d.next = d.next[:0]
}

// line adds one line of output to what is shown next.
func (d *Display) line(step *stepOutput, line []byte) {
	step.tail.add(line)
	d.next = append(d.next, step.prefix...)
	d.next = append(d.next, clean(line, d.style.Color)...)
	d.next = append(d.next, '\n')
}

// modeOf returns how the output of a step is shown. That of a service comes as it is
// printed.
func (d *Display) modeOf(s *engine.Step) Mode {
	if s.Stays {
		return Lines
	}
	return d.mode
}

// prefix returns what stands before each line of a step.
func (d *Display) prefix(s *engine.Step) string {
	if d.modeOf(s) != Lines {
		return ""
	}
	name := pad(cutMiddle(printable(s.Name), d.width), d.width)
	return d.style.name(s.Name, name) + d.style.faint(" · ")
}

// finished shows how a step ended: its state and, as a block, what it printed.
func (d *Display) finished(r engine.Result) {
	step := d.steps[keyOf(r.Step)]
	if r.Step.Terminal && step != nil {
		d.take()
	}
	if step != nil && d.mode != Direct {
		d.flushPartial(r.Step, step)
	}
	if d.live != nil && r.Step.Works {
		d.live.finish(r.Step, r.State)
	}
	if d.showsEnd(r) && !d.together(r) {
		d.write(d.stateLine(r))
	}
	defer d.instanceEnded(r)
	if step == nil {
		return
	}
	if d.mode == Blocks {
		d.keep(step.block.copyTo(&indenter{w: d.out}))
	}
	d.keep(step.block.close())
	if r.State != engine.Failed {
		delete(d.steps, keyOf(r.Step)) // the last lines of the failed are shown at the end
	}
}

// together reports whether the end of a step is told of together with that of
// other instances of its task.
func (d *Display) together(r engine.Result) bool {
	all := d.looped[r.Step.Task]
	if all == nil || !r.Step.Works || all.total < manyInstances || d.verbose {
		return false
	}
	switch r.State {
	case engine.Unchanged, engine.Skipped, engine.Stopped, engine.Blocked:
		return true
	case engine.Failed:
		return all.failed >= fullFailures
	}
	return false
}

// instanceEnded counts the instances of a task, and tells of those that need not
// run when all have ended.
func (d *Display) instanceEnded(r engine.Result) {
	all := d.looped[r.Step.Task]
	if all == nil || !r.Step.Works {
		return
	}
	all.ended++
	if d.showsEnd(r) && d.together(r) {
		all.addQuiet(r)
	} else if r.State == engine.Failed {
		all.failed++
	}
	if all.ended < all.total {
		return
	}
	for _, state := range engine.States {
		for _, end := range slices.SortedFunc(maps.Keys(all.quiet), func(a, b ending) int { return strings.Compare(a.reason, b.reason) }) {
			if end.state == state {
				d.write(d.quietLine(r.Step.Task, end, all))
			}
		}
	}
	clear(all.quiet)
}

// addQuiet counts an instance that is told of together with others. Those that need
// not run are told of whatever their reasons are.
func (i *instances) addQuiet(r engine.Result) {
	end := ending{r.State, r.Reason}
	if r.State == engine.Unchanged || r.State == engine.Skipped {
		end.reason = ""
	}
	if i.quiet[end] == nil {
		i.quiet[end] = &quietEnds{}
	}
	q := i.quiet[end]
	if q.count++; q.count <= namedInstances {
		q.names = append(q.names, strings.TrimPrefix(r.Step.Name, r.Step.Task+" "))
	}
}

// namedInstances is how many of the instances that ended alike are named.
const namedInstances = 3

// quietLine returns the line that tells of instances which ended alike.
func (d *Display) quietLine(task string, end ending, all *instances) string {
	q, name := all.quiet[end], task
	text := fmt.Sprintf("%d of %d instances", q.count, all.total)
	switch {
	case end.reason != "" && q.count == 1: // told as any other
		name, text = name+" "+q.names[0], end.reason
	case end.reason != "":
		text += ": " + end.reason + "; " + strings.Join(q.names, ", ")
		if more := q.count - len(q.names); more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
	}
	return fmt.Sprintf("%s  %s  %6s  %s\n", d.style.state(end.state, pad(string(end.state), stateWidth)), pad(printable(name), d.width), "", printable(text))
}

// showsEnd reports whether the end of a step is worth a line.
func (d *Display) showsEnd(r engine.Result) bool {
	switch {
	case d.round && r.State == engine.Unchanged:
		return false
	case d.mode == Direct: // that it ran is seen from what it prints
		return !d.quiet && (r.Noted || r.State == engine.Unchanged || r.State == engine.Restored || r.State == engine.Skipped)
	case !r.IsShown():
		return d.verbose && (r.Uncalled || r.Step.Last)
	case d.quiet && (r.State == engine.Unchanged || r.State == engine.Restored || r.State == engine.Skipped):
		return false
	case d.quiet && r.State == engine.Ran:
		step := d.steps[keyOf(r.Step)]
		return step != nil && step.block.size > 0 // a block needs its name
	}
	return true
}

// stateWidth is the width of the longest name of a state.
const stateWidth = len("unchanged")

// stateLine returns the line that tells how a step ended.
func (d *Display) stateLine(r engine.Result) string {
	took := ""
	if r.Took > 0 && r.State != engine.Unchanged {
		took = duration(r.Took)
	}
	reason := r.Reason
	if r.Failure != nil && !r.Failure.Span.IsZero() {
		reason += ", " + r.Failure.Span.String()
	}
	return d.endLine(r.State, r.Step.Name, took, reason)
}

// endLine returns a line that tells of a state of a step.
func (d *Display) endLine(state engine.State, name, took, reason string) string {
	line := d.style.state(state, pad(string(state), stateWidth)) + "  " + pad(printable(name), d.width)
	line += "  " + d.style.faint(fmt.Sprintf("%6s", took)) + "  " + printable(reason)
	return strings.TrimRight(line, " ") + "\n"
}

func (d *Display) write(text string) {
	_, err := io.WriteString(d.out, text)
	d.keep(err)
}

// keep keeps the first error that matters.
func (d *Display) keep(err error) {
	if err == nil || d.failed != nil || errors.Is(err, syscall.EPIPE) || errors.Is(err, os.ErrClosed) {
		return
	}
	d.failed = err
}

// Close takes the live part away. Nothing is shown in it afterwards.
func (d *Display) Close() {
	if d.live != nil {
		d.keep(d.live.close())
		d.live = nil
	}
}
