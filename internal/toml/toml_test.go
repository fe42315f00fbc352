package toml

import (
	"testing"

	library "github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
)

// tables are documents on the rules of defining keys and tables (TOML 1.0).
var tables = []string{
	"a = 1\na = 2\n", "a.b = 1\na.c = 2\n", "a.b = 1\na.b.c = 2\n", "a = 1\na.b = 2\n",
	"[a]\n[a]\n", "[a.b]\n[a]\n", "[a]\nb = 1\n[a.b]\n", "[a]\nb.c = 1\n[a.b]\n", "[a]\nb.c = 1\n[a.b.d]\n",
	"[a.b]\nx = 1\n[a]\nb.y = 2\n", "[a.b.c]\nz = 9\n[a]\nb.c.t = 1\n", "[a.b.c]\n[a]\nb.d = 1\n",
	"a = { b = 1 }\n[a]\n", "a = { b = 1 }\na.c = 2\n", "a = { b = 1 }\n[a.c]\n", "a = { b.c = 1, b.d = 2 }\n", "a = { b.c = 1, b.c = 2 }\n",
	"a = { b = 1, b.c = 2 }\n", "a = { b = { c = 1 }, b.d = 2 }\n", "[[a]]\n[[a]]\n", "[[a]]\n[a]\n", "[a]\n[[a]]\n",
	"a = []\n[[a]]\n", "[[a]]\n[a.b]\n[[a]]\n[a.b]\n", "[[a]]\nb.c = 1\n[[a.b]]\n", "[[a.b]]\n[a]\nc = 1\n", "[[a.b]]\n[a.b]\n",
	"a = [1, [2, 'x'], { b = 1 }]\n", "a = +1_000\nb = 0x1F\nc = 0o17\nd = 0b11\ne = 1e3\nf = inf\n", "a = 1979-05-27T07:32:00Z\nb = 07:32:00\n",
	"'' = 1\n", "\"a\\u0062\" = 1\nab = 2\n", "a = \"\"\"\\\n  x\"\"\"\n", "[a]\nb=1\n[c]\n[a.d]\n[a.d]\n",
}

func TestTableRulesAreThoseOfTOML(t *testing.T) {
	for _, text := range tables {
		t.Run(text, func(t *testing.T) { assertAgrees(t, text) })
	}
}

// assertAgrees checks that text is read, or refused, as the TOML library's own
// decoder does.
func assertAgrees(t *testing.T, text string) {
	t.Helper()
	var decoded map[string]any
	want := library.Unmarshal([]byte(text), &decoded)
	got := Parse([]byte(text))
	if want == nil {
		assert.Empty(t, got.Problems)
		assert.Equal(t, decoded, plain{text}.table(got.Root))
	} else {
		assert.NotEmpty(t, got.Problems, "the library says: %v", want)
	}
}

// plain gives what is in a text as the library's decoder does.
type plain struct{ text string }

func (p plain) table(t *Table) map[string]any {
	out := map[string]any{}
	for _, e := range t.Entries {
		out[e.Key] = p.value(&e.Value)
	}
	return out
}

func (p plain) value(v *Value) any {
	switch v.Kind {
	case KindText:
		return v.Text
	case KindInteger:
		n, _ := v.Whole()
		return n
	case KindFloat:
		return v.Number()
	case KindBool:
		return v.Bool()
	case KindTable:
		return p.table(v.Table)
	case KindList:
		items := []any{}
		for _, item := range v.List.Items {
			items = append(items, p.value(&item))
		}
		return items
	}
	var decoded map[string]any
	library.Unmarshal([]byte("x = "+p.text[v.At.Offset:v.At.end()]), &decoded)
	return decoded["x"]
}

func FuzzParse(f *testing.F) {
	for _, text := range tables {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, p := range Parse([]byte(text)).Problems {
			assert.NotEmpty(t, p.Msg)
			assert.GreaterOrEqual(t, int(p.At.Offset), 0)
			assert.LessOrEqual(t, p.At.end(), len(text))
		}
	})
}
