package project

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// kind is the TOML type of a value, in the words of a message.
type kind uint8

const (
	kindText kind = iota
	kindInteger
	kindFloat
	kindBool
	kindDate
	kindList
	kindTable
)

func (k kind) String() string {
	return [...]string{"a string", "a whole number", "a number", "true or false", "a date or time", "a list", "a table"}[k]
}

// value is one TOML value with its place.
type value struct {
	kind  kind
	span  Span
	text  string   // of a string
	num   int64    // of a whole number; the bits of another number; 1 for true
	items []*value // of a list, or the tables of [[name]]
	table *table
}

// number returns the value of a number that is not whole.
func (v *value) number() float64 { return math.Float64frombits(uint64(v.num)) }

// yes returns the value of true or false.
func (v *value) yes() bool { return v.num == 1 }

// entry is a key of a table with its value.
type entry struct {
	key  string
	span Span // of the key: in a header or a dotted key, of this part of it
	val  *value
}

// table is a TOML table. It remembers how it came to be, for the rules on
// defining a table twice.
type table struct {
	entries []*entry // in the order of the file
	index   map[string]*entry
	origin  origin
}

// origin tells what made a table.
type origin int

const (
	implied origin = iota // by the header of a table below it
	header                // by its own header
	dotted                // by a dotted key
	inline                // by { … }; closed
)

// slab hands out values from larger pieces of memory: a large project is tens
// of thousands of them.
type slab[T any] struct{ free []T }

func (s *slab[T]) put(v T) *T {
	if len(s.free) == 0 {
		s.free = make([]T, 128)
	}
	p := &s.free[0]
	s.free = s.free[1:]
	*p = v
	return p
}

// indexFrom is the number of entries from which a table keeps an index: small
// ones are searched faster than a map is made.
const indexFrom = 12

func (t *table) get(key string) *entry {
	if t.index != nil {
		return t.index[key]
	}
	for _, e := range t.entries {
		if e.key == key {
			return e
		}
	}
	return nil
}

func (t *table) add(e *entry) {
	t.entries = append(t.entries, e)
	if t.index == nil && len(t.entries) < indexFrom {
		return
	}
	if t.index == nil {
		t.index = make(map[string]*entry, 2*indexFrom)
		for _, old := range t.entries {
			t.index[old.key] = old
		}
		return
	}
	t.index[e.key] = e
}

// parser turns the expressions of the TOML library's parser into a tree.
//
// The library's own decoder is not used: its messages speak of Go types, it
// keeps no places, and its time grows with the square of the number of tables.
type parser struct {
	values  slab[value]
	entries slab[entry]
	tables  slab[table]
	parts   []keyPart // of the keys that are being read, the outermost first
	all     string    // the whole text of src

	lib         unstable.Parser
	src         *Source
	base        int // offset in src of the text given to lib
	root        *table
	current     *table
	skipped     []byte // what could not be read
	diagnostics Diagnostics
}

// parseTOML reads the tree of src and all that is wrong with its syntax. After
// a syntax error it goes on at the next table header: the tree then lacks what
// was skipped.
func parseTOML(src *Source) *parser {
	p := &parser{src: src, root: &table{origin: header}, all: string(src.Text)}
	p.current = p.root
	for p.base < len(src.Text) {
		p.lib.Reset(src.Text[p.base:])
		for p.lib.NextExpression() {
			p.expression(p.lib.Expression())
		}
		err := p.lib.Error()
		if err == nil {
			break
		}
		p.base = p.syntaxError(err)
	}
	return p
}

// syntaxError reports err and returns the offset at which to go on.
func (p *parser) syntaxError(err error) int {
	var bad *unstable.ParserError
	if !errors.As(err, &bad) {
		p.report(Span{Source: p.src}, err.Error(), "")
		p.skipped = p.src.Text
		return len(p.src.Text)
	}
	at := len(p.src.Text)
	length := 0
	if len(bad.Highlight) > 0 {
		r := p.lib.Range(bad.Highlight)
		at, length = p.base+int(r.Offset), int(r.Length)
	}
	p.report(spanOf(p.src, at, length), syntaxMessage(bad.Message, p.src.Text[at:]), "")
	resume := len(p.src.Text)
	if next := bytes.Index(p.src.Text[min(at, resume):], []byte("\n[")); next >= 0 {
		resume = at + next + 1
	}
	line := bytes.LastIndexByte(p.src.Text[:at], '\n') + 1
	p.skipped = append(p.skipped, p.src.Text[line:resume]...)
	p.current = p.newTable(header) // keys up to the next header belong to nothing
	return resume
}

// codePoint is how the library names a character: U+0041 'A', or U+000A.
var codePoint = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`U\+[0-9A-F]{4,6}( '.+')?`) })

// syntaxMessage says the library's message in the words of a user. at is the
// text from the place of the error on.
func syntaxMessage(msg string, at []byte) string {
	msg = strings.TrimPrefix(msg, "toml: ")
	if strings.Contains(msg, "strings must be quoted") {
		return "a string must stand in quotes"
	}
	return codePoint().ReplaceAllStringFunc(msg, func(string) string {
		r, _ := utf8.DecodeRune(at) // the library takes its first byte for a character
		if r == '\n' {
			return "the end of the line"
		}
		return strconv.QuoteRune(r)
	})
}

func (p *parser) report(span Span, msg, hint string) {
	p.diagnostics = append(p.diagnostics, Diagnostic{Span: span, Msg: msg, Hint: hint})
}

func (p *parser) expression(n *unstable.Node) {
	switch n.Kind {
	case unstable.Table:
		p.header(n, false)
	case unstable.ArrayTable:
		p.header(n, true)
	case unstable.KeyValue:
		p.keyValue(p.current, n)
	}
}

// keyPart is one part of a dotted key or header.
type keyPart struct {
	name string
	span Span
}

func (p *parser) newTable(o origin) *table { return p.tables.put(table{origin: o}) }

// keyParts reads a key. The result holds until p.parts is cut back to the
// length it had before.
func (p *parser) keyParts(it unstable.Iterator) []keyPart {
	from := len(p.parts)
	for it.Next() {
		n := it.Node()
		p.parts = append(p.parts, keyPart{p.text(n), p.span(n.Raw)})
	}
	return p.parts[from:]
}

// text returns the decoded text of a string or a key. Where it stands in the
// file as it is, it shares the file's memory: an escape makes a text shorter
// than what is written, by more than its quotes.
func (p *parser) text(n *unstable.Node) string {
	from := p.base + int(n.Raw.Offset)
	switch int(n.Raw.Length) - len(n.Data) {
	case 0: // a bare key
		return p.all[from : from+len(n.Data)]
	case 2: // one quote on either side
		return p.all[from+1 : from+1+len(n.Data)]
	}
	return string(n.Data)
}

func (p *parser) span(r unstable.Range) Span {
	return spanOf(p.src, p.base+int(r.Offset), int(r.Length))
}

// header makes the table of a [header] or [[header]] the current one.
func (p *parser) header(n *unstable.Node, list bool) {
	defer func(length int) { p.parts = p.parts[:length] }(len(p.parts))
	parts := p.keyParts(n.Key())
	t := p.root
	for _, part := range parts[:len(parts)-1] {
		if t = p.descend(t, part); t == nil {
			p.current = p.newTable(header)
			return
		}
	}
	last := parts[len(parts)-1]
	p.current = p.newTable(header)
	old := t.get(last.name)
	if list {
		p.appendTable(t, old, last)
		return
	}
	switch {
	case old == nil:
		t.add(p.entries.put(entry{last.name, last.span, p.values.put(value{kind: kindTable, span: last.span, table: p.current})}))
	case old.val.kind == kindTable && old.val.table.origin == implied:
		old.val.table.origin = header
		old.span, old.val.span = last.span, last.span
		p.current = old.val.table
	default:
		p.twice(last, old)
	}
}

func (p *parser) appendTable(t *table, old *entry, last keyPart) {
	one := p.values.put(value{kind: kindTable, span: last.span, table: p.current})
	switch {
	case old == nil:
		list := p.values.put(value{kind: kindList, span: last.span, items: []*value{one}, table: p.newTable(header)})
		t.add(p.entries.put(entry{last.name, last.span, list}))
	case old.val.kind == kindList && old.val.table != nil: // made by [[…]], so open
		old.val.items = append(old.val.items, one)
	default:
		p.twice(last, old)
	}
}

// descend returns the table that part of a header names in t, made if need be.
func (p *parser) descend(t *table, part keyPart) *table {
	old := t.get(part.name)
	switch {
	case old == nil:
		next := p.newTable(implied)
		t.add(p.entries.put(entry{part.name, part.span, p.values.put(value{kind: kindTable, span: part.span, table: next})}))
		return next
	case old.val.kind == kindTable && old.val.table.origin != inline:
		return old.val.table
	case old.val.kind == kindList && old.val.table != nil:
		return old.val.items[len(old.val.items)-1].table
	}
	p.twice(part, old)
	return nil
}

func (p *parser) twice(part keyPart, old *entry) {
	d := Diagnostic{Span: part.span, Msg: fmt.Sprintf("%q is defined twice", part.name)}
	d.Related = []Diagnostic{{Span: old.span, Msg: "it was defined first here"}}
	p.diagnostics = append(p.diagnostics, d)
}

func (p *parser) keyValue(t *table, n *unstable.Node) {
	defer func(length int) { p.parts = p.parts[:length] }(len(p.parts))
	parts := p.keyParts(n.Key())
	last := parts[len(parts)-1]
	val := p.value(n.Value(), last.span)
	for _, part := range parts[:len(parts)-1] {
		old := t.get(part.name)
		switch {
		case old == nil:
			next := p.newTable(dotted)
			t.add(p.entries.put(entry{part.name, part.span, p.values.put(value{kind: kindTable, span: part.span, table: next})}))
			t = next
		case old.val.kind == kindTable && old.val.table.origin == dotted:
			t = old.val.table
		default:
			p.twice(part, old)
			return
		}
	}
	if old := t.get(last.name); old != nil {
		p.twice(last, old)
		return
	}
	t.add(p.entries.put(entry{last.name, last.span, val}))
}

// value turns n into a value. after is the place of what stands before it:
// lists and inline tables carry no place of their own.
func (p *parser) value(n *unstable.Node, after Span) *value {
	v := p.values.put(value{span: p.span(n.Raw)})
	switch n.Kind {
	case unstable.String:
		v.kind, v.text = kindText, p.text(n)
	case unstable.Integer:
		v.kind = kindInteger
		num, err := strconv.ParseInt(strings.TrimPrefix(string(n.Data), "+"), 0, 64)
		if err != nil {
			p.report(v.span, "a whole number must fit in 64 bits", "")
		}
		v.num = num
	case unstable.Float:
		v.kind = kindFloat
		f, _ := strconv.ParseFloat(strings.ReplaceAll(string(n.Data), "_", ""), 64) // too large is infinite
		v.num = int64(math.Float64bits(f))
	case unstable.Bool:
		v.kind = kindBool
		if len(n.Data) == len("true") {
			v.num = 1
		}
		v.span = p.placeAfter(after, len(n.Data))
	case unstable.Array:
		p.list(v, n, after)
	case unstable.InlineTable:
		p.inlineTable(v, n, after)
	default:
		v.kind = kindDate
	}
	return v
}

func (p *parser) list(v *value, n *unstable.Node, after Span) {
	v.kind = kindList
	v.span = p.placeAfter(after, 1)
	end := v.span
	it := n.Children()
	for it.Next() {
		item := p.value(it.Node(), end)
		v.items = append(v.items, item)
		end = item.span
	}
	p.closeWith(v, end, ']')
}

func (p *parser) inlineTable(v *value, n *unstable.Node, after Span) {
	v.kind, v.table = kindTable, p.newTable(dotted)
	v.span = p.placeAfter(after, 1)
	end := v.span
	it := n.Children()
	for it.Next() {
		p.keyValue(v.table, it.Node())
	}
	if last := lastValue(v.table); last != nil {
		end = last.span
	}
	closeTables(v.table)
	p.closeWith(v, end, '}')
}

// lastValue returns the value of t, or of a table in it, that stands last in the file.
func lastValue(t *table) *value {
	var last *value
	for _, e := range t.entries {
		v := e.val
		if v.kind == kindTable && v.table.origin == dotted {
			v = lastValue(v.table)
		}
		if last == nil || v.span.Offset() > last.span.Offset() {
			last = v
		}
	}
	return last
}

// closeTables marks t, and the tables that dotted keys made in it, as closed.
func closeTables(t *table) {
	t.origin = inline
	for _, e := range t.entries {
		if e.val.kind == kindTable && e.val.table.origin == dotted {
			closeTables(e.val.table)
		}
	}
}

// placeAfter returns the place of the length bytes that follow span, blanks,
// line ends, comments, commas and the equals sign left out.
func (p *parser) placeAfter(span Span, length int) Span {
	at := p.skip(span.end(), "=, \t\n")
	return spanOf(p.src, at, min(length, len(p.src.Text)-at))
}

// closeWith stretches v up to the bracket that follows end.
func (p *parser) closeWith(v *value, end Span, bracket byte) {
	at := p.skip(end.end(), ", \t\n")
	if at < len(p.src.Text) && p.src.Text[at] == bracket {
		v.span = spanOf(p.src, v.span.Offset(), at+1-v.span.Offset())
	}
}

// skip returns the offset of the first byte from at on that is neither one of
// set nor in a comment.
func (p *parser) skip(at int, set string) int {
	text := p.src.Text
	for at < len(text) {
		switch {
		case strings.IndexByte(set, text[at]) >= 0:
			at++
		case text[at] == '#':
			line := bytes.IndexByte(text[at:], '\n')
			if line < 0 {
				return len(text)
			}
			at += line
		default:
			return at
		}
	}
	return at
}
