package store

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"time"

	"tugline/internal/files"
)

// An entry is kept as text, one thing a line, its words parted by tabs:
//
//	tugline entry 2 DIGEST      BLAKE3 of all lines but this
//	key KEY
//	made TIME MS                RFC 3339, and the milliseconds that it took
//	object DIGEST               in their order
//	log OBJECT OFFSET SIZE DIGEST
//	file MODE OBJECT OFFSET SIZE DIGEST PATH
//	beside MODE OBJECT OFFSET SIZE DIGEST PATH    a file that was not made, but was there
//	link TEXT PATH
//	folder PATH                 an empty one
//	list                        a list of files, which follows
//	listed PATH
//
// Numbers are decimal, modes octal; paths and texts are quoted as Go quotes
// strings. Reading it takes a twentieth of what reading JSON takes.
const heading = "tugline entry 2\t"

// text returns e as it is kept.
func (e *Entry) text() []byte {
	b := make([]byte, 0, 256+160*len(e.Files))
	b = fmt.Appendf(b, "key\t%s\nmade\t%s\t%d\n", e.Key, e.Made.Format(time.RFC3339Nano), e.Took.Milliseconds())
	for _, o := range e.Objects {
		b = fmt.Appendf(b, "object\t%s\n", o)
	}
	if e.Log != nil {
		b = append(e.Log.append(append(b, "log\t"...)), '\n')
	}
	for _, list := range e.Lists {
		b = append(b, "list\n"...)
		for _, p := range list {
			b = fmt.Appendf(b, "listed\t%q\n", p)
		}
	}
	for i := range e.Files {
		f := &e.Files[i]
		if f.Link != "" {
			b = fmt.Appendf(b, "link\t%q\t%q\n", f.Link, f.Path)
			continue
		}
		if f.Folder {
			b = fmt.Appendf(b, "folder\t%q\n", f.Path)
			continue
		}
		kind := "file\t"
		if f.Beside {
			kind = "beside\t"
		}
		b = strconv.AppendUint(append(b, kind...), uint64(f.Mode), 8)
		b = append(f.append(append(b, '\t')), '\t')
		b = append(strconv.AppendQuote(b, f.Path), '\n')
	}
	return append([]byte(heading+hexDigest(files.Sum(b))+"\n"), b...)
}

func (p *Piece) append(b []byte) []byte {
	for _, n := range []int64{int64(p.Object), p.Offset, p.Size} {
		b = append(strconv.AppendInt(b, n, 10), '\t')
	}
	return hex.AppendEncode(b, p.Digest[:])
}

// parse reads the text of the entry of key.
func parse(text []byte, key string) (*Entry, bool) {
	first, rest, whole := bytes.Cut(text, []byte("\n"))
	if !whole || string(first) != heading+hexDigest(files.Sum(rest)) {
		return nil, false
	}
	e := &Entry{Files: make([]File, 0, bytes.Count(rest, []byte("\n")))}
	var words [][]byte
	for line := range bytes.Lines(rest) {
		words = words[:0]
		for word := range bytes.SplitSeq(bytes.TrimSuffix(line, []byte("\n")), []byte("\t")) {
			words = append(words, word)
		}
		if !e.line(string(words[0]), words[1:]) {
			return nil, false
		}
	}
	return e, e.Key == key
}

// line takes over one line of an entry.
func (e *Entry) line(kind string, words [][]byte) bool {
	var err error
	switch {
	case kind == "key" && len(words) == 1:
		e.Key = string(words[0])
	case kind == "made" && len(words) == 2:
		var ms int64
		if ms, err = strconv.ParseInt(string(words[1]), 10, 64); err == nil {
			e.Took = time.Duration(ms) * time.Millisecond
			e.Made, err = time.Parse(time.RFC3339Nano, string(words[0]))
		}
	case kind == "object" && len(words) == 1 && len(words[0]) == 64 && filepath.Base(string(words[0])) == string(words[0]):
		e.Objects = append(e.Objects, string(words[0]))
	case kind == "log" && len(words) == 4:
		p, ok := e.piece(words)
		e.Log = &p
		return ok
	case (kind == "file" || kind == "beside") && len(words) == 6:
		f := File{Beside: kind == "beside"}
		ok := false
		f.Piece, ok = e.piece(words[1:5])
		mode, modeErr := strconv.ParseUint(string(words[0]), 8, 32)
		f.Mode = fs.FileMode(mode)
		f.Path, err = strconv.Unquote(string(words[5]))
		if !ok || modeErr != nil || mode > 0o777 {
			return false
		}
		e.Files = append(e.Files, f)
	case kind == "link" && len(words) == 2:
		f := File{}
		f.Link, err = strconv.Unquote(string(words[0]))
		if err == nil {
			f.Path, err = strconv.Unquote(string(words[1]))
		}
		e.Files = append(e.Files, f)
	case kind == "list" && len(words) == 0:
		e.Lists = append(e.Lists, []string{})
	case kind == "listed" && len(words) == 1 && len(e.Lists) > 0:
		var p string
		p, err = strconv.Unquote(string(words[0]))
		e.Lists[len(e.Lists)-1] = append(e.Lists[len(e.Lists)-1], p)
	case kind == "folder" && len(words) == 1:
		f := File{Folder: true}
		f.Path, err = strconv.Unquote(string(words[0]))
		e.Files = append(e.Files, f)
	default:
		return false
	}
	return err == nil
}

func (e *Entry) piece(words [][]byte) (p Piece, ok bool) {
	var errs [4]error
	p.Object, errs[0] = strconv.Atoi(string(words[0]))
	p.Offset, errs[1] = strconv.ParseInt(string(words[1]), 10, 64)
	p.Size, errs[2] = strconv.ParseInt(string(words[2]), 10, 64)
	var n int
	if len(words[3]) == 2*len(p.Digest) {
		n, errs[3] = hex.Decode(p.Digest[:], words[3])
	}
	for _, err := range errs {
		if err != nil {
			return p, false
		}
	}
	return p, n == len(p.Digest) && p.Object >= 0 && p.Object < len(e.Objects) && p.Offset >= 0 && p.Size >= 0
}
