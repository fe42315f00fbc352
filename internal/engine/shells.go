package engine

import (
	"fmt"
	"strings"

	"tugline/internal/project"
	"tugline/internal/shell"
)

// ScriptShell tells what runs a script. Only the text decides, and the shell of its task.
type ScriptShell struct {
	Name string       // "builtin", "bash" or the program, with its arguments
	Why  string       // what in the script is beyond the plain form; empty: nothing, or it does not matter
	Span project.Span // where that stands
}

// ShellsOf returns what runs the scripts of a task on a system, in their order.
func ShellsOf(t *project.Task, system string) []ScriptShell {
	list := []ScriptShell{}
	for _, text := range t.RunOn(system) {
		list = append(list, shellOf(t, &text))
	}
	return list
}

func shellOf(t *project.Task, text *project.Text) ScriptShell {
	if line, found := strings.CutPrefix(text.Value, "#!"); found {
		line, _, _ = strings.Cut(line, "\n")
		return ScriptShell{Name: strings.TrimSpace(line)}
	}
	if !t.Shell.IsAuto() {
		return ScriptShell{Name: t.Shell.Name()}
	}
	program, beyond, problems := shell.ParsePlain(text.Value)
	switch {
	case program != nil:
		return ScriptShell{Name: "builtin"}
	case beyond != nil:
		return ScriptShell{Name: "bash", Why: beyond.What, Span: text.At(beyond.Offset, beyond.Length)}
	}
	return ScriptShell{Name: "bash", Why: problems[0].Msg, Span: text.At(problems[0].Offset, problems[0].Length)}
}

// String returns a sentence that tells what runs the script, and why.
func (s ScriptShell) String() string {
	switch {
	case s.Why != "":
		return fmt.Sprintf("bash, for %s (%v)", s.Why, s.Span)
	case s.Name == "builtin":
		return "the built-in shell"
	}
	return s.Name
}
