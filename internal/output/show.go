package output

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"tugline/internal/engine"
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

// shellTexts tells what runs the scripts of a task: once, if that is the same for all.
func shellTexts(t *project.Task, system string) []string {
	var texts []string
	for _, by := range engine.ShellsOf(t, system) {
		texts = append(texts, printable(by.String()))
	}
	if len(slices.Compact(slices.Clone(texts))) == 1 {
		return texts[:1]
	}
	return texts
}

// NeededBy returns the names of the tasks of p that need or call t, sorted.
func NeededBy(p *project.Project, t *project.Task) []string {
	names := []string{}
	for _, other := range p.Tasks {
		if slices.ContainsFunc(other.Calls(), func(c project.Call) bool { return c.Task == t }) {
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
	section("Calls, in this order", indented(orderedLines(s.Task.Of(project.DirectCalls))))
	section("Then calls", indented(orderedLines(s.Task.Of(project.Then))))
	section("Calls if it failed", indented(orderedLines(s.Task.Of(project.IfFailed))))
	section("Calls in any case", indented(orderedLines(s.Task.Of(project.Finally))))
	section("Calls last of all", indented(orderedLines(s.Task.Of(project.AtEnd))))
	section("Instances", indented(eachTexts(s.Task)))
	section("Named by", indented(s.NeededBy))
	section("Reads", files(pathTexts(s.Task.Reads), s.Reads))
	section("Writes", files(pathTexts(s.Task.Writes), s.Writes))
	section("Rules", indented(rules(s.Task)))
	section("Folder", indented(nonEmpty(s.Task.Folder.Value)))
	section("Runs in", indented(shellTexts(s.Task, s.System)))
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
		section("Last good run", indented([]string{lastText(s.Last)}))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// orderedLines returns calls, those on a line of their own that are made at once.
func orderedLines(calls project.Calls) []string {
	var lines []string
	for _, entry := range calls {
		lines = append(lines, strings.Join(callTexts(entry), ", "))
	}
	return lines
}

// eachTexts tells of which values a task has instances.
func eachTexts(t *project.Task) []string {
	var lines []string
	for _, a := range t.Looped() {
		l, from := a.Each, ""
		switch {
		case len(l.Files) > 0:
			from = "each file of " + strings.Join(pathTexts([]project.Paths{{Globs: l.Files}}), ", ")
			if l.As != "" {
				from += ", its " + l.As
			}
		case l.Lines.Value != "":
			from = "each line of " + l.Lines.Value
		case l.Run.Value != "":
			from = "each line that a script prints: " + strings.TrimSpace(l.Run.Value)
		default:
			var values []string
			for _, v := range l.List {
				values = append(values, v.Value)
			}
			from = strings.Join(values, ", ")
		}
		lines = append(lines, a.Name+": "+from)
	}
	if t.AtOnce > 0 {
		lines = append(lines, fmt.Sprintf("at most %d at once", t.AtOnce))
	}
	return lines
}

// rules tells what else a task says of how it is run.
func rules(t *project.Task) []string {
	var lines []string
	add := func(given bool, format string, args ...any) {
		if given {
			lines = append(lines, fmt.Sprintf(format, args...))
		}
	}
	w := t.When
	add(len(w.OS) > 0, "only on %s", strings.Join(w.OS, ", "))
	add(len(w.Arch) > 0, "only on %s", strings.Join(w.Arch, ", "))
	for _, v := range w.Env {
		switch {
		case v.Any && v.No:
			add(true, "only if %s is empty", v.Name)
		case v.Any:
			add(true, "only if %s is set", v.Name)
		default:
			add(true, "only if %s is %q", v.Name, v.Value)
		}
	}
	add(len(w.Files) > 0, "only if %s exists", strings.Join(pathTexts([]project.Paths{{Globs: w.Files}}), ", "))
	add(w.Run.Value != "", "only if this succeeds: %s", strings.TrimSpace(w.Run.Value))
	for _, r := range t.Require {
		add(r.Tool != "", "requires the tool %s", strings.TrimSpace(r.Tool+" "+r.Version.Value))
		add(r.File.Value != "", "requires the file %s", r.File.Value)
		add(r.Run.Value != "", "requires that this succeeds: %s", strings.TrimSpace(r.Run.Value))
	}
	retry := fmt.Sprintf("tried up to %d times more", t.Retry.Times)
	if len(t.Retry.On) > 0 {
		codes := make([]string, len(t.Retry.On))
		for i, code := range t.Retry.On {
			codes[i] = fmt.Sprint(code)
		}
		retry += " after exit code " + strings.Join(codes, " or ")
	}
	if t.Retry.Wait > 0 {
		retry += fmt.Sprintf(", after %v", t.Retry.Wait)
	}
	if t.Retry.Wait > 0 && t.Retry.Factor > 1 {
		retry += fmt.Sprintf(", each wait %v times as long", t.Retry.Factor)
	}
	add(t.Retry.Times > 0, "%s", retry)
	if h := t.HoldUntil; h != nil {
		for what, text := range map[string]project.Text{"port %s accepts connections": h.Port, "%s answers": h.HTTP, "%s is there": h.File} {
			add(text.Value != "", "waits until "+what+", at most %v", text.Value, h.Timeout)
		}
		add(h.Run.Value != "", "waits until this succeeds, at most %v: %s", h.Timeout, strings.TrimSpace(h.Run.Value))
	}
	add(t.Timeout > 0, "ended after %v", t.Timeout)
	var locks []string
	for _, l := range t.Locks {
		locks = append(locks, l.Value)
	}
	add(len(locks) > 0, "holds the lock %s", strings.Join(locks, ", "))
	add(t.Ask.Value != "", "asks %q", t.Ask.Value)
	add(t.Terminal, "owns the terminal")
	lines = append(lines, serviceRules(t.Service)...)
	add(t.Always, "always runs")
	add(t.Depfile.Value != "", "what it reads stands in %s after a run", t.Depfile.Value)
	add(t.ClearWrites, "deletes what its last good run left before it runs")
	add(t.OnRequest, "only on request")
	add(len(t.WatchAlso) > 0, "in a watch, runs when one of these changes, too: %s", strings.Join(pathTexts([]project.Paths{{Globs: t.WatchAlso}}), ", "))
	add(t.NoStore, "keeps no copies of its outputs")
	add(t.After != "", "after a failure among its own: %s", t.After)
	return lines
}

// serviceRules tells how a service is kept running; nil is no service.
func serviceRules(s *project.Service) []string {
	if s == nil {
		return nil
	}
	lines := []string{"keeps running, as a service"}
	if s.Serve != nil {
		var roots []string
		for _, r := range s.Serve.Roots {
			roots = append(roots, r.Value)
		}
		lines = []string{"serves the pages of " + strings.Join(roots, ", ")}
		if s.Serve.Port.Value != "" {
			lines[0] += ", at port " + s.Serve.Port.Value
		}
	}
	add := func(given bool, format string, args ...any) {
		if given {
			lines = append(lines, fmt.Sprintf(format, args...))
		}
	}
	add(s.Ready.Port.Value != "", "ready when %s accepts connections", s.Ready.Port.Value)
	add(s.Ready.HTTP.Value != "", "ready when %s answers", s.Ready.HTTP.Value)
	add(s.Ready.Log != nil, "ready when it prints a line that matches %v", s.Ready.Log)
	add(s.Ready.Run.Value != "", "ready when this succeeds: %s", strings.TrimSpace(s.Ready.Run.Value))
	add(s.Restart, "started again after a failure")
	add(s.Grace > 0, "has %v to end", s.Grace)
	return lines
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
		Shells    []jsonShell    `json:"shells"`
		Commands  []string       `json:"commands"`
		Variables []jsonVariable `json:"variables"`
		ReadNow   []string       `json:"read_now"`
		WriteNow  []string       `json:"written_now"`
		Rules     []string       `json:"rules"`
		Last      *jsonLast      `json:"last"`
	}{
		listed(s.Task), append([]string{}, s.NeededBy...), s.Task.Folder.Value,
		append([]string{}, s.Task.Shell.Args...), shellsJSON(s.Task, s.System), commands, jsonVariables(s.Vars),
		append([]string{}, s.Reads...), append([]string{}, s.Writes...), append([]string{}, rules(s.Task)...), nil,
	}
	if s.Ran {
		shown.Last = lastJSON(s.Last)
	}
	if err := JSON(w, shown); err != nil {
		return fmt.Errorf("showing task %q: %w", s.Task.Name, err)
	}
	return nil
}
