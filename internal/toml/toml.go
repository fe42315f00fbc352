// Package toml reads TOML and keeps the place of every key and value.
package toml

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
type Kind uint8

const (
	KindText Kind = iota
	KindInteger
	KindFloat
	KindBool
	KindDate
	KindList
	KindTable
)

func (k Kind) String() string {
	return [...]string{"a string", "a whole number", "a number", "true or false", "a date or time", "a list", "a table"}[k]
}

// place is a stretch of the file that is being read. The tree of a large
// project has very many: a [Span], which also knows its file, is twice as large.
type Place struct{ Offset, Size int32 } // in bytes

func placeOf(offset, length int) Place { return Place{int32(offset), int32(length)} }

// end returns the offset of the first byte behind p.
func (p Place) end() int { return int(p.Offset) + int(p.Size) }

// value is one TOML value with its place.
type Value struct {
	At    Place
	Kind  Kind
	Text  string // of a string; of a number, true or false as it is written
	List  *List
	Table *Table
}

// list is what a list holds.
type List struct {
	Items []Value
	open  bool // it was made by [[name]], which may add to it
}

// length returns how many values a list holds; 1 for what is none.
func (v *Value) Length() int {
	if v.Kind != KindList {
		return 1
	}
	return len(v.List.Items)
}

// whole returns the value of a whole number, and whether it fits in 64 bits.
func (v *Value) Whole() (int64, bool) {
	n, err := strconv.ParseInt(strings.TrimPrefix(v.Text, "+"), 0, 64)
	return n, err == nil
}

// number returns the value of a number that is not whole. One that is too
// large is infinite.
func (v *Value) Number() float64 {
	f, _ := strconv.ParseFloat(strings.ReplaceAll(v.Text, "_", ""), 64)
	return f
}

// yes returns the value of true or false.
func (v *Value) Bool() bool { return v.Text == "true" }

// entry is a key of a table with its value.
type Entry struct {
	Key   string
	At    Place // of the key: in a header or a dotted key, of this part of it
	Value Value
}

// table is a TOML table. It remembers how it came to be, for the rules on
// defining a table twice.
type Table struct {
	Entries []*Entry // in the order of the file
	index   map[string]*Entry
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

func (t *Table) Get(key string) *Entry {
	if t.index != nil {
		return t.index[key]
	}
	for _, e := range t.Entries {
		if e.Key == key {
			return e
		}
	}
	return nil
}

func (t *Table) add(e *Entry) {
	if t.Entries == nil {
		t.Entries = make([]*Entry, 0, 4)
	}
	t.Entries = append(t.Entries, e)
	if t.index == nil && len(t.Entries) < indexFrom {
		return
	}
	if t.index == nil {
		t.index = make(map[string]*Entry, 2*indexFrom)
		for _, old := range t.Entries {
			t.index[old.Key] = old
		}
		return
	}
	t.index[e.Key] = e
}

// parser turns the expressions of the TOML library's parser into a tree.
//
// The library's own decoder is not used: its messages speak of Go types, it
// keeps no places, and its time grows with the square of the number of tables.
type parser struct {
	entries slab[Entry]
	tables  slab[Table]
	lists   slab[List]
	parts   []keyPart // of the keys that are being read, the outermost first
	all     string    // the whole text

	lib     unstable.Parser
	text    []byte // all of it
	base    int    // offset in text of what was given to lib
	current *Table
	doc     Document
}

// Document is what a text holds.
type Document struct {
	Root     *Table
	Skipped  []byte // what could not be read
	Problems []Problem
}

// Problem is something wrong with a text.
type Problem struct {
	At    Place
	Msg   string // what is wrong: lower case, no full stop
	First *Place // of a second definition: where the first one stands; else nil
}

// Parse reads text and all that is wrong with its syntax. After a syntax error it
// goes on at the next table header: the tree then lacks what was skipped.
func Parse(text []byte) *Document {
	p := &parser{text: text, all: string(text)}
	p.doc.Root = &Table{origin: header}
	p.current = p.doc.Root
	for p.base < len(p.text) {
		p.lib.Reset(p.text[p.base:])
		for p.lib.NextExpression() {
			p.expression(p.lib.Expression())
		}
		err := p.lib.Error()
		if err == nil {
			break
		}
		p.base = p.syntaxError(err)
	}
	return &p.doc
}

// syntaxError reports err and returns the offset at which to go on.
func (p *parser) syntaxError(err error) int {
	var bad *unstable.ParserError
	if !errors.As(err, &bad) {
		p.report(Place{}, err.Error())
		p.doc.Skipped = p.text
		return len(p.text)
	}
	at := len(p.text)
	length := 0
	if len(bad.Highlight) > 0 {
		r := p.lib.Range(bad.Highlight)
		at, length = p.base+int(r.Offset), int(r.Length)
	}
	p.report(placeOf(at, length), syntaxMessage(bad.Message, p.text[at:]))
	resume := len(p.text)
	if next := bytes.Index(p.text[min(at, resume):], []byte("\n[")); next >= 0 {
		resume = at + next + 1
	}
	line := bytes.LastIndexByte(p.text[:at], '\n') + 1
	p.doc.Skipped = append(p.doc.Skipped, p.text[line:resume]...)
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

func (p *parser) report(at Place, msg string) {
	p.doc.Problems = append(p.doc.Problems, Problem{At: at, Msg: msg})
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
	at   Place
}

func (p *parser) newTable(o origin) *Table { return p.tables.put(Table{origin: o}) }

// keyParts reads a key. The result holds until p.parts is cut back to the
// length it had before.
func (p *parser) keyParts(it unstable.Iterator) []keyPart {
	from := len(p.parts)
	for it.Next() {
		n := it.Node()
		p.parts = append(p.parts, keyPart{p.decoded(n), p.place(n.Raw)})
	}
	return p.parts[from:]
}

// decoded returns the decoded text of a string or a key. Where it stands in the
// file as it is, it shares the file's memory: an escape makes a text shorter
// than what is written, by more than its quotes.
func (p *parser) decoded(n *unstable.Node) string {
	from := p.base + int(n.Raw.Offset)
	switch int(n.Raw.Length) - len(n.Data) {
	case 0: // a bare key
		return p.all[from : from+len(n.Data)]
	case 2: // one quote on either side
		return p.all[from+1 : from+1+len(n.Data)]
	}
	return string(n.Data)
}

func (p *parser) place(r unstable.Range) Place {
	return placeOf(p.base+int(r.Offset), int(r.Length))
}

// addTable adds a table called part to t.
func (p *parser) addTable(t *Table, part keyPart, added *Table) {
	t.add(p.entries.put(Entry{part.name, part.at, Value{At: part.at, Kind: KindTable, Table: added}}))
}

// header makes the table of a [header] or [[header]] the current one.
func (p *parser) header(n *unstable.Node, list bool) {
	defer func(length int) { p.parts = p.parts[:length] }(len(p.parts))
	parts := p.keyParts(n.Key())
	t := p.doc.Root
	for _, part := range parts[:len(parts)-1] {
		if t = p.descend(t, part); t == nil {
			p.current = p.newTable(header)
			return
		}
	}
	last := parts[len(parts)-1]
	p.current = p.newTable(header)
	old := t.Get(last.name)
	if list {
		p.appendTable(t, old, last)
		return
	}
	switch {
	case old == nil:
		p.addTable(t, last, p.current)
	case old.Value.Kind == KindTable && old.Value.Table.origin == implied:
		old.Value.Table.origin = header
		old.At, old.Value.At = last.at, last.at
		p.current = old.Value.Table
	default:
		p.twice(last, old)
	}
}

// appendTable adds the current table to the list called last in t.
func (p *parser) appendTable(t *Table, old *Entry, last keyPart) {
	one := Value{At: last.at, Kind: KindTable, Table: p.current}
	switch {
	case old == nil:
		made := p.lists.put(List{Items: []Value{one}, open: true})
		t.add(p.entries.put(Entry{last.name, last.at, Value{At: last.at, Kind: KindList, List: made}}))
	case old.Value.Kind == KindList && old.Value.List.open:
		old.Value.List.Items = append(old.Value.List.Items, one)
	default:
		p.twice(last, old)
	}
}

// descend returns the table that part of a header names in t, made if need be.
func (p *parser) descend(t *Table, part keyPart) *Table {
	old := t.Get(part.name)
	switch {
	case old == nil:
		next := p.newTable(implied)
		p.addTable(t, part, next)
		return next
	case old.Value.Kind == KindTable && old.Value.Table.origin != inline:
		return old.Value.Table
	case old.Value.Kind == KindList && old.Value.List.open:
		return old.Value.List.Items[len(old.Value.List.Items)-1].Table
	}
	p.twice(part, old)
	return nil
}

func (p *parser) twice(part keyPart, old *Entry) {
	p.doc.Problems = append(p.doc.Problems, Problem{part.at, fmt.Sprintf("%q is defined twice", part.name), &old.At})
}

func (p *parser) keyValue(t *Table, n *unstable.Node) {
	defer func(length int) { p.parts = p.parts[:length] }(len(p.parts))
	parts := p.keyParts(n.Key())
	last := parts[len(parts)-1]
	val := p.value(n.Value(), last.at)
	for _, part := range parts[:len(parts)-1] {
		old := t.Get(part.name)
		switch {
		case old == nil:
			next := p.newTable(dotted)
			p.addTable(t, part, next)
			t = next
		case old.Value.Kind == KindTable && old.Value.Table.origin == dotted:
			t = old.Value.Table
		default:
			p.twice(part, old)
			return
		}
	}
	if old := t.Get(last.name); old != nil {
		p.twice(last, old)
		return
	}
	t.add(p.entries.put(Entry{last.name, last.at, val}))
}

// value turns n into a value. after is the place of what stands before it:
// lists and inline tables carry no place of their own.
func (p *parser) value(n *unstable.Node, after Place) Value {
	v := Value{At: p.place(n.Raw)}
	switch n.Kind {
	case unstable.String:
		v.Kind, v.Text = KindText, p.decoded(n)
	case unstable.Integer:
		v.Kind, v.Text = KindInteger, string(n.Data)
		if _, fits := v.Whole(); !fits {
			p.report(v.At, "a whole number must fit in 64 bits")
		}
	case unstable.Float:
		v.Kind, v.Text = KindFloat, string(n.Data)
	case unstable.Bool:
		v.Kind, v.Text = KindBool, string(n.Data)
		v.At = p.placeAfter(after, len(n.Data))
	case unstable.Array:
		p.list(&v, n, after)
	case unstable.InlineTable:
		p.inlineTable(&v, n, after)
	default:
		v.Kind = KindDate
	}
	return v
}

func (p *parser) list(v *Value, n *unstable.Node, after Place) {
	v.Kind, v.List = KindList, p.lists.put(List{})
	v.At = p.placeAfter(after, 1)
	length := 0
	for it := n.Children(); it.Next(); {
		length++
	}
	items := make([]Value, 0, length)
	end := v.At
	for it := n.Children(); it.Next(); {
		items = append(items, p.value(it.Node(), end))
		end = items[len(items)-1].At
	}
	v.List.Items = items
	p.closeWith(v, end, ']')
}

func (p *parser) inlineTable(v *Value, n *unstable.Node, after Place) {
	v.Kind, v.Table = KindTable, p.newTable(dotted)
	v.At = p.placeAfter(after, 1)
	end := v.At
	it := n.Children()
	for it.Next() {
		p.keyValue(v.Table, it.Node())
	}
	if last := lastValue(v.Table); last != nil {
		end = last.At
	}
	closeTables(v.Table)
	p.closeWith(v, end, '}')
}

// lastValue returns the value of t, or of a table in it, that stands last in the file.
func lastValue(t *Table) *Value {
	var last *Value
	for _, e := range t.Entries {
		v := &e.Value
		if v.Kind == KindTable && v.Table.origin == dotted {
			v = lastValue(v.Table)
		}
		if last == nil || v.At.Offset > last.At.Offset {
			last = v
		}
	}
	return last
}

// closeTables marks t, and the tables that dotted keys made in it, as closed.
func closeTables(t *Table) {
	t.origin = inline
	for _, e := range t.Entries {
		if e.Value.Kind == KindTable && e.Value.Table.origin == dotted {
			closeTables(e.Value.Table)
		}
	}
}

// placeAfter returns the place of the length bytes that follow before, blanks,
// line ends, comments, commas and the equals sign left out.
func (p *parser) placeAfter(before Place, length int) Place {
	at := p.skip(before.end(), "=, \t\n")
	return placeOf(at, min(length, len(p.text)-at))
}

// closeWith stretches v up to the bracket that follows end.
func (p *parser) closeWith(v *Value, end Place, bracket byte) {
	at := p.skip(end.end(), ", \t\n")
	if at < len(p.text) && p.text[at] == bracket {
		v.At.Size = int32(at + 1 - int(v.At.Offset))
	}
}

// skip returns the offset of the first byte from at on that is neither one of
// set nor in a comment.
func (p *parser) skip(at int, set string) int {
	text := p.text
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
