package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"tugline/internal/project"
)

// InstanceID returns a digest of the values of each with which s is made; empty
// if its task has no instances.
func (s *Step) InstanceID() string {
	values := map[string]string{}
	for _, arg := range s.Task.Looped() {
		for _, v := range s.args {
			if v.Name == arg.Variable() {
				values[arg.Name] = v.Value.Value
			}
		}
	}
	return instanceID(values)
}

// instanceID returns a digest of values by the name of each.
func instanceID(values map[string]string) string {
	if len(values) == 0 {
		return ""
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q", values)) // maps are printed in the order of their keys
	return hex.EncodeToString(sum[:16])
}

// LoopedTasks returns the tasks with instances of which p has steps.
func (p *Plan) LoopedTasks() []*project.Task {
	var tasks []*project.Task
	for _, s := range p.Steps {
		if len(s.Task.Looped()) > 0 && !slices.Contains(tasks, s.Task) {
			tasks = append(tasks, s.Task)
		}
	}
	return tasks
}

// InstanceIDs returns the digests of all instances that a task has now. known is
// false where another task has yet to make what tells them.
func (p *Plan) InstanceIDs(t *project.Task) (ids map[string]bool, known bool) {
	open := t.Looped()
	if !p.expanded[t] && slices.ContainsFunc(open, func(arg *project.Arg) bool { return p.builder.unknown(arg.Each, t) }) {
		return nil, false
	}
	found := len(p.builder.found)
	combinations, _ := p.builder.combinations(&Loop{task: t, open: open})
	if len(p.builder.found) > found { // a list cannot be read
		return nil, false
	}
	ids = make(map[string]bool, len(combinations))
	for _, args := range combinations {
		values := make(map[string]string, len(args.given))
		for _, g := range args.given {
			values[g.name] = g.value
		}
		ids[instanceID(values)] = true
	}
	return ids, true
}
