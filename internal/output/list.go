package output

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"tugline/internal/project"
)

// Listing is what a list of tasks shows.
type Listing struct {
	Title string
	Base  *project.File   // names are shown as they are called here
	Tasks []*project.Task // from [Listed]
	Needs bool            // tell what each needs, too
}

// List writes the tasks, one a line, with their names aligned, grouped by the
// file that defines them.
func List(w io.Writer, l Listing, st Style) error {
	var b strings.Builder
	if l.Title != "" && l.Base.Parent == nil {
		b.WriteString(st.bold(l.Title) + "\n\n")
	}
	width := 0
	for _, t := range l.Tasks {
		width = max(width, min(maxName, runewidth.StringWidth(label(t, l.Base))))
	}
	var file *project.File
	for i, t := range l.Tasks {
		if t.File != file && (i > 0 || l.Base.Parent != nil) {
			b.WriteString(groupHeading(t.File, i > 0, st))
		}
		file = t.File
		name := label(t, l.Base)
		rest := strings.TrimPrefix(name, l.Base.NameOf(t))
		line := st.name(t.Name, l.Base.NameOf(t)) + st.faint(rest) + pad("", width-runewidth.StringWidth(name))
		about := t.Summary()
		if isDefault(t, l.Base) {
			about = strings.TrimSpace(about + " " + st.faint("(default)"))
		}
		if len(t.Aliases) > 0 {
			about = strings.TrimSpace(about + " " + st.faint("(also "+strings.Join(aliases(t), ", ")+")"))
		}
		b.WriteString(strings.TrimRight("  "+line+"   "+about, " ") + "\n")
		if l.Needs {
			for _, line := range namedCalls(t) {
				b.WriteString(st.faint("  "+pad("", width)+"   "+line) + "\n")
			}
		}
	}
	if len(l.Tasks) == 0 {
		b.WriteString("No tasks.\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// groupHeading returns the line above the tasks of one file.
func groupHeading(f *project.File, gap bool, st Style) string {
	heading := "in " + filepath.Dir(f.Source.Name)
	if filepath.Base(f.Source.Name) != project.FileName {
		heading = "in " + f.Source.Name
	}
	if f.Title != "" {
		heading = st.bold(f.Title) + st.faint(", "+heading)
	} else {
		heading = st.faint(heading)
	}
	if gap {
		heading = "\n" + heading
	}
	return heading + "\n"
}

// label returns the name of a task in base with its arguments, as it stands in
// a list.
func label(t *project.Task, base *project.File) string {
	words := append([]string{base.NameOf(t)}, t.Options()...)
	if slices.ContainsFunc(t.Args, func(a *project.Arg) bool { return a.Rest }) {
		words = append(words, "-- WORDS")
	}
	return strings.Join(words, " ")
}

// isDefault reports whether a bare tugline runs a task.
func isDefault(t *project.Task, base *project.File) bool {
	top := base
	for top.Parent != nil {
		top = top.Parent
	}
	return slices.ContainsFunc(top.Default, func(c project.Call) bool { return c.Task == t })
}

// namedCalls tells of the calls that t makes, a line for each key.
func namedCalls(t *project.Task) []string {
	var lines []string
	for _, kind := range append([]project.Kind{project.Needs, project.DirectCalls, project.AtEnd}, project.AfterCalls...) {
		var texts []string
		for _, entry := range t.Of(kind) {
			texts = append(texts, strings.Join(callTexts(entry), ", "))
		}
		if text := strings.Join(texts, "; "); text != "" {
			lines = append(lines, string(kind)+" "+text)
		}
	}
	return lines
}

// orderedTexts returns calls as the file says them.
func orderedTexts(calls project.Calls) [][]string {
	texts := [][]string{}
	for _, entry := range calls {
		texts = append(texts, callTexts(entry))
	}
	return texts
}

func callTexts(calls []project.Call) []string {
	texts := make([]string, len(calls))
	for i, c := range calls {
		texts[i] = c.Text
	}
	return texts
}

// pathTexts returns patterns as the file says them.
func pathTexts(paths []project.Paths) []string {
	texts := []string{}
	for _, p := range paths {
		for _, g := range p.Globs {
			texts = append(texts, g.Text.Value)
		}
	}
	return texts
}

func aliases(t *project.Task) []string {
	names := make([]string, len(t.Aliases))
	for i, a := range t.Aliases {
		names[i] = a.Value
	}
	return names
}

// listedTask is a task in the JSON of a list.
type listedTask struct {
	Name     string      `json:"name"`
	About    string      `json:"about"`
	Aliases  []string    `json:"aliases"`
	Args     []listedArg `json:"args"`
	Needs    []string    `json:"needs"`
	Calls    [][]string  `json:"calls"`
	Then     [][]string  `json:"then"`
	IfFailed [][]string  `json:"if_failed"`
	Finally  [][]string  `json:"finally"`
	AtEnd    [][]string  `json:"at_end"`
	Reads    []string    `json:"reads"`
	Writes   []string    `json:"writes"`
	File     string      `json:"file"`
	Line     int         `json:"line"`
	Unlisted bool        `json:"unlisted"`
}

// listedArg is an argument in the JSON of a list.
type listedArg struct {
	Name     string   `json:"name"`
	Type     string   `json:"type"`
	Default  *string  `json:"default"`
	Choices  []string `json:"choices"`
	Required bool     `json:"required"`
	About    string   `json:"about"`
	Each     bool     `json:"each"` // without it, the task has an instance for each value
}

func listedArgs(t *project.Task) []listedArg {
	args := make([]listedArg, 0, len(t.Args))
	for _, a := range t.Args {
		listed := listedArg{Name: a.Name, Type: string(a.Type), Choices: append([]string{}, a.Choices...), Required: a.Required(), About: a.About, Each: a.Each != nil}
		if a.HasDefault {
			listed.Default = &a.Default
		}
		args = append(args, listed)
	}
	return args
}

func listed(t *project.Task) listedTask {
	line, _ := t.Span.Position()
	return listedTask{
		Name: t.Name, About: t.About, Aliases: aliases(t), Args: listedArgs(t), Needs: callTexts(t.Needs),
		Calls: orderedTexts(t.Of(project.DirectCalls)), Then: orderedTexts(t.Of(project.Then)), IfFailed: orderedTexts(t.Of(project.IfFailed)), Finally: orderedTexts(t.Of(project.Finally)), AtEnd: orderedTexts(t.Of(project.AtEnd)),
		Reads: pathTexts(t.Reads), Writes: pathTexts(t.Writes), File: t.Span.Source.Name, Line: line, Unlisted: t.Unlisted,
	}
}

// ListJSON writes the tasks as one JSON object.
func ListJSON(w io.Writer, tasks []*project.Task) error {
	list := make([]listedTask, 0, len(tasks))
	for _, t := range tasks {
		list = append(list, listed(t))
	}
	return JSON(w, map[string]any{"tasks": list})
}

// JSON writes v, indented.
func JSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return fmt.Errorf("writing JSON: %w", err)
	}
	return nil
}

// Listed returns the tasks to list, those of base first, then file by file, in
// the order of the file or by name.
func Listed(p *project.Project, base *project.File, all, byName bool) []*project.Task {
	var tasks []*project.Task
	for _, f := range append([]*project.File{base}, p.Files...) {
		if f == base && len(tasks) > 0 {
			continue
		}
		start := len(tasks)
		for _, t := range f.Tasks {
			if all || !t.Unlisted {
				tasks = append(tasks, t)
			}
		}
		if byName {
			slices.SortFunc(tasks[start:], func(a, b *project.Task) int { return strings.Compare(a.Name, b.Name) })
		}
	}
	return tasks
}
