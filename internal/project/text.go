package project

import (
	"bytes"
	"unicode/utf8"
)

// Text is a string of the project file that knows where each of its bytes
// stands there, behind quotes and escapes.
type Text struct {
	Value string
	Span  Span // of the whole value, quotes included; zero for a built-in default
}

// At returns the place in the file of the length bytes of t.Value that begin
// at offset. A place behind the end of the value is the value's last byte.
func (t Text) At(offset, length int) Span {
	if t.Span.IsZero() {
		return t.Span
	}
	if len(t.Value) == 0 {
		return t.Span
	}
	raw := t.Span.bytes()
	start := rawOffset(raw, min(offset, len(t.Value)-1))
	end := rawOffset(raw, min(offset+length, len(t.Value)))
	return spanOf(t.Span.Source, t.Span.Offset()+start, max(1, end-start))
}

// rawOffset returns where the byte at offset of the decoded string stands in
// raw, the string as written, with its quotes. The escapes are those of
// TOML 1.0, section "String".
func rawOffset(raw []byte, offset int) int {
	i, escapes, multiline := openingQuote(raw)
	decoded := 0
	for i < len(raw) {
		if escapes && multiline && raw[i] == '\\' {
			if next := skipLineEnd(raw, i); next > i {
				i = next
				continue
			}
		}
		if decoded >= offset {
			return i
		}
		if escapes && raw[i] == '\\' {
			width, bytes := escape(raw[i:])
			i += width
			decoded += bytes
			continue
		}
		i++
		decoded++
	}
	return len(raw)
}

// openingQuote returns the offset of the first byte of content and the kind of string.
func openingQuote(raw []byte) (start int, escapes, multiline bool) {
	if len(raw) == 0 || (raw[0] != '"' && raw[0] != '\'') {
		return 0, false, false
	}
	escapes = raw[0] == '"'
	triple := bytes.Repeat(raw[:1], 3)
	if !bytes.HasPrefix(raw, triple) || len(raw) < 6 {
		return 1, escapes, false
	}
	if raw[3] == '\n' {
		return 4, escapes, true
	}
	return 3, escapes, true
}

// skipLineEnd returns the offset of the first byte that counts after a
// backslash at the end of a line, or i when raw[i] is no such backslash.
func skipLineEnd(raw []byte, i int) int {
	rest := bytes.TrimLeft(raw[i+1:], " \t")
	if len(rest) == 0 || rest[0] != '\n' {
		return i
	}
	rest = bytes.TrimLeft(rest, " \t\n")
	return len(raw) - len(rest)
}

// escape returns how many bytes the escape at the start of raw takes there,
// and how many it stands for.
func escape(raw []byte) (width, decoded int) {
	if len(raw) < 2 {
		return 1, 1
	}
	digits := 0
	switch raw[1] {
	case 'x':
		digits = 2
	case 'u':
		digits = 4
	case 'U':
		digits = 8
	default:
		return 2, 1
	}
	var r rune
	for _, b := range raw[2:min(2+digits, len(raw))] {
		r = r<<4 | rune(hexValue(b))
	}
	return 2 + digits, max(1, utf8.RuneLen(r))
}

func hexValue(b byte) byte {
	switch {
	case b >= 'a':
		return b - 'a' + 10
	case b >= 'A':
		return b - 'A' + 10
	}
	return b - '0'
}
