package project

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"tugline/internal/toml"
)

// Service says how a task is kept running that is a program which stays.
type Service struct {
	Ready   Ready
	Restart bool          // after it failed
	Grace   time.Duration // from asking it to end to killing it; 0: as for all programs
	Serve   *Serve        // it is the built-in page server; nil: it runs the scripts of the task
}

// Ready tells when a service is ready: when all that is given holds. The zero Ready
// holds at once.
type Ready struct {
	Port    Text           // a port, or host:port, unexpanded; empty: none
	HTTP    Text           // an address that answers, unexpanded; empty: none
	Log     *regexp.Regexp // matches a line that it prints; nil: none
	Run     Text           // a script that ends well; empty: none
	Timeout time.Duration  // 0: it is not said
}

// Serve says what the built-in page server serves.
type Serve struct {
	Span     Span
	Roots    []Text // folders, unexpanded, relative to the folder of the file
	Port     Text   // unexpanded; empty or 0: any that is free
	Host     Text   // unexpanded; empty: this machine alone
	Refresh  bool   // open pages reload by themselves
	NotFound Text   // the page that answers for what is not there, unexpanded; empty: none
}

// service returns what the keys of a service are read into.
func (t *Task) service() *Service {
	if t.Service == nil {
		t.Service = &Service{}
	}
	return t.Service
}

// Texts returns the texts of a service in which variables expand.
func (s *Service) Texts() []Text {
	texts := []Text{s.Ready.Port, s.Ready.HTTP}
	if s.Serve != nil {
		texts = append(append(texts, s.Serve.Port, s.Serve.Host, s.Serve.NotFound), s.Serve.Roots...)
	}
	return texts
}

// Restarts are the values of restart.
var Restarts = []string{"never", "on-failure"}

// readyKeys are the keys of ready.
var readyKeys = []key[*Ready]{
	{"port", formScalar, "A port, such as `8080` or `\"$PORT\"`, or `host:port`, that accepts connections.", func(d *decoder, r *Ready, e *toml.Entry) {
		r.Port = d.port(e)
	}},
	{"http", formText, "An address that answers with a status below 400.", func(d *decoder, r *Ready, e *toml.Entry) { r.HTTP = d.template(e) }},
	{"log", formText, "A regular expression that matches a line of its output.", func(d *decoder, r *Ready, e *toml.Entry) {
		t := d.text(e)
		pattern, err := regexp.Compile(t.Value)
		if err != nil {
			d.report(t.Span, "the syntax is that of Go's package regexp", "%q is no regular expression: %s", e.Key, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
			return
		}
		r.Log = pattern
	}},
	{"run", formText, "A script that ends well. It must change nothing.", func(d *decoder, r *Ready, e *toml.Entry) { r.Run = d.text(e) }},
	{"timeout", formText, "How long that may take, such as `\"1m\"`; 30 seconds when left out.", func(d *decoder, r *Ready, e *toml.Entry) { r.Timeout = d.duration(e) }},
}

// serveKeys are the keys of serve.
var serveKeys = []key[*Serve]{
	{"roots", formTexts, "The folders that are looked through, in this order; the first hit wins.", func(d *decoder, s *Serve, e *toml.Entry) {
		d.eachText(e, func(t Text) {
			if err := t.checkTemplate(); err != nil {
				d.report(t.Span, `write \$ for a plain dollar`, "%s", err)
			}
			s.Roots = append(s.Roots, t)
		})
	}},
	{"port", formScalar, "The port; any that is free when left out or `0`.", func(d *decoder, s *Serve, e *toml.Entry) { s.Port = d.port(e) }},
	{"host", formText, "The address at which it listens; `\"127.0.0.1\"`, this machine alone, when left out; `\"0.0.0.0\"` is the network.", func(d *decoder, s *Serve, e *toml.Entry) {
		s.Host = d.template(e)
	}},
	{"refresh", formBool, "Open pages reload by themselves, and take over style sheets without that.", func(d *decoder, s *Serve, e *toml.Entry) { s.Refresh = d.yes(e) }},
	{"not_found", formText, "The page, below the roots, that answers for what is not there.", func(d *decoder, s *Serve, e *toml.Entry) {
		s.NotFound = d.template(e)
	}},
}

// port reads a port: a number, or a text in which variables expand.
func (d *decoder) port(e *toml.Entry) Text {
	if e.Value.Kind != toml.KindInteger {
		return d.template(e)
	}
	n, _ := e.Value.Whole()
	if n < 0 || n > 65535 {
		d.report(d.at(e.Value.At), "", "%q must be a port from 0 to 65535, not %d", e.Key, n)
	}
	return Text{Value: strconv.FormatInt(int64(n), 10), Span: d.at(e.Value.At)}
}

// serve reads what the page server serves.
func (d *decoder) serve(e *toml.Entry) *Serve {
	s := &Serve{Span: d.at(e.At)}
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return s
	}
	decodeTable(d, e.Value.Table, serveKeys, s, "key of serve")
	if len(s.Roots) == 0 && len(d.file.skipped) == 0 {
		d.report(d.at(e.At), `such as { roots = ["build"] }`, "%q names no roots", e.Key)
	}
	return s
}

// checkService reports keys of a service that do not go together, and makes what it
// serves files that it reads.
func (d *decoder) checkService(t *Task, has func(key string) bool, report func(key, hint, format string, args ...any)) {
	if t.Service == nil {
		return
	}
	serves := t.Service.Serve != nil
	stays := t.stays || serves
	for _, key := range []string{"ready", "restart", "grace"} {
		switch {
		case !has(key):
		case !stays:
			report(key, `give it "stays = true"`, "%q goes with a service, and task %q is none", key, t.Name)
		case serves && key == "ready":
			report(key, "the page server is ready once it listens", "task %q has \"serve\", so it cannot have %q", t.Name, key)
		}
	}
	if !stays {
		t.Service = nil
		return
	}
	if serves && (has("run") || has("os") || has("calls")) {
		report("serve", "let another task run the commands", "task %q has commands, so it cannot have \"serve\"", t.Name)
	}
	if !serves && t.IsGroup() {
		report("stays", `it goes with "run"`, "\"stays\" has nothing to keep running in task %q", t.Name)
	}
	for _, key := range []string{"writes", "retry", "timeout", "terminal", "always", "depfile", "clear_writes", "hold_until", "then", "if_failed", "finally", "at_end"} {
		if has(key) {
			report(key, "give it to a task that the service needs, or that needs it", "task %q is a service, so it cannot have %q", t.Name, key)
		}
	}
	if serves {
		var roots Paths
		for _, root := range t.Service.Serve.Roots {
			roots.Globs = append(roots.Globs, Glob{Text: Text{Value: strings.TrimSuffix(root.Value, "/") + "/", Span: root.Span}})
		}
		roots.Span = t.Service.Serve.Span
		t.Reads = append(t.Reads, roots)
	}
}
