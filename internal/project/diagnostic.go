package project

import (
	"fmt"
	"sort"
	"strings"

	"github.com/agnivade/levenshtein"
)

// Diagnostic is one thing wrong with a project file or with what it asks for.
type Diagnostic struct {
	Span Span   // where; zero when it has no place in a file
	Msg  string // what is wrong: lower case, no full stop
	Hint string // how to mend it, shown behind the caret; may be empty
	// Related are further places that belong to it, such as the other steps
	// of a cycle. They have no Related of their own.
	Related []Diagnostic
}

// Error returns the place and the message on one line.
func (d Diagnostic) Error() string {
	if d.Span.IsZero() {
		return d.Msg
	}
	return d.Span.String() + ": " + d.Msg
}

// Diagnostics is all that is wrong, in the order of the file. As an error it
// is never empty.
type Diagnostics []Diagnostic

// Error returns one line for each diagnostic.
func (ds Diagnostics) Error() string {
	lines := make([]string, len(ds))
	for i, d := range ds {
		lines[i] = d.Error()
	}
	return strings.Join(lines, "\n")
}

// Sort puts ds in the order of files and places. Equal places keep their order.
func (ds Diagnostics) Sort() {
	sort.SliceStable(ds, func(i, j int) bool {
		a, b := ds[i].Span, ds[j].Span
		if a.IsZero() || b.IsZero() || a.Source == b.Source {
			return a.offset < b.offset
		}
		return a.Source.order < b.Source.order
	})
}

// DidYouMean returns the hint that names the known names nearest to name, or
// "" when none is near.
func DidYouMean(name string, known []string) string {
	return Suggest(Nearest(name, known))
}

// Suggest returns the hint that names the near names, or "".
func Suggest(near []string) string {
	quoted := make([]string, len(near))
	for i, n := range near {
		quoted[i] = fmt.Sprintf("%q", n)
	}
	return question(quoted)
}

// DidYouMeanOption is [DidYouMean] for options, all written as --name.
func DidYouMeanOption(option string, known []string) string {
	names := make([]string, len(known))
	for i, k := range known {
		names[i] = strings.TrimPrefix(k, "--")
	}
	near := Nearest(strings.TrimLeft(option, "-"), names)
	for i, n := range near {
		near[i] = "--" + n
	}
	return question(near)
}

func question(near []string) string {
	if len(near) == 0 {
		return ""
	}
	return "did you mean " + strings.Join(near, " or ") + "?"
}

// Nearest returns at most three of the known names that name may be a slip
// of, nearest first, in the order of known among equals.
func Nearest(name string, known []string) []string {
	type candidate struct {
		name     string
		distance int
	}
	limit := max(1, (len(name)+1)/3)
	var found []candidate
	for _, k := range known {
		if diff := len(k) - len(name); diff > limit || -diff > limit {
			if len(name) >= 3 && strings.HasPrefix(k, name) {
				found = append(found, candidate{k, limit + 1})
			}
			continue
		}
		d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(k))
		if d == 2 && swapped(name, k) {
			d = 1
		}
		if d <= limit {
			found = append(found, candidate{k, d})
		}
	}
	sort.SliceStable(found, func(i, j int) bool { return found[i].distance < found[j].distance })
	var names []string
	for _, c := range found {
		if len(names) == 3 || c.distance > found[0].distance+1 {
			break
		}
		names = append(names, c.name)
	}
	return names
}

// swapped reports whether a is b with two neighbours in the other's place.
func swapped(a, b string) bool {
	at := 0
	for at < len(a) && at < len(b) && a[at] == b[at] {
		at++
	}
	return len(a) == len(b) && at+1 < len(a) && a[at] == b[at+1] && a[at+1] == b[at] && a[at+2:] == b[at+2:]
}
