package output

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// Shown is what there is to show of one task.
type Shown struct {
	Task     *project.Task
	Help     string // its texts and arguments, as its help tells them
	System   string // for which its commands are shown, as Go names it
	Vars     []plan.Variable
	NeededBy []string
	Reads    []string // the files that it reads now
	Writes   []string // the files that it writes, as far as they are there
	Last     history.Record
	Ran      bool // Last is its last good run
}

// NeededBy returns the names of the tasks of p that need t, sorted.
func NeededBy(p *project.Project, t *project.Task) []string {
	names := []string{}
	for _, other := range p.Tasks {
		if slices.ContainsFunc(other.Needs, func(c project.Call) bool { return c.Task == t }) {
			names = append(names, other.Name)
		}
	}
	slices.Sort(names)
	return names
}

// Show writes all that is known of one task.
func Show(w io.Writer, s Shown, st Style) error {
	var b strings.Builder
	b.WriteString(st.name(s.Task.Name, s.Task.Name) + st.faint("  "+s.Task.Span.String()) + "\n\n")
	b.WriteString(s.Help)
	section := func(title, text string) {
		if text != "" {
			b.WriteString("\n" + title + ":\n" + text)
		}
	}
	section("Other names", indented(aliases(s.Task)))
	section("Needs", indented(callTexts(s.Task.Needs)))
	section("Needed by", indented(s.NeededBy))
	section("Reads", files(pathTexts(s.Task.Reads), s.Reads))
	section("Writes", files(pathTexts(s.Task.Writes), s.Writes))
	section("Folder", indented(nonEmpty(s.Task.Folder.Value)))
	section("Shell", indented(nonEmpty(strings.Join(s.Task.Shell.Args, " "))))
	var commands []string
	for _, run := range s.Task.RunOn(s.System) {
		commands = append(commands, strings.Split(strings.Trim(run.Value, "\n"), "\n")...)
	}
	section("Commands", indented(commands))
	if len(s.Vars) > 0 {
		var vars strings.Builder
		if err := Variables(&vars, s.Vars, st); err != nil {
			return err
		}
		section("Variables", indented(strings.Split(strings.TrimRight(vars.String(), "\n"), "\n")))
	}
	if s.Ran {
		section("Last good run", indented([]string{fmt.Sprintf("%s, in %s, run %s", moment(s.Last.Finished), duration(time.Duration(s.Last.Ms)*time.Millisecond), s.Last.Run)}))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// maxFiles is how many of the files that patterns match are shown.
const maxFiles = 8

// files returns patterns, and below them the files that they match.
func files(patterns, matched []string) string {
	if len(patterns) == 0 {
		return ""
	}
	lines := []string{strings.Join(patterns, ", ")}
	for i, path := range matched {
		if i == maxFiles && len(matched) > maxFiles+1 {
			lines = append(lines, fmt.Sprintf("  and %d more", len(matched)-i))
			break
		}
		lines = append(lines, "  "+printable(path))
	}
	if len(matched) == 0 {
		lines = append(lines, "  no file now")
	}
	return indented(lines)
}

func indented(lines []string) string {
	var b strings.Builder
	for _, line := range lines {
		b.WriteString(strings.TrimRight("  "+line, " ") + "\n")
	}
	return b.String()
}

func nonEmpty(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// ShowJSON writes the same as one JSON object.
func ShowJSON(w io.Writer, s Shown) error {
	commands := []string{}
	for _, run := range s.Task.RunOn(s.System) {
		commands = append(commands, run.Value)
	}
	shown := struct {
		listedTask
		NeededBy  []string       `json:"needed_by"`
		Folder    string         `json:"folder"`
		Shell     []string       `json:"shell"`
		Commands  []string       `json:"commands"`
		Variables []jsonVariable `json:"variables"`
		ReadNow   []string       `json:"read_now"`
		WriteNow  []string       `json:"written_now"`
		Last      *jsonLast      `json:"last"`
	}{
		listed(s.Task), append([]string{}, s.NeededBy...), s.Task.Folder.Value,
		append([]string{}, s.Task.Shell.Args...), commands, jsonVariables(s.Vars),
		append([]string{}, s.Reads...), append([]string{}, s.Writes...), nil,
	}
	if s.Ran {
		shown.Last = lastJSON(s.Last)
	}
	if err := JSON(w, shown); err != nil {
		return fmt.Errorf("showing task %q: %w", s.Task.Name, err)
	}
	return nil
}
