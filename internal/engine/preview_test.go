package engine

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/cache"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/shell"
)

// made is a task of a random project: it writes what it reads, some of it
// shortened, so that a change of it may end there.
type made struct {
	name  string
	reads []string // files and folders
	text  string   // of its script
	short bool
	files int // so many it writes into its folder, or one
}

// paths returns what m writes.
func (m *made) paths() []string {
	names := []string{"0", "a b/1", "a/2", "a-/3"}[:m.files]
	if m.text == "two" {
		names = names[:1]
	}
	var paths []string
	for _, name := range names {
		paths = append(paths, fmt.Sprintf("out/%s/%s", m.name, name))
	}
	return paths
}

// randomProject returns tasks that read sources and what earlier ones write.
func randomProject(random *rand.Rand) []*made {
	var tasks []*made
	for i := range 3 + random.IntN(5) {
		m := &made{name: fmt.Sprint("t", i), text: "one", short: random.IntN(3) == 0, files: 1 + random.IntN(4)}
		m.reads = append(m.reads, fmt.Sprint("in/", random.IntN(3)))
		for _, earlier := range tasks {
			if random.IntN(3) == 0 {
				m.reads = append(m.reads, "out/"+earlier.name+[]string{"", "/0", "/**"}[random.IntN(3)])
			}
		}
		tasks = append(tasks, m)
	}
	return tasks
}

func (m *made) toml() string {
	return fmt.Sprintf("[task.%s]\nreads = ['%s']\nwrites = 'out/%s'\nrun = '%s %s'\n", m.name, strings.Join(m.reads, "', '"), m.name, m.name, m.text)
}

// output returns what m writes into one of its files, by the texts of what it reads.
func (m *made) output(file string, text func(path string) string) string {
	out := fmt.Sprintf("%s %s ", m.text, file)
	for _, path := range m.reads {
		out += text(path)[:1] + "."
		if !m.short {
			out += text(path)
		}
	}
	return out
}

// Whatever was changed, lost or undone: a plan says what a run then does, and a
// run leaves what a clean run would.
func TestAPlanSaysWhatARunDoes(t *testing.T) {
	seen := map[cache.Action]int{}
	for seed := range uint64(16) {
		random := rand.New(rand.NewPCG(seed, 3))
		tasks := randomProject(random)
		r := newRemembered(t, "")
		text := func(path string) (all string) { // of a folder, all that is in it
			require.NoError(t, filepath.WalkDir(filepath.Join(r.top, strings.TrimSuffix(path, "/**")), func(path string, d os.DirEntry, err error) error {
				if err == nil && !d.IsDir() {
					var b []byte
					b, err = os.ReadFile(path)
					all += string(b)
				}
				return err
			}))
			return all
		}
		r.exec = func(script string) error {
			for _, m := range tasks {
				if !strings.HasPrefix(script, m.name+" ") {
					continue
				}
				require.NoError(t, os.RemoveAll(filepath.Join(r.top, "out", m.name)))
				for _, path := range m.paths() {
					r.write(path, m.output(path, text))
				}
			}
			return nil
		}
		for i := range 3 {
			r.write(fmt.Sprint("in/", i), "a")
		}
		for round := range 8 {
			r.text = "[task.all]\nneeds = ["
			for _, m := range tasks {
				r.text += fmt.Sprintf("%q, ", m.name)
			}
			r.text += "]\n"
			for _, m := range tasks {
				r.text += m.toml()
			}
			at := fmt.Sprintf("seed %d, round %d", seed, round)
			pl, memory := r.planned("all")
			foreseen, err := memory.Preview(t.Context(), pl)
			require.NoError(t, err)
			states := r.run("all")
			moved := map[string]bool{} // what may have left other files than foreseen
			for _, f := range foreseen.Steps {
				seen[f.Action]++
				name, state := f.Step.Name, states[f.Step.Name]
				after := false
				for _, via := range f.Step.FileNeeds {
					after = after || moved[via.Step.Name]
				}
				moved[name] = f.Action == cache.ToRun || f.Action == cache.Maybe
				switch f.Action {
				case cache.UpToDate:
					assert.Equal(t, Unchanged, state, "%s: %s", at, name)
				case cache.ToRestore:
					assert.Equal(t, Restored, state, "%s: %s", at, name)
				case cache.ToRun:
					assert.True(t, state == Ran || state == Restored && after, "%s: %s was to run, and is %s", at, name, state)
				case cache.Maybe:
					assert.True(t, after, "%s: nothing is open before %s", at, name)
				}
			}
			for _, m := range tasks {
				want := ""
				for _, path := range m.paths() {
					want += m.output(path, text)
					require.Equal(t, m.output(path, text), text(path), "%s: %s", at, m.name)
				}
				require.Len(t, text("out/"+m.name), len(want), "%s: %s: there is nothing else", at, m.name)
			}
			if t.Failed() {
				t.Log(r.text)
				return
			}
			change(t, r, tasks, random)
		}
	}
	for _, action := range []cache.Action{cache.UpToDate, cache.ToRestore, cache.ToRun, cache.Maybe} {
		assert.Greater(t, seen[action], 10, action)
	}
}

// change does to a project what people do.
func change(t *testing.T, r *remembered, tasks []*made, random *rand.Rand) {
	t.Helper()
	for range 1 + random.IntN(2) {
		m := tasks[random.IntN(len(tasks))]
		folder := filepath.Join(r.top, "out", m.name)
		switch random.IntN(8) {
		case 0, 1: // an edit, which may undo an earlier one
			r.write(fmt.Sprint("in/", random.IntN(3)), []string{"a", "b", "ab"}[random.IntN(3)])
		case 2:
			m.text = []string{"one", "two"}[random.IntN(2)]
		case 3:
			require.NoError(t, os.RemoveAll(folder))
		case 4:
			r.write(fmt.Sprintf("out/%s/0", m.name), "edited by hand")
		case 5:
			r.write(fmt.Sprintf("out/%s/a/of another", m.name), "made by hand")
		case 6: // what was kept is gone
			if random.IntN(4) == 0 {
				require.NoError(t, os.RemoveAll(filepath.Join(r.top, "..", "store")))
			}
		case 7: // another checkout
			require.NoError(t, os.RemoveAll(filepath.Join(r.top, ".tugline")))
			require.NoError(t, os.RemoveAll(filepath.Join(r.top, "out")))
		}
	}
}

// conditioned gives some tasks of a project of [composedProject] conditions, and
// some of those that run commands inputs.
func conditioned(random *rand.Rand, text string) string {
	conditions := []string{"files = 'there'", "files = 'missing'", "run = 'condition 0'", "run = 'condition 1'", "os = 'windows'"}
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(line)
		if strings.HasPrefix(line, "[task.") && random.IntN(4) == 0 {
			fmt.Fprintf(&b, "when.%s\n", conditions[random.IntN(len(conditions))])
		}
		if strings.HasPrefix(line, "run = ") && random.IntN(2) == 0 {
			b.WriteString("reads = 'there'\n")
		}
	}
	return b.String()
}

// Which calls are made is decided alike by a plan, a run, and both of a resumed run.
func TestTriggersAreDecidedAlike(t *testing.T) {
	seen := map[cache.Action]int{}
	failed, resumed, vague := 0, 0, 0
	for seed := range uint64(200) {

		random := rand.New(rand.NewPCG(seed, 11))
		text := composedProject(random, 4+random.IntN(6))
		if seed%4 != 0 {
			text = conditioned(random, text)
		}
		uncertain := strings.Contains(text, "when.") || strings.Contains(text, "if_failed")
		p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
		require.NoError(t, err, text)
		top := p.Tasks[len(p.Tasks)-1].Name
		if _, err := plan.New(p, plan.Request{Calls: []project.Call{{Name: top}}, OS: "linux"}); err != nil {
			continue // lists of calls that contradict each other
		}
		r := newRemembered(t, text)
		r.write("there", "")
		later(t, r.top)
		var last history.Run
		for round := range 4 {
			mayFail := round == 0 || random.IntN(2) == 0
			r.exec = func(script string) error {
				if strings.HasSuffix(script, " 1") && (mayFail || strings.HasPrefix(script, "condition")) {
					return &shell.ExitError{Code: 1}
				}
				return nil
			}
			pl, memory := r.planned(top)
			if round > 1 { // what the run before did is gone on with
				done := ResumedFrom(pl, last)
				memory.Resumed, memory.Expanded = done.Finished, done.Review
				resumed++
			}
			preview, err := memory.Preview(t.Context(), pl)
			require.NoError(t, err)
			summary := r.runPlan(pl, memory)
			last.Steps = nil
			states, well := map[*plan.Step]State{}, true
			for i := range summary.Results {
				result := &summary.Results[i]
				states[pl.Steps[i]] = result.State
				well = well && result.State != Failed && result.State != Blocked && result.State != Stopped
				if result.IsShown() {
					by := result.Step.CalledBy
					step := history.RunStep{Name: result.Step.Name, Task: result.Step.Task, State: string(result.State), Attempts: result.Attempts, Sum: result.Sum}
					if by != "" {
						step.CalledBy = &by
					}
					last.Steps = append(last.Steps, step)
				}
			}
			if !well {
				failed++
			}
			times := map[string]int{}
			for _, f := range preview.Steps {
				times[f.Step.ID()]++
			}
			for _, f := range preview.Steps {
				seen[f.Action]++
				again := times[f.Step.ID()] > 1 // one of these finds what another one did
				at := fmt.Sprintf("seed %d, round %d: %s was to %s %v\n%s", seed, round, f.Step.Name, f.Action, f.Reasons, text)
				switch state := states[f.Step]; {
				case f.Action == cache.Skip:
					require.Contains(t, []State{Skipped, Blocked, Stopped}, state, at)
				case f.Action == cache.Maybe:
					if !uncertain {
						vague++
					}
				case !well || again: // what fails may end anything
				case f.Action == cache.ToRun:
					require.Equal(t, Ran, state, at)
				case state == Skipped: // its condition, which is not checked for a plan, does not hold
					require.NotEmpty(t, f.Step.Task.When.Run.Value, at)
				default:
					require.Equal(t, Unchanged, state, at)
				}
			}
		}
	}
	for _, action := range []cache.Action{cache.UpToDate, cache.Skip, cache.ToRun, cache.Maybe} {
		assert.Greater(t, seen[action], 100, action)
	}
	assert.Less(t, vague, 10, "without conditions and if_failed, only calls that decide over each other are open")
	assert.Greater(t, failed, 50)
	assert.Greater(t, resumed, 100)
}
