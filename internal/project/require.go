package project

import (
	"strings"

	"github.com/hashicorp/go-version"

	"tugline/internal/toml"
)

// Requirement is something that must be there before a run starts.
type Requirement struct {
	Span    Span
	Tool    string // a program; empty: none
	Version Text   // the range in which its version must be; empty: any
	From    Text   // a command that prints it; empty: TOOL --version
	File    Text   // a path, unexpanded, relative to the folder of the file; empty: none
	Run     Text   // a script that must end well; empty: none
	Hint    string // how to get it

	within version.Constraints
}

// Accepts reports whether a version is in the range that r asks for. A text
// that is no version is not. What a distribution adds, as in 12.2.0-14, begins with
// a digit and makes no pre-release.
func (r *Requirement) Accepts(text string) bool {
	v, err := version.NewVersion(text)
	if err != nil {
		return false
	}
	if added := v.Prerelease(); added != "" && added[0] >= '0' && added[0] <= '9' {
		v = v.Core()
	}
	return r.within.Check(v)
}

// requireKeys are the keys of one entry of require.
var requireKeys = []key[*Requirement]{
	{"tool", formText, "A program that must be found.", func(d *decoder, r *Requirement, e *toml.Entry) { r.Tool = d.text(e).Value }},
	{"version", formText, "The range in which the first version must be that `TOOL --version` prints, such as `\">=7.80\"` or `\">=1.20, <2\"`.", func(d *decoder, r *Requirement, e *toml.Entry) {
		r.Version = d.text(e)
		within, err := version.NewConstraint(r.Version.Value)
		if err != nil && !r.Version.Span.IsZero() {
			d.report(r.Version.Span, `such as ">=7.80" or ">=1.20, <2"`, "%q is no range of versions", r.Version.Value)
		}
		r.within = within
	}},
	{"version_from", formText, "A command that prints the version, such as `\"go version\"`, in place of `TOOL --version`.", func(d *decoder, r *Requirement, e *toml.Entry) { r.From = d.text(e) }},
	{"file", formText, "A file or a folder that must be there, relative to the folder of the file.", func(d *decoder, r *Requirement, e *toml.Entry) { r.File = d.template(e) }},
	{"run", formText, "A script that must end well. It must change nothing.", func(d *decoder, r *Requirement, e *toml.Entry) { r.Run = d.text(e) }},
	{"hint", formText, "How to get what is missing.", func(d *decoder, r *Requirement, e *toml.Entry) { r.Hint = d.text(e).Value }},
}

func (d *decoder) require(e *toml.Entry) []Requirement {
	if !d.is(e.Key, &e.Value, toml.KindList) {
		return nil
	}
	var out []Requirement
	for _, item := range e.Value.List.Items {
		if item.Kind != toml.KindTable {
			d.report(d.at(item.At), `such as { tool = "curl" }`, "%q must hold tables, not %s", e.Key, item.Kind)
			continue
		}
		r := Requirement{Span: d.at(item.At)}
		decodeTable(d, item.Table, requireKeys, &r, "key of require")
		switch {
		case len(d.file.skipped) > 0:
		case r.Tool == "" && strings.TrimSpace(r.File.Value+r.Run.Value) == "":
			d.report(d.at(item.At), `give it "tool", "file" or "run"`, "an entry of %q asks for nothing", e.Key)
		case r.Tool == "" && r.Version.Value != "":
			d.report(r.Version.Span, `give it "tool"`, "a version of what?")
		case r.From.Value != "" && r.Version.Value == "":
			d.report(r.From.Span, `give it "version", such as ">=1.20"`, "there is no range for the version that it prints")
		}
		out = append(out, r)
	}
	return out
}
