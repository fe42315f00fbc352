package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"tugline/internal/history"
)

//go:embed page.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })

// How much of what steps printed a page holds, in bytes: of one that failed, of another one,
// and of all others together.
const (
	mostOfFailed = 64 << 10
	mostOfOther  = 4 << 10
	mostOfAll    = 768 << 10
)

// states are those that have a colour.
var states = []string{"ran", "failed", "restored", "unchanged", "skipped", "blocked", "stopped", "ready", "running"}

// page is what the template shows.
type page struct {
	Title, ID, State, Started, Took, Request, Long, Gain, Continue string

	Jobs   int
	States []string
	Counts []count
	Ticks  []tick
	Slots  []slot
	Rows   []row
	Failed []log // the logs of what failed
	Logs   []log // of the others
}

type count struct {
	State string
	N     int
}

type tick struct{ Left, Text string }

type slot struct {
	Name string
	Bars []bar
}

type bar struct {
	Index                           int
	Name, State, Left, Width, Title string
	Long                            bool
}

type row struct {
	Index                                   int
	Name, State, Start, Took, Usual, Reason string
	StartMs, Ms, UsualMs                    int64
	Log                                     bool
}

type log struct {
	Index                    int
	Name, State, Place, Text string
	Open, Cut                bool
}

// HTML writes a page of its own: it asks for nothing else.
func (r *Report) HTML(w io.Writer) error {
	p := page{
		Title: r.Title, ID: r.Run.ID, State: r.Run.State, Started: r.Run.Started.Local().Format("2006-01-02 15:04:05"),
		Took: span(time.Duration(r.Run.Ms) * time.Millisecond), Request: strings.Join(r.Run.Request, " "), Continue: r.Continue, States: states,
	}
	if p.Title == "" {
		p.Title = "Tugline"
	}
	for _, state := range states {
		if n := r.Run.Counts[state]; n > 0 {
			p.Counts = append(p.Counts, count{state, n})
		}
	}
	path, length := longestPath(&r.Run)
	if length > 0 {
		p.Long, p.Jobs = span(length), slots(&r.Run)
		p.Gain = r.gain(path, length)
	}
	r.timeline(&p, path)
	r.rows(&p)
	r.logs(&p)
	if err := pageTemplate().Execute(w, p); err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	return nil
}

// gain says what one more job would have saved, and what the longest path consists of.
func (r *Report) gain(path []*history.RunStep, length time.Duration) string {
	jobs := slots(&r.Run)
	saved := makespan(&r.Run, jobs) - makespan(&r.Run, jobs+1)
	text := "One more job would not have made it quicker."
	if saved > 10*time.Millisecond {
		text = fmt.Sprintf("With one more job it would have taken about %s less.", span(saved))
	}
	var names []string
	for i, s := range path {
		if i == 6 && len(path) > 7 {
			names = append(names, fmt.Sprintf("and %d more", len(path)-i))
			break
		}
		names = append(names, s.Name)
	}
	return fmt.Sprintf("%s No number of jobs makes it quicker than %s, the longest path: %s.", text, span(length), strings.Join(names, " → "))
}

// timeline lays out a bar for each step that was started.
func (r *Report) timeline(p *page, path []*history.RunStep) {
	end := time.Duration(r.Run.Ms) * time.Millisecond
	for i := range r.Run.Steps {
		s := &r.Run.Steps[i]
		end = max(end, s.Started.Sub(r.Run.Started)+took(s))
	}
	if end <= 0 {
		return
	}
	percent := func(d time.Duration) string {
		return fmt.Sprintf("%.3f", 100*min(1, max(0, d.Seconds()/end.Seconds())))
	}
	rows := map[int]*slot{}
	var services []slot
	for i := range r.Run.Steps {
		s := &r.Run.Steps[i]
		at := s.Started.Sub(r.Run.Started)
		b := bar{Index: s.Index, Name: s.Name, State: s.State, Left: percent(at), Width: percent(took(s)), Long: slices.Contains(path, s)}
		b.Title = fmt.Sprintf("%s: %s, %s, from %s", s.Name, s.State, span(took(s)), span(max(0, at)))
		switch {
		case s.Service && s.State != "skipped":
			services = append(services, slot{"service", []bar{b}})
		case works(s) && s.Slot != nil:
			if rows[*s.Slot] == nil {
				rows[*s.Slot] = &slot{Name: fmt.Sprintf("job %d", *s.Slot)}
			}
			rows[*s.Slot].Bars = append(rows[*s.Slot].Bars, b)
		}
	}
	for n := 1; n <= slots(&r.Run); n++ {
		if rows[n] != nil {
			p.Slots = append(p.Slots, *rows[n])
		}
	}
	p.Slots = append(p.Slots, services...)
	step := max(tickStep(end), time.Millisecond)
	for at := time.Duration(0); at < end; at += step {
		p.Ticks = append(p.Ticks, tick{percent(at), span(at)})
	}
}

// tickStep returns a round span of which some eight make up a whole.
func tickStep(whole time.Duration) time.Duration {
	rough := whole.Seconds() / 8
	power := math.Pow(10, math.Floor(math.Log10(rough)))
	for _, m := range []float64{1, 2, 5, 10} {
		if m*power >= rough {
			return time.Duration(m * power * float64(time.Second))
		}
	}
	return whole
}

func (r *Report) rows(p *page) {
	for i := range r.Run.Steps {
		s := &r.Run.Steps[i]
		at := max(0, s.Started.Sub(r.Run.Started))
		one := row{Index: s.Index, Name: s.Name, State: s.State, Start: "+" + span(at), StartMs: at.Milliseconds(), Ms: s.Ms, Took: span(took(s)), Reason: s.Reason}
		if s.CalledBy != nil {
			one.Reason = strings.TrimSuffix(*s.CalledBy+"; "+s.Reason, "; ")
		}
		if usual := r.Usual[s.Name]; usual > 0 {
			one.Usual, one.UsualMs = span(usual), usual.Milliseconds()
			if s.State == "ran" && history.IsSlow(took(s), usual) {
				one.Reason = strings.TrimSuffix("slower than usual; "+one.Reason, "; ")
			}
		}
		p.Rows = append(p.Rows, one)
	}
}

// logs adds what steps printed: of those that failed first.
func (r *Report) logs(p *page) {
	left := mostOfAll
	for _, failed := range []bool{true, false} {
		for i := range r.Run.Steps {
			s := &r.Run.Steps[i]
			if (s.State == "failed") != failed || s.Log == nil && !failed {
				continue
			}
			most := mostOfFailed
			if !failed {
				most = min(mostOfOther, left)
			}
			text, cut := r.Log(s, most)
			text = plain(text)
			if !failed {
				left -= len(text)
			}
			one := log{Index: s.Index, Name: s.Name, State: s.State, Text: text, Cut: cut, Open: failed}
			if s.Place != nil {
				one.Place = fmt.Sprintf("%s:%d:%d, %s", s.Place.File, s.Place.Line, s.Place.Column, s.Reason)
			}
			if text != "" || failed {
				if failed {
					p.Failed = append(p.Failed, one)
				} else {
					p.Logs = append(p.Logs, one)
				}
				p.Rows[i].Log = true
			}
		}
	}
}
