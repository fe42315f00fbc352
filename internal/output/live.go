package output

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/mattn/go-runewidth"

	"tugline/internal/engine"
)

// live is the part at the foot of a terminal that shows what runs now. All
// that is to scroll by above it is written through it.
//
// Text is gathered and drawn at most every drawEvery, in one write with the
// part itself, so that neither ever tears the other.
type live struct {
	out   io.Writer
	size  func() (columns, rows int) // of the terminal, now
	style Style
	now   func() time.Time

	quit, ended chan struct{} // to stop the goroutine that draws, and its end

	mu      sync.Mutex // protects the fields below
	err     error      // the first error of writing
	pending bytes.Buffer
	drawn   []string // the lines that stand on the screen
	last    time.Time
	started time.Time
	total   int // steps with work of their own
	done    int
	hidden  bool                            // somebody else owns the terminal
	usual   func(call string) time.Duration // what a call usually takes; 0: not known
	jobs    int
	ahead   time.Duration // what the steps usually take that have not started
	unknown int           // of how many of them that is not known
	running []runningStep // in the order they started
}

// runningStep is what the live part tells of a step.
type runningStep struct {
	step    *engine.Step
	started time.Time
	usual   time.Duration // what it usually takes; 0: not known
	partial string        // what it printed without ending the line
}

// How often the part is drawn, and how often it is looked whether it changed.
const (
	drawEvery = 40 * time.Millisecond
	lookEvery = 200 * time.Millisecond
	keepBytes = 64 << 10 // drawn at once when so much is gathered
)

// newLive returns a live part. It draws until close.
func newLive(cfg DisplayConfig) *live {
	l := &live{out: cfg.Out, size: cfg.Size, style: cfg.Style, usual: cfg.Usual, jobs: max(1, cfg.Jobs), now: time.Now, quit: make(chan struct{}), ended: make(chan struct{})}
	if l.usual == nil {
		l.usual = func(call string) time.Duration { return 0 }
	}
	l.started = l.now()
	go func() {
		defer close(l.ended)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				l.mu.Lock()
				l.draw()
				l.mu.Unlock()
			case <-l.quit:
				return
			}
		}
	}()
	return l
}

// Write takes text that ends a line, to be shown above the part.
func (l *live) Write(text []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pending.Write(text)
	if l.pending.Len() >= keepBytes || l.now().Sub(l.last) >= drawEvery {
		l.draw()
	}
	return len(text), l.err
}

// hide takes the part away, or shows it again.
func (l *live) hide(hidden bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.hidden = hidden
	l.draw()
}

// expect notes that a step with commands is still to come.
func (l *live) expect(s *engine.Step) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.total++
	l.aheadLocked(s, 1)
}

// aheadLocked adds a step to those that have not started, or takes it away.
func (l *live) aheadLocked(s *engine.Step, sign int) {
	if usual := l.usual(s.Name); usual > 0 {
		l.ahead += time.Duration(sign) * usual
	} else {
		l.unknown += sign
	}
}

func (l *live) start(s *engine.Step) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := runningStep{step: s, started: l.now(), usual: l.usual(s.Name)}
	if i := l.indexLocked(s); i >= 0 { // it waited for a condition
		l.running[i] = now
		return
	}
	l.aheadLocked(s, -1)
	l.running = append(l.running, now)
}

func (l *live) partial(s *engine.Step, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if i := l.indexLocked(s); i >= 0 {
		l.running[i].partial = text
	}
}

// finish notes that a step has ended. One that needed not run counts no more: it tells
// nothing of how far the work is.
func (l *live) finish(s *engine.Step, state engine.State) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if state == engine.Unchanged || state == engine.Skipped {
		l.total--
	} else {
		l.done++
	}
	if i := l.indexLocked(s); i >= 0 {
		l.running = slices.Delete(l.running, i, i+1)
	} else {
		l.aheadLocked(s, -1) // it ended without starting
	}
}

func (l *live) indexLocked(s *engine.Step) int {
	return slices.IndexFunc(l.running, func(r runningStep) bool { return keyOf(r.step) == keyOf(s) })
}

// close shows what is left to show and takes the part away.
func (l *live) close() error {
	close(l.quit)
	<-l.ended
	l.mu.Lock()
	defer l.mu.Unlock()
	l.running, l.total = nil, 0
	l.draw()
	return l.err
}

// draw brings the screen up to date. mu is held.
func (l *live) draw() {
	columns, rows := l.size()
	lines := l.render(columns, rows)
	if l.pending.Len() == 0 && slices.Equal(lines, l.drawn) {
		return
	}
	var b bytes.Buffer
	if up := rowsOf(l.drawn, columns); up > 0 {
		fmt.Fprintf(&b, "\x1b[%dA\r\x1b[J", up) // cursor up; erase to the end of the screen (ECMA-48)
	}
	b.Write(l.pending.Bytes())
	for _, line := range lines {
		b.WriteString(line + "\n")
	}
	l.pending.Reset()
	l.drawn, l.last = lines, l.now()
	if _, err := l.out.Write(b.Bytes()); err != nil && l.err == nil {
		l.err = err
	}
}

// rowsOf returns how many rows lines take on a terminal of so many columns: a
// terminal that became narrower has broken those that were drawn before.
func rowsOf(lines []string, columns int) int {
	n := 0
	for _, line := range lines {
		n += max(1, (visibleWidth(line)+columns-1)/max(1, columns))
	}
	return n
}

func visibleWidth(line string) int { return runewidth.StringWidth(string(clean([]byte(line), false))) }

// render returns the lines of the part.
func (l *live) render(columns, rows int) []string {
	if l.total <= 0 || len(l.running) == 0 || l.hidden {
		return nil
	}
	now := l.now()
	width := max(10, columns-1) // the last column is left free: some terminals break the line there
	room := min(len(l.running), max(2, rows/3))
	shown := l.running[:room]
	if room < len(l.running) {
		shown = l.running[:room-1]
	}
	lines := []string{l.header(now, width)}
	name := 0
	for _, r := range shown {
		name = max(name, min(runewidth.StringWidth(r.step.Name), width-9, max(12, width/2)))
	}
	for _, r := range shown {
		lines = append(lines, l.line(r, now, name, width))
	}
	if more := len(l.running) - len(shown); more > 0 {
		lines = append(lines, l.style.faint(runewidth.Truncate(fmt.Sprintf("        and %d more", more), width, "…")))
	}
	return lines
}

// header tells how far the whole run is: so many of all, and for how long.
func (l *live) header(now time.Time, width int) string {
	text := fmt.Sprintf("%s  %d of %d done", clock(now.Sub(l.started)), l.done, l.total)
	for _, part := range []string{fmt.Sprintf(", %d running", len(l.running)), l.left(now), " "} {
		if runewidth.StringWidth(text+part) <= width { // a part that does not fit is left out
			text += part
		}
	}
	text = runewidth.Truncate(text, width, "…")
	bar := max(0, min(40, width-runewidth.StringWidth(text)))
	full := 0
	if l.total > 0 {
		full = bar * l.done / l.total
	}
	return l.style.bold(text) + strings.Repeat("█", full) + l.style.faint(strings.Repeat("░", bar-full))
}

// left tells how long the run will still take, as far as that is known from past
// runs: no less than each step that runs, or than all work on all jobs.
func (l *live) left(now time.Time) string {
	longest, work := time.Duration(0), l.ahead
	for _, r := range l.running {
		if r.usual == 0 {
			return ""
		}
		rest := max(0, r.usual-now.Sub(r.started))
		longest, work = max(longest, rest), work+rest
	}
	if l.unknown > 0 {
		return ""
	}
	return ", about " + clock(max(longest, work/time.Duration(l.jobs))+time.Second-1) + " left"
}

// line tells of one step: for how long it runs, and what it waits to go on with.
func (l *live) line(r runningStep, now time.Time, name, width int) string {
	label := pad(cutMiddle(printable(r.step.Name), name), name)
	text := fmt.Sprintf("%6s  ", clock(now.Sub(r.started)))
	if r.usual >= time.Second {
		text = fmt.Sprintf("%6s of %s  ", clock(now.Sub(r.started)), clock(r.usual))
	}
	rest := runewidth.Truncate(r.partial, max(0, width-name-len(text)-2), "…")
	return strings.TrimRight(text+l.style.name(r.step.Name, label)+"  "+l.style.faint(rest), " ")
}

// clock writes a time that goes on, in whole seconds: 0:07, 12:30, 1:02:03.
func clock(d time.Duration) string {
	s := int(d.Seconds())
	if s < 3600 {
		return fmt.Sprintf("%d:%02d", s/60, s%60)
	}
	return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
}
