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
)

// made is a task of a random project: it writes what it reads, some of it
// shortened, so that a change of it may end there.
type made struct {
	name  string
	reads []string // plain paths
	text  string   // of its script
	short bool
	files int // in its folder, which it writes
}

// randomProject returns tasks that read sources and what earlier ones write.
func randomProject(random *rand.Rand) []*made {
	var tasks []*made
	for i := range 3 + random.IntN(5) {
		m := &made{name: fmt.Sprint("t", i), text: "one", short: random.IntN(3) == 0, files: 1 + random.IntN(3)}
		m.reads = append(m.reads, fmt.Sprint("in/", random.IntN(3)))
		for _, earlier := range tasks {
			if random.IntN(3) == 0 {
				m.reads = append(m.reads, fmt.Sprintf("out/%s/%d", earlier.name, random.IntN(earlier.files)))
			}
		}
		tasks = append(tasks, m)
	}
	return tasks
}

func (m *made) toml() string {
	return fmt.Sprintf("[task.%s]\nreads = ['%s']\nwrites = 'out/%s'\nrun = '%s %s'\n", m.name, strings.Join(m.reads, "', '"), m.name, m.name, m.text)
}

// output returns what m writes into each of its files, by the texts of what it reads.
func (m *made) output(file int, text func(path string) string) string {
	out := fmt.Sprintf("%s %d ", m.text, file)
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
	seen := map[Action]int{}
	for seed := range uint64(16) {
		random := rand.New(rand.NewPCG(seed, 3))
		tasks := randomProject(random)
		r := newRemembered(t, "")
		text := func(path string) string {
			b, err := os.ReadFile(filepath.Join(r.top, path))
			require.NoError(t, err)
			return string(b)
		}
		r.exec = func(script string) error {
			for _, m := range tasks {
				for i := range m.files {
					if strings.HasPrefix(script, m.name+" ") {
						r.write(fmt.Sprintf("out/%s/%d", m.name, i), m.output(i, text))
					}
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
			foreseen, err := memory.Foresee(pl)
			require.NoError(t, err)
			states := r.run("all")
			moved := map[string]bool{} // what may have left other files than foreseen
			for _, f := range foreseen {
				seen[f.Action]++
				name, state := f.Step.Name, states[f.Step.Name]
				after := false
				for _, via := range f.Step.Through {
					after = after || moved[via.Step.Name]
				}
				moved[name] = f.Action == ToRun || f.Action == Maybe
				switch f.Action {
				case Leave:
					assert.Equal(t, Unchanged, state, "%s: %s", at, name)
				case ToRestore:
					assert.Equal(t, Restored, state, "%s: %s", at, name)
				case ToRun:
					assert.True(t, state == Ran || state == Restored && after, "%s: %s was to run, and is %s", at, name, state)
				case Maybe:
					assert.True(t, after, "%s: nothing is open before %s", at, name)
				}
			}
			for _, m := range tasks {
				for i := range m.files {
					require.Equal(t, m.output(i, text), text(fmt.Sprintf("out/%s/%d", m.name, i)), "%s: %s", at, m.name)
				}
			}
			if t.Failed() {
				t.Log(r.text)
				return
			}
			change(t, r, tasks, random)
		}
	}
	for _, action := range []Action{Leave, ToRestore, ToRun, Maybe} {
		assert.Greater(t, seen[action], 10, action)
	}
}

// change does to a project what people do.
func change(t *testing.T, r *remembered, tasks []*made, random *rand.Rand) {
	t.Helper()
	for range 1 + random.IntN(2) {
		m := tasks[random.IntN(len(tasks))]
		folder := filepath.Join(r.top, "out", m.name)
		switch random.IntN(6) {
		case 0, 1: // an edit, which may undo an earlier one
			r.write(fmt.Sprint("in/", random.IntN(3)), []string{"a", "b", "ab"}[random.IntN(3)])
		case 2:
			m.text = []string{"one", "two"}[random.IntN(2)]
		case 3:
			require.NoError(t, os.RemoveAll(folder))
		case 4:
			r.write(fmt.Sprintf("out/%s/0", m.name), "edited by hand")
		case 5: // another checkout
			require.NoError(t, os.RemoveAll(filepath.Join(r.top, ".tugline")))
			require.NoError(t, os.RemoveAll(filepath.Join(r.top, "out")))
		}
	}
}
