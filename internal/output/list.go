package output

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"tugline/internal/project"
)

// List writes the tasks, one a line, with their names aligned; with needs,
// each followed by a line that tells what it needs.
func List(w io.Writer, title string, tasks []*project.Task, needs bool, st Style) error {
	var b strings.Builder
	if title != "" {
		b.WriteString(st.bold(title) + "\n\n")
	}
	width := 0
	for _, t := range tasks {
		width = max(width, min(maxName, runewidth.StringWidth(label(t))))
	}
	for _, t := range tasks {
		rest := strings.TrimPrefix(label(t), t.Name)
		line := st.name(t.Name, t.Name) + st.faint(rest) + pad("", width-runewidth.StringWidth(label(t)))
		about := t.Summary()
		if len(t.Aliases) > 0 {
			about = strings.TrimSpace(about + " " + st.faint("(also "+strings.Join(aliases(t), ", ")+")"))
		}
		b.WriteString(strings.TrimRight("  "+line+"   "+about, " ") + "\n")
		if needs && len(t.Needs) > 0 {
			b.WriteString(st.faint("  "+pad("", width)+"   needs "+strings.Join(callTexts(t.Needs), ", ")) + "\n")
		}
	}
	if len(tasks) == 0 {
		b.WriteString("No tasks.\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// label returns the name of a task with its arguments, as it stands in a list.
func label(t *project.Task) string {
	return strings.Join(append([]string{t.Name}, t.Options()...), " ")
}

func callTexts(calls []project.Call) []string {
	texts := make([]string, len(calls))
	for i, c := range calls {
		texts[i] = c.Text
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
}

func listedArgs(t *project.Task) []listedArg {
	args := make([]listedArg, 0, len(t.Args))
	for _, a := range t.Args {
		listed := listedArg{Name: a.Name, Type: string(a.Type), Choices: append([]string{}, a.Choices...), Required: a.Required(), About: a.About}
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
		Reads: []string{}, Writes: []string{}, File: t.Span.Source.Name, Line: line, Unlisted: t.Unlisted,
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

// Listed returns the tasks to list, in the order of the file or by name.
func Listed(p *project.Project, all, byName bool) []*project.Task {
	var tasks []*project.Task
	for _, t := range p.Tasks {
		if all || !t.Unlisted {
			tasks = append(tasks, t)
		}
	}
	if byName {
		slices.SortFunc(tasks, func(a, b *project.Task) int { return strings.Compare(a.Name, b.Name) })
	}
	return tasks
}
