package glob

import (
	"fmt"
	"path"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func ExampleSet_Match() {
	s, _ := Compile([]Pattern{{Text: "gauges"}, {Text: "**/*.tmp", Not: true}})
	fmt.Println(s.Match("gauges/merrowick.csv"), s.Match("gauges/old/a.tmp"), s.Match("pages"))
	// Output: true false false
}

// paths are all paths of up to three of a few telling names.
func paths() []string {
	names := []string{"a", "b", "ab", "a.csv", "b.csv", ".x", "größe", "*", "a{b", "a]", "]", "-"}
	all := append([]string{}, names...)
	for range 2 {
		for _, p := range all {
			for _, n := range names {
				if strings.Count(p, "/") < 2 {
					all = append(all, p+"/"+n)
				}
			}
		}
	}
	return all
}

var patterns = []string{
	"a", "b", "a/b", "*", "**", "a/**", "**/a", "**/*.csv", "*.csv", "a*", "*b", "a/*/b", "a/**/b", "**/a/**", "?", "??", "[ab]", "[!a]", "[a-b].csv", "{a,b}",
	"{a,b}/*.csv", "{a/b,**/.x}", "gr?ße", "*[.]csv", `\*`, `a\{b`, "a.{csv,x}", "a/", "./a", "*a*", "a*v", "{a,ab}*", "**/b/*", "[^a-z]*", "a*.csv", `a[\]x]`, `[\]]`, "[a-c-e]", `[!\]]`, `*[\--.]`,
}

// A pattern matches what the library says, and all below that.
func TestMatchAgreesWithTheLibrary(t *testing.T) {
	for _, pattern := range patterns {
		s, err := Compile([]Pattern{{Text: pattern}})
		require.NoError(t, err)
		for _, p := range paths() {
			want := false
			for up := p; up != "."; up = path.Dir(up) {
				want = want || doublestar.MatchUnvalidated(path.Clean(pattern), up)
			}
			assert.Equal(t, want, s.Match(p), "%s and %s", pattern, p)
		}
	}
}

func TestAUnionMeansWhatOneOfItsPatternsDoes(t *testing.T) {
	for i := range patterns {
		some := []string{patterns[i], patterns[(i+1)%len(patterns)], patterns[(i+7)%len(patterns)]}
		u, err := NewUnion(some)
		require.NoError(t, err)
		for _, p := range append(paths(), "../a", "../a/b") {
			want := false
			for _, pattern := range some {
				s, err := Compile([]Pattern{{Text: pattern}})
				require.NoError(t, err)
				want = want || s.Match(p)
			}
			assert.Equal(t, want, u.Match(p), "%q and %s", some, p)
		}
	}
	u, err := NewUnion([]string{"../a", "./b/"})
	require.NoError(t, err)
	assert.True(t, u.Match("../a/x") && u.Match("b/x") && !u.Match("a/x"))
	_, err = NewUnion([]string{"a/[b"})
	assert.Error(t, err)
}

func TestOverlapIsTrueIfOnePathIsMeantByBoth(t *testing.T) {
	all := paths()
	meant := make([]map[string]bool, len(patterns))
	for i, pattern := range patterns {
		s, _ := Compile([]Pattern{{Text: pattern}})
		meant[i] = map[string]bool{}
		for _, p := range all {
			if s.Match(p) {
				meant[i][p] = true
			}
		}
	}
	found := 0
	for i, a := range patterns {
		for k, b := range patterns {
			shared := false
			for p := range meant[i] {
				shared = shared || meant[k][p]
			}
			if shared {
				found++
				assert.True(t, Overlap(a, b), "%s and %s", a, b)
			}
		}
	}
	assert.Greater(t, found, 100)
	for _, pair := range [][2]string{
		{"a", "b"}, {"a/*.csv", "a/*.svg"}, {"a/**/x", "b/**"}, {"[a-c]", "[d-f]"}, {"a?", "a"}, {"x{1,2}", "x{3,4}"}, {"a*b", "a*c"}, {"[!a]", "a"}, {"build/*-1.csv", "build/*-2.csv"},
	} {
		assert.False(t, Overlap(pair[0], pair[1]), "%q", pair)
		assert.False(t, Overlap(pair[1], pair[0]), "%q", pair)
	}
}

func TestAFileIsAFolderOnlyForWhatBeginsWithIt(t *testing.T) {
	for _, test := range []struct {
		file, other string
		want        bool
	}{
		{"bin/a", "**/*.go", false},
		{"bin/a", "bin/*", true},
		{"bin/a", "bin/**", true},
		{"bin/a", "bin/a/*.go", true},
		{"bin/a", "bin/a/x.go", true},
		{"bin/a", "bin", true},
		{"bin/a", "bin/*/x", false},
		{"out/main.go", "**/*.go", true},
		{`bin/\*`, `bin/\*/x?`, true},
	} {
		t.Run(test.file+" "+test.other, func(t *testing.T) {
			file, other := Side{Pattern: test.file, File: true}, Side{Pattern: test.other}
			assert.Equal(t, test.want, file.Overlaps(other))
			assert.Equal(t, test.want, other.Overlaps(file))
			if test.want {
				assert.True(t, Overlap(test.file, test.other))
			}
		})
	}
}

func TestTheLastPatternThatMatchesCounts(t *testing.T) {
	s, err := Compile([]Pattern{{Text: "src"}, {Text: "src/gen", Not: true}, {Text: "src/gen/keep.go"}})
	require.NoError(t, err)
	for p, want := range map[string]bool{"src/a.go": true, "src/gen/b.go": false, "src/gen/keep.go": true, "other": false} {
		assert.Equal(t, want, s.Match(p), p)
	}
}

func TestBadPatterns(t *testing.T) {
	for _, pattern := range []string{"a[", "{a", "a/[b/c]/d", "{[a,b],c}", "[]", strings.Repeat("{a,b}", 12), strings.Repeat("a/", 80)} {
		assert.Error(t, Check(pattern), pattern)
	}
}

func TestBaseAndEscape(t *testing.T) {
	for pattern, want := range map[string]string{"a/b": "a/b", "a/*.csv": "a", "*": "", "a/b*/c": "a", `a/\*b/c?`: "a/*b", `a\*`: "a*"} {
		base, _ := Base(pattern)
		assert.Equal(t, want, base, pattern)
	}
	for _, text := range []string{`a*?[]{}\b`, "plain"} {
		s, err := Compile([]Pattern{{Text: Escape(text)}})
		require.NoError(t, err)
		assert.True(t, s.Match(text))
		base, plain := Base(Escape(text))
		assert.Equal(t, text, base)
		assert.True(t, plain)
	}
}

func FuzzOverlap(f *testing.F) {
	f.Add("a/*.csv", "a/b.csv", "a/b.csv")
	f.Fuzz(func(t *testing.T, a, b, p string) {
		if Check(a) != nil || Check(b) != nil || p != path.Clean(p) || strings.HasPrefix(p, "/") || strings.HasPrefix(p, "..") {
			return
		}
		x, err := Compile([]Pattern{{Text: a}})
		require.NoError(t, err)
		y, err := Compile([]Pattern{{Text: b}})
		require.NoError(t, err)
		if x.Match(p) && y.Match(p) && !strings.Contains(a+b, "..") {
			assert.True(t, Overlap(a, b), "%q and %q share %q", a, b, p)
		}
	})
}
