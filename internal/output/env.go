package output

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"

	"tugline/internal/plan"
	"tugline/internal/project"
)

// Variables writes each variable with its value and where that comes from,
// and below it what it hides.
func Variables(w io.Writer, vars []plan.Variable, st Style) error {
	var b strings.Builder
	names, values := 0, 0
	for _, v := range vars {
		names = max(names, min(maxName, runewidth.StringWidth(v.Name)))
		values = max(values, min(maxName, runewidth.StringWidth(shownValue(v.Value))))
	}
	for _, v := range vars {
		if v.From.Problem != "" {
			fmt.Fprintf(&b, "%s  %s  %s\n", st.bold(pad(v.Name, names)), st.red("cannot be computed: "+printable(v.From.Problem)), st.faint(originText(v.From)))
			continue
		}
		from := originText(v.From)
		if v.Counts != "" && v.Counts != v.From.Kind { // that an argument counts goes without saying
			from += "; counts: " + v.Counts
		}
		fmt.Fprintf(&b, "%s  %s  %s\n", st.bold(pad(v.Name, names)), pad(shownValue(v.Value), values), st.faint(from))
		for _, o := range v.Hides {
			b.WriteString(st.faint(fmt.Sprintf("%s  hides %s, %s", pad("", names), shownValue(o.Value), originText(o))) + "\n")
		}
	}
	if len(vars) == 0 {
		b.WriteString("No variables.\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// shownValue returns a value on one line; an empty one can be seen.
func shownValue(value string) string {
	if value == "" {
		return `""`
	}
	return cutMiddle(printable(strings.ReplaceAll(value, "\n", "⏎")), maxText/2)
}

func originText(o plan.Origin) string {
	switch {
	case o.Kind == "":
		return "not given"
	case o.Kind == "set":
		return "--set"
	case o.File != "":
		return o.File
	case o.Kind == "caller":
		return "your environment"
	case o.Span.IsZero():
		return o.Kind
	}
	return o.Kind + ", " + o.Span.String()
}

// jsonOrigin is an origin as JSON.
type jsonOrigin struct {
	Kind  *string `json:"kind"`
	File  *string `json:"file"`
	Line  *int    `json:"line"`
	Value string  `json:"value"`

	Problem *string `json:"problem"`
}

func originJSON(o plan.Origin) jsonOrigin {
	out := jsonOrigin{Value: o.Value}
	if o.Kind != "" {
		out.Kind = &o.Kind
	}
	if o.Problem != "" {
		out.Problem = &o.Problem
	}
	if o.File != "" {
		out.File = &o.File
	}
	if !o.Span.IsZero() {
		line, _ := o.Span.Position()
		out.File, out.Line = &o.Span.Source.Name, &line
	}
	return out
}

// jsonVariable is a variable as JSON.
type jsonVariable struct {
	Name  string       `json:"name"`
	Value string       `json:"value"`
	About string       `json:"about"`
	From  jsonOrigin   `json:"from"`
	Hides []jsonOrigin `json:"hides"`
	// Counts is why it counts for the task; null: it does not.
	Counts *string `json:"counts"`
}

func jsonVariables(vars []plan.Variable) []jsonVariable {
	list := make([]jsonVariable, 0, len(vars))
	for _, v := range vars {
		out := jsonVariable{Name: v.Name, Value: v.Value, About: v.About, From: originJSON(v.From), Hides: []jsonOrigin{}}
		for _, o := range v.Hides {
			out.Hides = append(out.Hides, originJSON(o))
		}
		if v.Counts != "" {
			out.Counts = &v.Counts
		}
		list = append(list, out)
	}
	return list
}

// VariablesJSON writes the variables as one JSON object.
func VariablesJSON(w io.Writer, vars []plan.Variable) error {
	return JSON(w, map[string]any{"variables": jsonVariables(vars)})
}

// SampleEnvFile returns the text of an env file with the variables of p that
// one can set, each behind its about text.
func SampleEnvFile(p *project.Project) string {
	var b strings.Builder
	for _, v := range settable(p) {
		for line := range strings.Lines(v.About) {
			b.WriteString("# " + strings.TrimSuffix(line, "\n") + "\n")
		}
		example := v.Example
		if example == "" && !v.Secret && !strings.Contains(v.Value.Value, "$") {
			example = v.Value.Value
		}
		fmt.Fprintf(&b, "%s=%s\n", v.Name, quoteSetting(example))
	}
	return b.String()
}

// settable returns the variables of the files of p that an env file can set:
// the others are stronger. Each name comes once.
func settable(p *project.Project) []project.Var {
	var vars []project.Var
	seen := map[string]bool{}
	for _, f := range p.Files {
		for _, v := range slices.Concat(f.ParentEnv, f.Env) {
			if (v.Default || v.MustBeSet) && !seen[v.Name] {
				seen[v.Name] = true
				vars = append(vars, v)
			}
		}
	}
	return vars
}

// quoteSetting quotes a value of an env file, if need be.
func quoteSetting(value string) string {
	if strings.ContainsAny(value, " \t\n\"'#$\\`") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "$", `\$`, "`", "\\`").Replace(value) + `"`
	}
	return value
}
