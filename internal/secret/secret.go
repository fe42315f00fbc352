// Package secret keeps the values that must not be shown, and masks them in
// what is.
package secret

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Shown is what stands for a secret value.
const Shown = "•••"

// Mask knows the secret values of a run. A nil Mask knows none. It may be used
// from many goroutines.
type Mask struct {
	mu     sync.RWMutex // protects the fields below
	values []string     // the longest first
	first  [256]bool    // the bytes with which they begin
}

// Add makes value secret, also as it is escaped in messages and in JSON. An empty
// one is none.
func (m *Mask) Add(value string) {
	if m == nil || value == "" {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, form := range forms(value) {
		if !slices.Contains(m.values, form) {
			m.values = append(slices.Clone(m.values), form)
			m.first[form[0]] = true
		}
	}
	slices.SortStableFunc(m.values, func(a, b string) int { return len(b) - len(a) })
}

// Values returns the secret values, in all forms in which they are known.
func (m *Mask) Values() []string {
	if m == nil {
		return nil
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	return slices.Clone(m.values)
}

// forms returns a value as it is, as Go quotes it, in letters or in ASCII, and as
// JSON does.
func forms(value string) []string {
	all := []string{value}
	for _, quoted := range []string{strconv.Quote(value), strconv.QuoteToASCII(value), asJSON(value, true), asJSON(value, false)} {
		if inner := quoted[1 : len(quoted)-1]; inner != value {
			all = append(all, inner)
		}
	}
	return all
}

// asJSON returns a text as JSON, with or without what HTML gives a meaning escaped.
func asJSON(text string, html bool) string {
	var b strings.Builder
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(html)
	encoder.Encode(text) // a text can be written
	return strings.TrimSuffix(b.String(), "\n")
}

// Empty reports whether nothing is secret.
func (m *Mask) Empty() bool {
	if m == nil {
		return true
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	return len(m.values) == 0
}

// Text returns text with all secret values masked.
func (m *Mask) Text(text string) string {
	if m.Empty() {
		return text
	}
	var b strings.Builder
	w := m.Writer(func(p []byte) { b.Write(p) })
	w.Write([]byte(text))
	w.Flush()
	return b.String()
}

// Writer masks the secret values of a stream, also where they come in pieces.
type Writer struct {
	mask *Mask
	to   func([]byte)
	kept []byte // may be the beginning of a secret value
	out  []byte // used again
}

// Writer returns a writer that hands the masked stream to a function, which
// must not keep the slice.
func (m *Mask) Writer(to func([]byte)) *Writer { return &Writer{mask: m, to: to} }

// Write takes the next piece. What may be the beginning of a secret value is
// kept until it is known whether it is one. It never fails.
func (w *Writer) Write(p []byte) (int, error) {
	w.kept = append(w.kept, p...)
	w.pass(false)
	return len(p), nil
}

// Flush hands over what is kept: the stream has ended, or pauses.
func (w *Writer) Flush() { w.pass(true) }

// pass hands over what is known to hold no secret value, and masked what does.
func (w *Writer) pass(all bool) {
	w.mask.mu.RLock()
	values, first := w.mask.values, &w.mask.first
	out, text := w.out[:0], w.kept
	for len(text) > 0 {
		at := 0
		for at < len(text) && !first[text[at]] {
			at++
		}
		out, text = append(out, text[:at]...), text[at:]
		if len(text) == 0 {
			break
		}
		length, open := match(values, text)
		if open && !all {
			break
		}
		if length > 0 {
			out, text = append(out, Shown...), text[length:]
		} else {
			out, text = append(out, text[0]), text[1:]
		}
	}
	w.mask.mu.RUnlock()
	w.kept = w.kept[:copy(w.kept, text)]
	w.out = out
	if len(out) > 0 {
		w.to(out)
	}
}

// match returns the length of the longest value with which text begins, and
// whether a longer one may begin so too, once there is more of text.
func match(values []string, text []byte) (length int, open bool) {
	for _, v := range values {
		if len(v) > len(text) {
			open = open || strings.HasPrefix(v, string(text))
			continue
		}
		if bytes.HasPrefix(text, []byte(v)) {
			return len(v), open
		}
	}
	return 0, open
}
