package project

import (
	"time"

	"tugline/internal/toml"
)

// Hold is what a task waits for before it starts: all that is given.
type Hold struct {
	Span    Span
	Port    Text          // a port, or host:port, unexpanded; empty: none
	HTTP    Text          // an address that answers, unexpanded; empty: none
	File    Text          // a path, unexpanded, relative to the folder of the file; empty: none
	Run     Text          // a script that ends well; empty: none
	Every   time.Duration // from one look to the next
	Timeout time.Duration // how long it waits at most
}

// How often it is looked whether a task may start, and how long, if nothing is said.
const (
	holdEvery   = 2 * time.Second
	holdTimeout = 5 * time.Minute
)

// holdKeys are the keys of hold_until.
var holdKeys = []key[*Hold]{
	{"port", formScalar, "A port, such as `8080` or `\"$PORT\"`, or `host:port`, that accepts connections.", func(d *decoder, h *Hold, e *toml.Entry) {
		h.Port = d.port(e)
	}},
	{"http", formText, "An address that answers with a status below 400.", func(d *decoder, h *Hold, e *toml.Entry) { h.HTTP = d.template(e) }},
	{"file", formText, "A file or folder that is there, relative to the folder of the project file.", func(d *decoder, h *Hold, e *toml.Entry) { h.File = d.template(e) }},
	{"run", formText, "A script that ends well. It must change nothing.", func(d *decoder, h *Hold, e *toml.Entry) { h.Run = d.text(e) }},
	{"every", formText, "From one look to the next, such as `\"500ms\"`; 2 seconds when left out.", func(d *decoder, h *Hold, e *toml.Entry) { h.Every = d.duration(e) }},
	{"timeout", formText, "How long that may take, such as `\"10m\"`; 5 minutes when left out. Then the task has failed.", func(d *decoder, h *Hold, e *toml.Entry) {
		h.Timeout = d.duration(e)
	}},
}

// hold reads what a task waits for.
func (d *decoder) hold(e *toml.Entry) *Hold {
	h := &Hold{Span: d.at(e.At), Every: holdEvery, Timeout: holdTimeout}
	if !d.is(e.Key, &e.Value, toml.KindTable) {
		return nil
	}
	decodeTable(d, e.Value.Table, holdKeys, h, "key of hold_until")
	if h.Port.Value+h.HTTP.Value+h.File.Value+h.Run.Value == "" {
		d.report(d.at(e.At), `such as { port = 8080 }`, "%q names nothing to wait for: give it port, http, file or run", e.Key)
	}
	return h
}
