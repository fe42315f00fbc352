package fingerprint

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/files"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// of returns the fingerprint of the task t of a project file in a folder.
func of(t *testing.T, top, text string, found ...files.Found) Fingerprint {
	t.Helper()
	p, err := project.Parse(top+"/tugline.toml", "tugline.toml", []byte(text))
	require.NoError(t, err)
	pl, err := plan.New(p, plan.Request{Calls: []project.Call{{Name: "t"}}, OS: "linux", Jobs: 3, From: top, Env: []string{"CALLER=x", "HOME=/home"}})
	require.NoError(t, err)
	s := pl.Steps[len(pl.Steps)-1]
	fp := Compute(s, s.Inputs(), sumOf(found), World{
		Top: top, OS: "linux", Arch: "amd64", Keyed: func(v string) (string, bool) { return "keyed " + v, v != "no key" }, Hidden: func(v string) string {
			return strings.NewReplacer("alpha", "•••", "beta", "•••").Replace(v)
		},
	})
	fp.Files = Files(found)
	return fp
}

// sumOf stands for the sum that the tree of files gives.
func sumOf(found []files.Found) files.Digest {
	var text []byte
	for _, f := range Files(found) {
		text = append(text, f.Path+" "+f.Mark+"\n"...)
	}
	return files.Sum(text)
}

const base = "[env]\nA = '1'\nLIB = '$TUGLINE_PROJECT/lib'\n[task.t]\nargs.port = { default = 'merrowick' }\nfolder = 'work'\nreads.raw = 'x'\nreads.more = 'y'\nwrites = 'out/*'\nrun = 'one'\n"

func TestWhatCounts(t *testing.T) {
	x := files.Found{Path: "x", Kind: files.File, Mode: 0o644, Digest: files.Digest{1}}
	was := of(t, "/almanac", base, x)
	assert.Equal(t, was.Sum, of(t, "/elsewhere/almanac", base, x).Sum, "where the project lies does not count")
	assert.Equal(t, was.Sum, of(t, "/almanac", "title = 'x'\njobs = 7\n"+base+"about = 'new'\n[task.other]\nrun = 'x'\n", x).Sum)
	run, link, other, elsewhere := x, x, x, x
	run.Mode, link.Kind, other.Digest, elsewhere.Path = 0o755, files.Link, files.Digest{2}, "y"
	tests := []struct {
		name string
		now  Fingerprint
		want []string
	}{
		{"a command", of(t, "/almanac", replace("'one'", "'two'"), x), []string{"command changed"}},
		{"another command", of(t, "/almanac", replace("'one'", "['one', 'two']"), x), []string{"number of commands changed"}},
		{"the shell", of(t, "/almanac", "shell = 'bash'\n"+base, x), []string{"shell is bash, it was auto"}},
		{"the folder", of(t, "/almanac", replace("'work'", "'play'"), x), []string{"folder is play, it was work"}},
		{"an argument", of(t, "/almanac", replace("'merrowick'", "'saltreach'"), x), []string{`--port is "saltreach", it was "merrowick"`}},
		{"a variable", of(t, "/almanac", replace("A = '1'", "A = '2'"), x), []string{`A is "2", it was "1"`}},
		{"a new variable", of(t, "/almanac", replace("A = '1'", "A = '1'\nB = ''"), x), []string{`B is "", it was not declared`}},
		{"what it reads of the environment", of(t, "/almanac", replace("run = 'one'", "reads_env = ['NONE', 'CALLER', 'A']\nrun = 'one'"), x), []string{`CALLER is "x", it was not declared`, "NONE is not set, it was not declared", `LIB is not declared, it was "$TUGLINE_PROJECT/lib"`}},
		{"what it writes", of(t, "/almanac", replace("'out/*'", "'out'"), x), []string{"its declared writes changed"}},
		{"names of paths change places", of(t, "/almanac", replace("reads.raw = 'x'\nreads.more = 'y'", "reads.raw = 'y'\nreads.more = 'x'"), x), []string{`more is "../x", it was "../y"`, `raw is "../y", it was "../x"`}},
		{"a dollar that means none", of(t, "/almanac", replace("'$TUGLINE_PROJECT/lib'", `'\$TUGLINE_PROJECT/lib'`), x), []string{`LIB is "$TUGLINE_PROJECT/lib", it was "$TUGLINE_PROJECT/lib"`}},
		{"a path beside the project", of(t, "/almanac", replace("'$TUGLINE_PROJECT/lib'", "'/almanac2/lib'"), x), []string{`LIB is "/almanac2/lib", it was "$TUGLINE_PROJECT/lib"`}},
		{"the path of the project in full", of(t, "/almanac", replace("'$TUGLINE_PROJECT/lib'", "'/almanac/lib'"), x), nil},
		{"a secret value in a plain one", of(t, "/almanac", replace("A = '1'", "A = 'an alpha'"), x), []string{`A is secret, it was "1"`}},
		{"no file", of(t, "/almanac", base), []string{"x is gone"}},
		{"another file", of(t, "/almanac", base, elsewhere), []string{"x is gone", "y is new"}},
		{"other text", of(t, "/almanac", base, other), []string{"x changed"}},
		{"it may be run", of(t, "/almanac", base, run), []string{"x changed"}},
		{"a link", of(t, "/almanac", base, link), []string{"x changed"}},
		{"nothing", was, nil},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			var texts []string
			for _, r := range Compare(was, test.now) {
				texts = append(texts, r.Text)
			}
			assert.Equal(t, test.want, texts)
			assert.Equal(t, test.want == nil, was.Sum == test.now.Sum)
		})
	}
}

func replace(old, now string) string {
	at := len(base)
	for i := range base {
		if i+len(old) <= len(base) && base[i:i+len(old)] == old {
			at = i
		}
	}
	return base[:at] + now + base[at+len(old):]
}

func TestASecretCountsOnlyAsADigestAndWhenItIsTracked(t *testing.T) {
	text := "env.KEY = { value = 'k-1', secret = true }\n[task.t]\nrun = 'x'\n"
	assert.Equal(t, of(t, "/a", text).Sum, of(t, "/a", "env.KEY = { value = 'k-2', secret = true }\n[task.t]\nrun = 'x'\n").Sum)
	tracked := of(t, "/a", text+"reads_env = 'KEY'\n")
	assert.Contains(t, tracked.Items, Item{"variable", "KEY", "secret, keyed k-1"})
	changed := tracked
	changed.Items = append([]Item{}, tracked.Items...)
	changed.Items[len(changed.Items)-1].Value = "secret, keyed k-2"
	assert.Equal(t, []Reason{{Kind: "variable", What: "KEY", Text: "the secret KEY changed"}}, Compare(tracked, changed))
}

// What is of another day or another machine does not count, the text does.
func TestTheTextOfAReferenceCounts(t *testing.T) {
	of := func(value string, env ...string) Fingerprint {
		text := "[env]\nA = '" + value + "'\nDEEP = '$A'\nKEY = { must_be_set = true, secret = true }\n[task.t]\nreads = 'x'\nrun = 'x'\n"
		p, err := project.Parse("/almanac/tugline.toml", "tugline.toml", []byte(text))
		require.NoError(t, err)
		jobs := len(env)
		pl, err := plan.New(p, plan.Request{Calls: []project.Call{{Name: "t"}}, OS: "linux", Jobs: jobs, Run: strings.Join(env, "-"), From: "/from/" + strings.Join(env, ""), Env: append(env, "KEY=k")})
		require.NoError(t, err)
		s := pl.Steps[0]
		return Compute(s, s.Inputs(), files.Digest{}, World{Top: "/almanac", Keyed: func(v string) (string, bool) { return v, true }, Hidden: func(v string) string { return v }})
	}
	for _, value := range []string{"bin:$PATH", "-j$TUGLINE_JOBS", "$TUGLINE_RUN", "$TUGLINE_FROM/x", "Bearer $KEY", "${PATH:-none}"} {
		assert.Equal(t, of(value, "PATH=/bin").Sum, of(value, "PATH=/usr/bin", "KEY=k2").Sum, value)
	}
	assert.NotEqual(t, of("bin:$PATH", "PATH=/bin").Sum, of("lib:$PATH", "PATH=/bin").Sum)
	assert.NotEqual(t, of("${PATH:-none}", "PATH=").Sum, of("${PATH:-none}", "PATH=/bin").Sum, "whether it is set decides")
	now, was := of("lib:$PATH", "PATH=/bin"), of("bin:$PATH", "PATH=/bin")
	assert.Equal(t, `A is "lib:$PATH", it was "bin:$PATH"`, Compare(was, now)[0].Text)
}

func TestASecretWithoutAKeyIsUnknown(t *testing.T) {
	fp := of(t, "/a", "env.KEY = { value = 'no key', secret = true }\n[task.t]\nreads_env = 'KEY'\nrun = 'x'\n")
	assert.Equal(t, []string{"KEY"}, fp.Unknown)
}

func TestSecretsInPlainValuesAreToldApart(t *testing.T) {
	text := "env.A = 'alpha'\n[task.t]\nrun = 'x'\n"
	alpha, beta := of(t, "/a", text), of(t, "/a", strings.Replace(text, "alpha", "beta", 1))
	assert.NotEqual(t, alpha.Sum, beta.Sum)
	assert.Equal(t, []Reason{{Kind: "variable", What: "A", Text: "the secret A changed"}}, Compare(alpha, beta))
}

func TestCompareFilesTellsOfOutputs(t *testing.T) {
	prev := []File{{Path: "a", Mark: "1"}, {Path: "b", Mark: "2"}}
	assert.Equal(t, []Reason{
		{Kind: "output", What: "a", From: "1", Text: "output a is missing"},
		{Kind: "output", What: "b", From: "2", To: "3", Text: "output b was changed"},
		{Kind: "output", What: "c", To: "4", Text: "unexpected output c"},
	}, CompareFiles("output", prev, []File{{Path: "b", Mark: "3"}, {Path: "c", Mark: "4"}}))
}
