package depfile

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	tests := []struct {
		name, text string
		want       []string
	}{
		{"one rule", "a.o: a.c a.h\n", []string{"a.c", "a.h"}},
		{"lines that go on", "a.o: a.c \\\n  inc/a.h \\\n\tinc/b.h\n", []string{"a.c", "inc/a.h", "inc/b.h"}},
		{"phony rules for each header", "a.o: a.c a.h\n\na.h:\n", []string{"a.c", "a.h"}},
		{"several targets", "a.o a.d : a.c\nb.o b.d: b.c a.c\n", []string{"a.c", "b.c"}},
		{"spaces and signs", `a.o: my\ file.c c\#.h a$$b.h ` + "\n", []string{"my file.c", "c#.h", "a$b.h"}},
		{"a backslash before a space", `a.o: odd\\\ name.c` + "\n", []string{`odd\ name.c`}},
		{"drives and backslashes", `C:\out\a.o: C:\src\a.c D:/inc/a.h` + "\n", []string{`C:\src\a.c`, `D:/inc/a.h`}},
		{"other line ends", "a.o: a.c \\\r\n a.h\r\n", []string{"a.c", "a.h"}},
		{"a comment", "# made\na.o: a.c\n", []string{"a.c"}},
		{"a path a line", "tides/merrowick.csv\n\nmy file.csv\n", []string{"tides/merrowick.csv", "my file.csv"}},
		{"no line end", "x.csv", []string{"x.csv"}},
		{"nothing", "", nil},
		{"a target alone", "a.o:", nil},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			got, err := Parse(test.text)
			require.NoError(t, err)
			assert.Equal(t, test.want, got)
		})
	}
	_, err := Parse("a.o: a.c\nb.c\n")
	assert.EqualError(t, err, "line 2 is no rule: it has no colon")
	_, err = Parse("\x7fELF\x00")
	assert.ErrorIs(t, err, ErrBinary)
}

// What a compiler writes of names that are hard to write is read.
func TestParseWhatACompilerWrites(t *testing.T) {
	cc, err := exec.LookPath("cc")
	if err != nil {
		t.Skip("there is no C compiler: cc")
	}
	dir := t.TempDir()
	names := []string{"plain.h", "two words.h", "hash#.h", "dollar$.h", `back\slash.h`, `odd\ .h`}
	source := ""
	for _, name := range names {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
		source += "#include \"" + name + "\"\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.c"), []byte(source), 0o644))
	cmd := exec.Command(cc, "-MD", "-MP", "-MF", "main.d", "-c", "main.c")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	text, err := os.ReadFile(filepath.Join(dir, "main.d"))
	require.NoError(t, err)
	got, err := Parse(string(text))
	require.NoError(t, err)
	assert.Subset(t, got, append(names, "main.c"), "%s", text)
}
