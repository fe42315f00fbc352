package cache

import (
	"fmt"
	"slices"
	"strings"

	"tugline/internal/files"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// Vanished returns what instances of t left that are no more: their values are
// not among those of now. It is nil where the values are not known yet.
//
// What another call left at the same path is that call's. What only a formatter
// changed since counts as it was left.
func (c *Cache) Vanished(p *plan.Plan, t *project.Task) ([]Made, error) {
	recorded := c.Ledger.Instances(t.Name)
	if len(recorded) == 0 {
		return nil, nil
	}
	ids, known := p.InstanceIDs(t)
	if !known {
		return nil, nil
	}
	gone := map[string]bool{}
	for _, i := range recorded {
		if !ids[i.Values] {
			gone[i.ID] = true
		}
	}
	if len(gone) == 0 {
		return nil, nil
	}
	var records, left []history.Record
	for _, r := range c.Ledger.All() {
		if gone[r.ID] {
			records = append(records, r)
		} else {
			left = append(left, r)
		}
	}
	others, formatted := writtenBy(left)
	slices.SortFunc(records, func(a, b history.Record) int { return strings.Compare(a.Call, b.Call) })
	var all []Made
	for _, r := range records {
		made, err := c.made(r, formatted)
		if err != nil {
			return nil, err
		}
		made.Paths = slices.DeleteFunc(made.Paths, func(path string) bool { return others[path] })
		made.Edited = slices.DeleteFunc(made.Edited, func(path string) bool { return others[path] })
		all = append(all, made)
	}
	return all, nil
}

// RemoveVanished removes what instances of t left that are no more, and their
// records, and returns what there is to tell of it. What was edited since stays,
// with its record. An instance that another Tugline runs is left to that.
func (c *Cache) RemoveVanished(p *plan.Plan, t *project.Task) (removed, kept []string, err error) {
	all, err := c.Vanished(p, t)
	if err != nil {
		return nil, nil, err
	}
	for _, made := range all {
		unlock, taken := c.Ledger.TryLock(made.Record.ID)
		if !taken {
			continue
		}
		swept, err := c.Sweep(made.Paths)
		if err == nil && len(made.Edited) == 0 && len(swept) == len(made.Paths) {
			err = c.Ledger.DropInstance(t.Name, made.Record.ID)
		}
		unlock()
		if len(swept) > 0 {
			removed = append(removed, fmt.Sprintf("removed %s: its instance %s no longer exists", someOf(swept), made.Record.Call))
		}
		if len(made.Edited) > 0 {
			kept = append(kept, fmt.Sprintf("kept %s: edited since its instance %s, which no longer exists, made it", someOf(made.Edited), made.Record.Call))
		}
		if err != nil {
			return removed, kept, err
		}
	}
	return removed, kept, nil
}

// someOf names the first of some paths, and says how many more there are.
func someOf(paths []string) string {
	if len(paths) == 1 {
		return paths[0]
	}
	return fmt.Sprintf("%s, and %d more", paths[0], len(paths)-1)
}

// removal is what the removal of files will leave.
func (c *Cache) removal(paths []string) *restoration {
	r := &restoration{}
	for _, path := range paths {
		r.before = append(r.before, files.Found{Path: path})
	}
	return r
}
