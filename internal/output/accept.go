package output

import (
	"fmt"
	"io"
	"strings"

	"tugline/internal/cache"
	"tugline/internal/fingerprint"
)

// WriteAccepted writes of which steps what is there was taken for good, with what differed
// and which outputs no run made.
func WriteAccepted(w io.Writer, all []cache.Accepted, st Style) error {
	var b strings.Builder
	for _, a := range all {
		name := st.name(a.Step.Name, printable(a.Step.Name))
		switch {
		case a.Action == cache.Skip:
			fmt.Fprintf(&b, "skipped   %s  %s\n", name, printable(strings.Join(reasonTexts(a.Reasons, false), ", ")))
			continue
		case a.Record.Call == "":
			fmt.Fprintf(&b, "unchanged %s  nothing to accept\n", name)
			continue
		}
		fmt.Fprintf(&b, "accepted  %s  %s\n", name, strings.Join(reasonTexts(a.Reasons, false), ", "))
		for _, f := range outputsAccepted(a) {
			b.WriteString("          " + st.faint("made by no run: "+printable(f)) + "\n")
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func outputsAccepted(a cache.Accepted) []string {
	paths := []string{}
	for _, f := range a.Record.Outputs {
		if f.Accepted {
			paths = append(paths, f.Path)
		}
	}
	return paths
}

// AcceptedJSON writes the same as one JSON object.
func AcceptedJSON(w io.Writer, all []cache.Accepted) error {
	type accepted struct {
		Name     string               `json:"name"`
		Accepted bool                 `json:"accepted"`
		Reasons  []fingerprint.Reason `json:"reasons"`
		Outputs  []string             `json:"outputs"` // that no run made
	}
	list := []accepted{}
	for _, a := range all {
		list = append(list, accepted{a.Step.Name, a.Record.Call != "", append([]fingerprint.Reason{}, a.Reasons...), outputsAccepted(a)})
	}
	return JSON(w, map[string]any{"tasks": list})
}
