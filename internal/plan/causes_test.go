package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tugline/internal/project"
)

// patterns makes a project of lines such as "name: reads… > writes…". A line "name!" is
// on request; "name NEED: …" needs another task.
func patterns(lines string) string {
	var b strings.Builder
	for line := range strings.Lines(lines) {
		name, files, found := strings.Cut(strings.TrimSpace(line), ":")
		if !found {
			continue
		}
		name, need, _ := strings.Cut(name, " ")
		name, onRequest := strings.CutSuffix(name, "!")
		reads, writes, _ := strings.Cut(files, ">")
		fmt.Fprintf(&b, "[task.%s]\nrun = 'x'\non_request = %v\n", name, onRequest)
		for key, list := range map[string]string{"reads": reads, "writes": writes, "needs": need} {
			if words := strings.Fields(list); len(words) > 0 {
				fmt.Fprintf(&b, "%s = ['%s']\n", key, strings.Join(words, "', '"))
			}
		}
		if strings.Contains(files, "$day") {
			b.WriteString("each.day = { list = ['2026-10-01', '2026-10-02', '2026-11-01'] }\n")
		}
	}
	return b.String()
}

// Patterns as projects have them bring in what is needed, and nothing else.
func TestPatternsBringInWhatIsNeeded(t *testing.T) {
	frontEnd := `install: package.json package-lock.json > node_modules/
		compile: src/**/*.{ts,tsx} node_modules/** tsconfig.json > dist/js/**/*.js
		styles: src/**/*.scss > dist/css/*.css
		images: assets/**/*.{png,svg} > dist/img/
		bundle: dist/js dist/css > public/app.js public/app.css
		icons: assets/icons/*.svg > public/icons.svg
		test: src/** test/** node_modules/**
		format: src/** > src/**`
	hashed := `bundle: src/** > dist/assets/*.{js,css}
		maps: src/** > dist/maps/*.map
		manifest: dist/assets/* > dist/manifest.json
		html: dist/manifest.json pages/*.html > dist/*.html
		site: dist > site.tar`
	c := `version: VERSION > include/version.h
		objects: src/*.c include/*.h > obj/*.o
		lib: obj/*.o !obj/main.o > lib/libtide.a
		app: obj/main.o lib/*.a > bin/tide
		tests: tests/*.c lib/*.a > bin/test-*
		run-tests: bin/test-*
		api-docs: include/*.h > docs/api/
		man: man/*.in > man/*.1`
	goModules := `generate: api/*.proto > gen/api/*.go
		mocks: internal/**/*.go !internal/mocks/** > internal/mocks/*.go
		format: **/*.go > **/*.go
		station: station/**/*.go gen/**/*.go go.work > station/bin/station
		courier: courier/**/*.go go.work > courier/bin/courier
		tide: tide/**/*.go gen/**/*.go go.work > tide/bin/tide
		image: station/bin/* tide/bin/* Imagefile > image.tar
		vet: **/*.go !**/*_test.go`
	data := `fetch!: > raw/*.csv
		clean: raw/*.csv > clean/*.csv
		features: clean/*.csv lookups/** > features/{train,test}/*.csv
		model: features/train/** > models/m.bin
		report: models/*.bin features/test/** templates/*.html > reports/index.html
		audit: clean/** > reports/audit.txt
		mail report: > `
	days := `part: raw/$day/*.csv > daily/$day/part.csv
		october: daily/2026-10-*/part.csv > october.csv
		all-days: daily/*/part.csv > all.csv
		log: > daily/log.txt`
	site := `pages: content/**/*.md theme/** > site/**/*.html
		feed: content/**/*.md > site/feed.xml
		style: theme/*.css > site/style.css
		check: site/**/*.html
		deploy: site/
		stamp: > build/version.txt
		scratch: > build/tmp/x
		pack: build/** !build/tmp/** > pack.tar`
	coverage := `unit: src/** > coverage/unit.json
		integration: src/** fixtures/** > coverage/integration.json
		merge: coverage/*.json > coverage/report/index.html
		badge: coverage/report/** > badge.svg
		logs: src/** > coverage/run.log`
	years := `this-year: raw/2026/*.csv > db/2026.sqlite
		last-year: raw/2025/*.csv > db/2025.sqlite
		schema: schema/*.sql > db/schema.txt
		union: db/20{25,26}.sqlite > all.sqlite
		backup: db > backup.tar`
	generated := `lexer: src/tide.l > gen/lexer.c
		parser: src/tide.y > gen/parser.c gen/parser.h
		objects: src/*.c gen/*.c gen/*.h > obj/
		link: obj/*.o > bin/tide
		grammar-docs: src/*.y > doc/grammar.txt`
	tests := []struct{ name, lines, ask, want string }{
		{"front end, what is shipped", frontEnd, "bundle", "bundle compile install styles"},
		{"front end, tests", frontEnd, "test", "install test"},
		{"front end with hashed names", hashed, "html", "bundle html manifest"},
		{"front end, all of a folder", hashed, "site", "bundle html manifest maps site"},
		{"C, the program", c, "app", "app lib objects version"},
		{"C, the tests", c, "run-tests", "lib objects run-tests tests version"},
		{"C, documents of the headers", c, "api-docs", "api-docs version"},
		{"Go, a program of a module", goModules, "courier", "courier"},
		{"Go, several modules", goModules, "image", "generate image station tide"},
		{"Go, a check of all sources", goModules, "vet", "generate mocks vet"},
		{"data, the report", data, "mail", "clean features mail model report"},
		{"data, a side branch", data, "audit", "audit clean"},
		{"data by day", days, "october", "october part part"},
		{"coverage of several runs", coverage, "badge", "badge integration merge unit"},
		{"data by year", years, "union", "last-year this-year union"},
		{"data, all of it", years, "backup", "backup last-year schema this-year"},
		{"C with generated sources", generated, "link", "lexer link objects parser"},
		{"pages alone", site, "check", "check pages"},
		{"the whole site", site, "deploy", "deploy feed pages style"},
		{"but what is taken away", site, "pack", "pack stamp"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			req := Request{OS: "linux", Calls: []project.Call{{Text: test.ask, Name: test.ask}}}
			pl, err := New(load(t, patterns(test.lines)), req)
			require.NoError(t, err)
			var names []string
			causes := pl.Causes()
			for _, s := range pl.Steps {
				if s.Works() {
					names = append(names, s.Task.Name)
					assert.NotEmpty(t, causes[s], "why is %s in the plan?", s.Name)
				}
			}
			slices.Sort(names)
			assert.Equal(t, test.want, strings.Join(names, " "))
		})
	}
}

// A plan knows why a step is in it. The order of the command line is no reason.
func TestCauses(t *testing.T) {
	text := `
[task.lib]
reads = "src/*.c"
writes = "lib/x.a"
run = "x"
[task.app]
needs = ["gen"]
reads = "lib/*.a"
run = "x"
[task.gen]
run = "x"
[task.release]
calls = ["app", "tell"]
then = ["note"]
[task.tell]
run = "x"
[task.note]
run = "x"
`
	req := Request{OS: "linux"}
	for _, name := range []string{"gen", "release"} {
		req.Calls = append(req.Calls, project.Call{Text: name, Name: name})
	}
	pl, err := New(load(t, text), req)
	require.NoError(t, err)
	got := map[string][]string{}
	for s, causes := range pl.Causes() {
		if !s.Works() {
			continue
		}
		for _, c := range causes {
			text := string(c.Kind)
			if c.By != nil {
				text += " " + c.By.Name + " " + c.Place.String()
			}
			if c.Kind == ReadsIt {
				text += " " + c.Write.Text.Value + " " + c.Read.Text.Value
			}
			got[s.Name] = append(got[s.Name], strings.ReplaceAll(text, "tugline.toml", ""))
		}
	}
	assert.Equal(t, map[string][]string{
		"gen": {"requested", "needs app :7:10"}, "lib": {"reads app :8:9 lib/x.a lib/*.a"},
		"app": {"calls release :13:10"}, "tell": {"calls release :13:17"}, "note": {"then release :14:9"},
	}, got)
}
