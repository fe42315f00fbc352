package shell

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// late returns what to call in place of a command that runs a text which only comes into
// being now: eval, a sourced file, what a trap is to do. The text is held to the same rules
// as the script, and changed as that is. What would do something else than in bash ends the
// script.
func (b *builtin) late(hc interp.HandlerContext, args []string) ([]string, error) {
	switch {
	case args[0] == "trap" && len(args) > 2 && args[1] != "-":
		if text, ok := b.lateText(hc, args[0], args[1]); ok {
			return append([]string{"trap", text}, args[2:]...), nil
		}
	case args[0] == "trap" || len(args) < 2:
		return args, nil
	case args[0] == "eval":
		if text, ok := b.lateText(hc, args[0], strings.Join(args[1:], " ")); ok {
			return []string{"eval", text}, nil
		}
	default:
		return b.source(hc, args)
	}
	return []string{statusCommand, "1"}, nil
}

// source is for a file that is sourced. One with a slash, or in the folder, is read here;
// others the library looks for.
func (b *builtin) source(hc interp.HandlerContext, args []string) ([]string, error) {
	path := args[1]
	if !filepath.IsAbs(path) {
		path = filepath.Join(hc.Dir, path)
	}
	read, err := os.ReadFile(path)
	if err != nil {
		return args, nil // which tells
	}
	text, ok := b.lateText(hc, args[1], string(read))
	switch {
	case !ok:
		return []string{statusCommand, "1"}, nil
	case len(args) > 2 || slices.Contains(strings.Fields(text), "return"):
		return args, nil // eval has no arguments, and nothing to return from
	}
	return []string{"eval", text}, nil
}

// lateText returns a text with what rewrite does. ok is false if it is refused, which was
// told and ends the script.
func (b *builtin) lateText(hc interp.HandlerContext, what, text string) (rewritten string, ok bool) {
	parser := parsers.Get().(*syntax.Parser)
	defer parsers.Put(parser)
	file, err := parser.Parse(strings.NewReader(text), "")
	if err != nil {
		return text, true // the library tells
	}
	if problems := check(text, file); len(problems) > 0 {
		why := fmt.Sprintf("%s: %s; %s", what, problems[0].Msg, problems[0].Hint)
		fmt.Fprintln(hc.Stderr, why) // a stream that is gone is no reason to fail otherwise
		b.troubles.expansion(why)
		return "", false
	}
	if !looksBack().MatchString(text) {
		errExit(file)
	}
	rewrite(file, false)
	guardNumbers(file)
	var out strings.Builder
	if err := syntax.NewPrinter().Print(&out, file); err != nil {
		return text, true
	}
	return out.String(), true
}
