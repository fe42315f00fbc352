package output

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"tugline/internal/plan"
)

// ByHand is what does the same as a step, by hand.
type ByHand struct {
	Call    string // the step, as it is called
	Folder  string // where it runs, absolute
	Folders []string
	Env     []Setting         // the variables that are other than in the caller's environment, in their order
	Secrets map[string]string // the values of those that are secret, by name
	Words   []string          // behind --
	Scripts []HandScript      // in order
}

// Setting is a variable with its value.
type Setting struct{ Name, Value string }

// HandScript is a script with the interpreter that runs it; none: the one of the whole.
type HandScript struct {
	Text        string
	Interpreter []string
}

// WriteByHand writes a script for bash that does by hand what a step does. The values of
// secrets are left out: it refers to them.
func WriteByHand(w io.Writer, h ByHand) error {
	var b strings.Builder
	fmt.Fprintf(&b, "#!/usr/bin/env bash\n# What tugline %s does, by hand.\nset -euo pipefail\ncd %s\n", strings.ReplaceAll(h.Call, "\n", " "), plan.Quote(h.Folder))
	secrets := make([]string, 0, len(h.Secrets))
	for name := range h.Secrets {
		secrets = append(secrets, name)
	}
	slices.Sort(secrets)
	for _, name := range secrets {
		fmt.Fprintf(&b, ": \"${%s:?it is secret, so set it first}\"\nexport %s\n", name, name)
	}
	for _, s := range h.Env {
		if _, secret := h.Secrets[s.Name]; !secret {
			fmt.Fprintf(&b, "export %s=%s\n", s.Name, withSecrets(s.Value, secrets, h.Secrets))
		}
	}
	if len(h.Folders) > 0 {
		b.WriteString("mkdir -p")
		for _, folder := range h.Folders {
			b.WriteString(" " + plan.Quote(folder))
		}
		b.WriteString("\n")
	}
	b.WriteString("set --")
	for _, word := range h.Words {
		b.WriteString(" " + withSecrets(word, secrets, h.Secrets))
	}
	b.WriteString("\n\n")
	for i, s := range h.Scripts {
		b.WriteString(handScript(s, i, len(h.Scripts) > 1))
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// handScript returns what runs one of the scripts. One of several gets a shell of its own.
func handScript(s HandScript, index int, several bool) string {
	text := strings.TrimRight(s.Text, "\n") + "\n"
	if len(s.Interpreter) == 0 {
		if several {
			return "(\n" + text + ")\n"
		}
		return text
	}
	words := make([]string, len(s.Interpreter))
	for i, word := range s.Interpreter {
		words[i] = plan.Quote(word)
	}
	command := strings.Join(words, " ")
	switch filepath.Base(s.Interpreter[0]) {
	case "sh", "dash", "ash", "bash", "zsh", "ksh":
		return command + " -c " + plan.Quote(text) + ` "$0" "$@"` + "\n"
	}
	end := "END"
	for strings.Contains("\n"+text, "\n"+end+"\n") {
		end += "_"
	}
	file := fmt.Sprintf("script%d", index+1)
	return fmt.Sprintf("%s=$(mktemp)\ntrap 'rm -f \"$%s\"' EXIT\ncat >\"$%s\" <<'%s'\n%s%s\n%s \"$%s\" \"$@\"\n", file, file, file, end, text, end, command, file)
}

// withSecrets returns a value as a word for a shell, in which a reference stands for each
// secret value.
func withSecrets(value string, names []string, secrets map[string]string) string {
	at, found := -1, ""
	for _, name := range names {
		secret := secrets[name]
		if i := strings.Index(value, secret); secret != "" && i >= 0 && (at < 0 || i < at || i == at && len(secret) > len(secrets[found])) {
			at, found = i, name
		}
	}
	if at < 0 {
		return plan.Quote(value)
	}
	word := `"$` + found + `"`
	if at > 0 {
		word = plan.Quote(value[:at]) + word
	}
	if rest := value[at+len(secrets[found]):]; rest != "" {
		word += withSecrets(rest, names, secrets)
	}
	return word
}
