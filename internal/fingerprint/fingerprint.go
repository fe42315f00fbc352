// Package fingerprint tells what a step depends on, and in what two states of
// that differ.
package fingerprint

import (
	"encoding/hex"
	"fmt"
	"hash"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/zeebo/blake3"

	"tugline/internal/files"
	"tugline/internal/plan"
)

// Fingerprint is all that a step depends on. Its Sum tells it from others.
type Fingerprint struct {
	Sum   string `json:"-"` // BLAKE3 of all items and files, in hexadecimal digits
	Items []Item `json:"items"`
	Files []File `json:"files"` // what it reads, in the order of the tree

	// Unknown are the secrets that count and of which no digest can be had: whether
	// they changed is not known, so the Sum says nothing.
	Unknown []string `json:"-"`
}

// Item is one thing but a file that a step depends on.
type Item struct {
	Kind  string `json:"kind"` // command, shell, folder, system, writes, argument, word, path or variable
	Name  string `json:"name"`
	Value string `json:"value"`
}

// File is one file of those that a step reads, or has written.
type File struct {
	Path string `json:"path"` // relative to the top folder of the project, with slashes
	Mark string `json:"mark"` // the digest of its content; before it "x:" if it may be run, "link:" if it is a link; "folder" for an empty folder
	// Raw is the path if it is not UTF-8, which is all that JSON can hold.
	Raw []byte `json:"raw,omitempty"`
	// Beside says of an output that the run did not make it: it was there before, and
	// the run left it alone.
	Beside bool `json:"beside,omitempty"`
	// Accepted says of an output that no run made it: it was there when the user took it for
	// a good one.
	Accepted bool `json:"accepted,omitempty"`
	// Was is the mark that an output had before the run changed it in place; empty:
	// it was not there, or is as it was.
	Was string `json:"was,omitempty"`
}

// Reread makes the paths of files that were kept as JSON what they were.
func Reread(list []File) {
	for i := range list {
		if list[i].Raw != nil {
			list[i].Path = string(list[i].Raw)
		}
	}
}

// hashers are used again: each is larger than what it is given.
var hashers = sync.Pool{New: func() any { return blake3.New() }}

// version is part of every sum: it changes when the same state would give
// another fingerprint.
const version = "tugline 3"

// World is what a fingerprint holds of where a step runs.
type World struct {
	Top    string // the top folder of the project; it does not count where the project lies
	OS     string
	Arch   string
	Keyed  func(value string) (digest string, ok bool) // of a secret value, under a key of the user's; not ok: there is none
	Hidden func(text string) string                    // text with the secret values masked
}

// Compute returns the fingerprint of a step: inputs are those of the step, reads
// is the sum of the files that it reads. Its Files are left out: most often the
// sum is all that is asked for, and [Files] makes them.
func Compute(s *plan.Step, inputs []plan.Input, reads files.Digest, w World) Fingerprint {
	fp := Fingerprint{}
	add := func(kind, name, value string) { fp.Items = append(fp.Items, Item{kind, name, value}) }
	for i, run := range s.Run {
		add("command", strconv.Itoa(i+1), run.Value)
	}
	add("shell", "", s.Task.Shell.Name())
	folder, err := filepath.Rel(w.Top, s.Folder)
	if err != nil {
		folder = s.Folder
	}
	add("folder", "", filepath.ToSlash(folder))
	add("system", "", w.OS+"/"+w.Arch)
	for _, g := range s.Writes {
		add("writes", "", sign(g)+g.Pattern)
	}
	if text := s.Task.Depfile.Value; text != "" {
		add("depfile", "", text)
	}
	for _, in := range inputs {
		value, ok := w.value(in)
		if !ok {
			fp.Unknown = append(fp.Unknown, in.Name)
		}
		add(in.Kind, in.Name, value)
	}
	h := hashers.Get().(*blake3.Hasher)
	defer hashers.Put(h)
	h.Reset()
	writeAll(h, version)
	for _, item := range fp.Items {
		writeAll(h, item.Kind, item.Name, item.Value)
	}
	writeAll(h, "files")
	h.Write(reads[:]) // never fails
	fp.Sum = hex.EncodeToString(h.Sum(nil))
	return fp
}

// value returns the value of an input as it counts: wherever the project lies,
// and without what is secret. A plain value that holds a secret one counts as a
// secret: masked, it could not be told from others. ok is false where the digest
// of a secret cannot be had.
func (w World) value(in plan.Input) (value string, ok bool) {
	if in.Unset {
		return "not set", true
	}
	value = w.anywhere(in.Value)
	if in.Secret || w.Hidden(value) != value {
		digest, ok := w.Keyed(value)
		return "secret, " + digest, ok
	}
	return "=" + value, true
}

// anywhere returns a value with a placeholder for the top folder of the project.
func (w World) anywhere(value string) string {
	if len(w.Top) < 2 || !strings.Contains(value, w.Top) {
		return value
	}
	var b strings.Builder
	for {
		at := strings.Index(value, w.Top)
		if at < 0 {
			return b.String() + value
		}
		end := at + len(w.Top)
		b.WriteString(value[:at])
		if at > 0 && goesOn(value[at-1]) || end < len(value) && value[end] != '/' && goesOn(value[end]) {
			b.WriteString(w.Top) // a part of another path
		} else {
			b.WriteString(plan.Placeholder("TUGLINE_PROJECT"))
		}
		value = value[end:]
	}
}

// goesOn reports whether a path that stands beside c may take it in.
func goesOn(c byte) bool {
	return c == '/' || c == '-' || c == '_' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func sign(g plan.Glob) string {
	if g.Not {
		return "!"
	}
	return ""
}

// Files returns files as they count.
func Files(found []files.Found) []File {
	list := make([]File, len(found))
	for i := range found {
		f := &found[i]
		mark := hex.EncodeToString(f.Digest[:])
		switch {
		case f.Kind == files.Folder:
			mark = "folder"
		case f.Kind == files.Link:
			mark = "link:" + mark
		case f.Executable():
			mark = "x:" + mark
		}
		list[i] = File{Path: f.Path, Mark: mark}
		if !utf8.ValidString(f.Path) {
			list[i].Raw = []byte(f.Path)
		}
	}
	return list
}

// writeAll writes texts so that no other texts come to the same bytes.
func writeAll(h hash.Hash, texts ...string) {
	var buf [256]byte
	for _, text := range texts {
		out := strconv.AppendInt(buf[:0], int64(len(text)), 10)
		out = append(out, ':')
		out = append(out, text...)
		h.Write(out) // never fails
	}
}

// Reason is one thing that differs.
type Reason struct {
	Kind string `json:"kind"` // of an item, file or output; or first, failed, forced, always, undeclared
	What string `json:"what"` // the file, the variable and so on; may be empty
	From string `json:"from"` // before; empty if there was nothing
	To   string `json:"to"`   // now
	Text string `json:"text"` // the whole, as a user reads it

	// Place is where in the project file a variable is used, or else declared; nil: not
	// known. PlaceOf tells which: use or declaration.
	Place   *string `json:"place"`
	PlaceOf *string `json:"place_of"`
}

// Compare returns in what now differs from prev, commands first, files last.
func Compare(prev, now Fingerprint) []Reason {
	return append(compareItems(prev.Items, now.Items), CompareFiles("file", prev.Files, now.Files)...)
}

func compareItems(prev, now []Item) []Reason {
	key := func(items []Item) map[string]string {
		values := map[string]string{}
		for _, item := range items {
			name := item.Kind + "\x00" + item.Name
			if old, several := values[name]; several { // words, patterns
				item.Value = old + " " + item.Value
			}
			values[name] = item.Value
		}
		return values
	}
	before, after := key(prev), key(now)
	var reasons []Reason
	seen := map[string]bool{}
	for _, item := range slices.Concat(now, prev) {
		name := item.Kind + "\x00" + item.Name
		from, was := before[name]
		to, is := after[name]
		if seen[name] || was && is && from == to {
			continue
		}
		seen[name] = true
		reasons = append(reasons, itemReason(item, from, to))
	}
	return reasons
}

// itemReason tells of an item whose value differs; an empty one was, or is, not
// there.
func itemReason(item Item, from, to string) Reason {
	r := Reason{Kind: item.Kind, What: item.Name, From: from, To: to}
	switch item.Kind {
	case "command":
		r.Text = "command changed"
		if from == "" || to == "" {
			r.Text = "number of commands changed"
		}
	case "writes":
		r.Text = "its declared writes changed"
	case "word":
		r.What, r.Text = "--", "words after -- changed"
	case "argument", "path", "variable":
		r.From, r.To = shown(from), shown(to)
		name := item.Name
		if item.Kind == "argument" {
			name = "--" + name
		}
		r.Text = fmt.Sprintf("%s is %s, it was %s", name, r.To, r.From)
		if item.Kind == "argument" {
			r.From, r.To = referred(strings.TrimPrefix(from, "=")), referred(strings.TrimPrefix(to, "="))
		}
		if strings.HasPrefix(from, "secret, ") && strings.HasPrefix(to, "secret, ") {
			r.From, r.To, r.Text = "", "", "the secret "+name+" changed"
		}
	default:
		r.Text = fmt.Sprintf("%s is %s, it was %s", item.Kind, to, from)
	}
	return r
}

// shown returns the value of a variable as a user reads it.
func shown(value string) string {
	if text, ok := strings.CutPrefix(value, "="); ok {
		return strconv.Quote(referred(text))
	}
	switch {
	case value == "":
		return "not declared"
	case strings.HasPrefix(value, "secret"):
		return "secret"
	}
	return value
}

// referred returns a value with what its placeholders stand for, as it is written.
func referred(value string) string {
	var b strings.Builder
	for i, part := range strings.Split(value, "\x00") {
		if i%2 == 1 {
			part = "$" + part
		}
		b.WriteString(part)
	}
	return b.String()
}

// CompareFiles returns in what the files of now differ from those of prev. kind
// is file or output.
func CompareFiles(kind string, prev, now []File) []Reason {
	before := make(map[string]string, len(prev))
	for _, f := range prev {
		before[f.Path] = f.Mark
	}
	words := map[string][3]string{
		"file":   {"%s is new", "%s changed", "%s is gone"},
		"output": {"unexpected output %s", "output %s was changed", "output %s is missing"},
	}[kind]
	var reasons []Reason
	for _, f := range now {
		from, was := before[f.Path]
		delete(before, f.Path)
		switch {
		case !was:
			reasons = append(reasons, Reason{Kind: kind, What: f.Path, To: f.Mark, Text: fmt.Sprintf(words[0], f.Path)})
		case from != f.Mark:
			reasons = append(reasons, Reason{Kind: kind, What: f.Path, From: from, To: f.Mark, Text: fmt.Sprintf(words[1], f.Path)})
		}
	}
	for _, f := range prev {
		if _, gone := before[f.Path]; gone {
			reasons = append(reasons, Reason{Kind: kind, What: f.Path, From: f.Mark, Text: fmt.Sprintf(words[2], f.Path)})
		}
	}
	slices.SortStableFunc(reasons, func(a, b Reason) int { return strings.Compare(a.What, b.What) })
	return reasons
}
