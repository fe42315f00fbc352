package project

import (
	"bytes"
	"errors"
	"fmt"
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

// place is a stretch of the file that is being read. The tree of a large
// project has very many: a [Span], which also knows its file, is twice as large.
type place struct{ offset, size int32 } // in bytes

func placeOf(offset, length int) place { return place{int32(offset), int32(length)} }

// in returns p as a place in src.
func (p place) in(src *Source) Span { return Span{src, p.offset, p.size} }

// end returns the offset of the first byte behind p.
func (p place) end() int { return int(p.offset) + int(p.size) }

// value is one TOML value with its place.
type value struct {
	at    place
	kind  kind
	text  string // of a string; of a number, true or false as it is written
	list  *list
	table *table
}

// list is what a list holds.
type list struct {
	items []value
	open  bool // it was made by [[name]], which may add to it
}

// length returns how many values a list holds; 1 for what is none.
func (v *value) length() int {
	if v.kind != kindList {
		return 1
	}
	return len(v.list.items)
}

// whole returns the value of a whole number, and whether it fits in 64 bits.
func (v *value) whole() (int64, bool) {
	n, err := strconv.ParseInt(strings.TrimPrefix(v.text, "+"), 0, 64)
	return n, err == nil
}

// number returns the value of a number that is not whole. One that is too
// large is infinite.
func (v *value) number() float64 {
	f, _ := strconv.ParseFloat(strings.ReplaceAll(v.text, "_", ""), 64)
	return f
}

// yes returns the value of true or false.
func (v *value) yes() bool { return v.text == "true" }

// entry is a key of a table with its value.
type entry struct {
	key string
	at  place // of the key: in a header or a dotted key, of this part of it
	val value
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
// of thousands of them, a small one needs few.
type slab[T any] struct {
	free []T
	next int // how many the next piece has
}

func (s *slab[T]) put(v T) *T {
	if len(s.free) == 0 {
		s.next = max(8, min(2*s.next, 128))
		s.free = make([]T, s.next)
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
	if t.entries == nil {
		t.entries = make([]*entry, 0, 4)
	}
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
	entries slab[entry]
	tables  slab[table]
	lists   slab[list]
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
		p.report(place{}, err.Error(), "")
		p.skipped = p.src.Text
		return len(p.src.Text)
	}
	at := len(p.src.Text)
	length := 0
	if len(bad.Highlight) > 0 {
		r := p.lib.Range(bad.Highlight)
		at, length = p.base+int(r.Offset), int(r.Length)
	}
	p.report(placeOf(at, length), syntaxMessage(bad.Message, p.src.Text[at:]), "")
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

func (p *parser) report(at place, msg, hint string) {
	p.diagnostics = append(p.diagnostics, Diagnostic{Span: at.in(p.src), Msg: msg, Hint: hint})
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
	at   place
}

func (p *parser) newTable(o origin) *table { return p.tables.put(table{origin: o}) }

// keyParts reads a key. The result holds until p.parts is cut back to the
// length it had before.
func (p *parser) keyParts(it unstable.Iterator) []keyPart {
	from := len(p.parts)
	for it.Next() {
		n := it.Node()
		p.parts = append(p.parts, keyPart{p.text(n), p.place(n.Raw)})
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

func (p *parser) place(r unstable.Range) place {
	return placeOf(p.base+int(r.Offset), int(r.Length))
}

// addTable adds a table called part to t.
func (p *parser) addTable(t *table, part keyPart, added *table) {
	t.add(p.entries.put(entry{part.name, part.at, value{at: part.at, kind: kindTable, table: added}}))
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
		p.addTable(t, last, p.current)
	case old.val.kind == kindTable && old.val.table.origin == implied:
		old.val.table.origin = header
		old.at, old.val.at = last.at, last.at
		p.current = old.val.table
	default:
		p.twice(last, old)
	}
}

// appendTable adds the current table to the list called last in t.
func (p *parser) appendTable(t *table, old *entry, last keyPart) {
	one := value{at: last.at, kind: kindTable, table: p.current}
	switch {
	case old == nil:
		made := p.lists.put(list{items: []value{one}, open: true})
		t.add(p.entries.put(entry{last.name, last.at, value{at: last.at, kind: kindList, list: made}}))
	case old.val.kind == kindList && old.val.list.open:
		old.val.list.items = append(old.val.list.items, one)
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
		p.addTable(t, part, next)
		return next
	case old.val.kind == kindTable && old.val.table.origin != inline:
		return old.val.table
	case old.val.kind == kindList && old.val.list.open:
		return old.val.list.items[len(old.val.list.items)-1].table
	}
	p.twice(part, old)
	return nil
}

func (p *parser) twice(part keyPart, old *entry) {
	d := Diagnostic{Span: part.at.in(p.src), Msg: fmt.Sprintf("%q is defined twice", part.name)}
	d.Related = []Diagnostic{{Span: old.at.in(p.src), Msg: "it was defined first here"}}
	p.diagnostics = append(p.diagnostics, d)
}

func (p *parser) keyValue(t *table, n *unstable.Node) {
	defer func(length int) { p.parts = p.parts[:length] }(len(p.parts))
	parts := p.keyParts(n.Key())
	last := parts[len(parts)-1]
	val := p.value(n.Value(), last.at)
	for _, part := range parts[:len(parts)-1] {
		old := t.get(part.name)
		switch {
		case old == nil:
			next := p.newTable(dotted)
			p.addTable(t, part, next)
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
	t.add(p.entries.put(entry{last.name, last.at, val}))
}

// value turns n into a value. after is the place of what stands before it:
// lists and inline tables carry no place of their own.
func (p *parser) value(n *unstable.Node, after place) value {
	v := value{at: p.place(n.Raw)}
	switch n.Kind {
	case unstable.String:
		v.kind, v.text = kindText, p.text(n)
	case unstable.Integer:
		v.kind, v.text = kindInteger, string(n.Data)
		if _, fits := v.whole(); !fits {
			p.report(v.at, "a whole number must fit in 64 bits", "")
		}
	case unstable.Float:
		v.kind, v.text = kindFloat, string(n.Data)
	case unstable.Bool:
		v.kind, v.text = kindBool, string(n.Data)
		v.at = p.placeAfter(after, len(n.Data))
	case unstable.Array:
		p.list(&v, n, after)
	case unstable.InlineTable:
		p.inlineTable(&v, n, after)
	default:
		v.kind = kindDate
	}
	return v
}

func (p *parser) list(v *value, n *unstable.Node, after place) {
	v.kind, v.list = kindList, p.lists.put(list{})
	v.at = p.placeAfter(after, 1)
	length := 0
	for it := n.Children(); it.Next(); {
		length++
	}
	items := make([]value, 0, length)
	end := v.at
	for it := n.Children(); it.Next(); {
		items = append(items, p.value(it.Node(), end))
		end = items[len(items)-1].at
	}
	v.list.items = items
	p.closeWith(v, end, ']')
}

func (p *parser) inlineTable(v *value, n *unstable.Node, after place) {
	v.kind, v.table = kindTable, p.newTable(dotted)
	v.at = p.placeAfter(after, 1)
	end := v.at
	it := n.Children()
	for it.Next() {
		p.keyValue(v.table, it.Node())
	}
	if last := lastValue(v.table); last != nil {
		end = last.at
	}
	closeTables(v.table)
	p.closeWith(v, end, '}')
}

// lastValue returns the value of t, or of a table in it, that stands last in the file.
func lastValue(t *table) *value {
	var last *value
	for _, e := range t.entries {
		v := &e.val
		if v.kind == kindTable && v.table.origin == dotted {
			v = lastValue(v.table)
		}
		if last == nil || v.at.offset > last.at.offset {
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

// placeAfter returns the place of the length bytes that follow before, blanks,
// line ends, comments, commas and the equals sign left out.
func (p *parser) placeAfter(before place, length int) place {
	at := p.skip(before.end(), "=, \t\n")
	return placeOf(at, min(length, len(p.src.Text)-at))
}

// closeWith stretches v up to the bracket that follows end.
func (p *parser) closeWith(v *value, end place, bracket byte) {
	at := p.skip(end.end(), ", \t\n")
	if at < len(p.src.Text) && p.src.Text[at] == bracket {
		v.at.size = int32(at + 1 - int(v.at.offset))
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
