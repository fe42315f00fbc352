package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// read returns what words mean for somebody who stands in a folder: the calls with
// their arguments, then Tugline's own options that were set.
func read(t *testing.T, folder string, words []string) (string, error) {
	t.Helper()
	a := &app{env: Env{Folder: folder}, stood: folder}
	root := a.root()
	root.LocalFlags() // has the library gather them all, as a call does
	flags := allFlags(root)
	p, r, err := a.readWords(flags, words)
	if err != nil {
		return "", err
	}
	var out []string
	for _, c := range r.calls {
		text := c.Name
		for _, arg := range c.Args {
			value, _ := arg.Value.Fixed()
			text += fmt.Sprintf(" %s=<%s>", arg.Name, value)
		}
		for _, w := range c.Rest {
			value, _ := w.Fixed()
			text += fmt.Sprintf(" +<%s>", value)
		}
		out = append(out, text)
	}
	for _, name := range []string{"jobs", "quiet", "force", "set", "output"} {
		if f := flags.Lookup(name); f.Changed {
			out = append(out, "--"+name+" "+f.Value.String())
		}
	}
	if p != nil && p.Folder != folder {
		rel, err := filepath.Rel(folder, p.Folder)
		require.NoError(t, err)
		out = append(out, "in "+filepath.ToSlash(rel))
	}
	return strings.Join(out, "; "), nil
}

func TestReadWords(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"tugline.toml": `
[task.tides]
run = 'echo "$@"'
args.more = { rest = true }
args.port = { default = "merrowick" }
args.fast = { type = "flag" }
args.jobs = { default = "1" }
args.chart = { type = "file", default = "c" }
[task.page]
run = "true"
folder = "pages"
args.source = { type = "file", default = "c" }
`,
		"other/tugline.toml": "[task.tides]\nrun = 'true'\nargs.far = { default = '0' }\n",
		"other/named.toml":   "[task.tides]\nrun = 'true'\nargs.named = { default = '0' }\n",
		"pages/a":            "",
	} {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	tests := []struct {
		name, from, words string // words are parted by blanks; _ is a blank in one of them
		want              string // or the error
	}{
		{"one task", "", "tides", "tides"},
		{"two, each with its own", "", "tides --port saltreach tides --port=merrowick page", "tides port=<saltreach>; tides port=<merrowick>; page"},
		{"a value with blanks and an equals sign", "", "tides --port=a_b=c", "tides port=<a b=c>"},
		{"an empty value", "", "tides --port= --fast", "tides port=<> fast=<true>"},
		{"Tugline's option before the task", "", "-j 3 --set A=1 tides", "tides; --jobs 3; --set [A=1]"},
		{"Tugline's behind it", "", "tides -qj3 --force", "tides; --jobs 3; --quiet true; --force true"},
		{"the task's goes before Tugline's", "", "tides --jobs 3", "tides jobs=<3>"},
		{"that of another task does not", "", "tides page --jobs 3", "tides; page; --jobs 3"},
		{"words behind --", "", "tides --fast -- --port x -j", "tides fast=<true> +<--port> +<x> +<-j>"},
		{"a second -- is a word", "", "tides -- --", "tides +<-->"},
		{"a value that looks like an option", "", "tides --port --fast", "tides port=<--fast>"},
		{"-C before", "", "-C other tides --far 1", "tides far=<1>; in other"},
		{"-C behind", "", "tides -C other --far 1", "tides far=<1>; in other"},
		{"another file", "", "tides --file other/named.toml --named 1", "tides named=<1>; in other"},
		{"a file, from where one stands", "", "tides --chart pages/a", "tides chart=<pages/a>"},
		{"a file, from a folder below", "pages", "tides --chart a", "tides chart=<pages/a>; in .."},
		{"a file of a task that runs below", "", "page --source pages/a", "page source=<a>"},
		{"an option of nobody", "", "tides --prot x", `neither task "tides" nor Tugline has an option --prot`},
		{"an option of nobody before the task", "", "--prot tides", "there is no option --prot"},
		{"no value", "", "tides --port", `--port of task "tides" needs a value`},
		{"no value for Tugline", "", "tides -j", "-j needs a value"},
		{"no number", "", "tides page -j x", `--jobs takes a whole number, not "x"`},
		{"no task before --", "", "-- x", "words after -- need a task before them"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			words := strings.Fields(test.words)
			for i, w := range words {
				words[i] = strings.ReplaceAll(w, "_", " ")
			}
			got, err := read(t, filepath.Join(dir, test.from), words)
			if err != nil {
				got = err.Error()
			}
			assert.Equal(t, test.want, got)
		})
	}
}
