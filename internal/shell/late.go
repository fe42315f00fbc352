package shell

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// late returns what to call in place of a command that runs a text which only comes into
// being now: eval, a sourced file, what a trap is to do. The text is held to the same rules
// as the script, and changed as that is. What would do something else than in bash ends the
// script.
func (b *builtin) late(hc interp.HandlerContext, args []string) ([]string, error) {
	switch {
	case args[0] == "trap" && len(args) > 2:
		text, ok := args[1], true
		if text != "-" {
			text, ok = b.lateText(hc, args[0], text)
		}
		if ok {
			return b.trap(text, args[2:]), nil
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

// isCaught reports whether a trap on a signal is run by us: when the signal ends the
// script.
func isCaught(signal string) bool {
	return slices.Contains([]string{"INT", "SIGINT", "TERM", "SIGTERM", "HUP", "SIGHUP"}, signal)
}

// trap notes what is to be run for signals, and returns what to call for the rest.
func (b *builtin) trap(text string, signals []string) []string {
	var rest []string
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, signal := range signals {
		switch {
		case !isCaught(signal):
			rest = append(rest, signal)
		case text == "-":
			delete(b.traps, strings.TrimPrefix(signal, "SIG"))
		default:
			b.traps[strings.TrimPrefix(signal, "SIG")] = text
		}
	}
	if len(rest) == 0 {
		return []string{statusCommand, "0"}
	}
	return append([]string{"trap", text}, rest...)
}

// caught runs what a trap is to do for the signal that ended the script, within the grace
// time.
func (b *builtin) caught(ctx context.Context, runner *interp.Runner) {
	name := map[string]string{"interrupt": "INT", "terminated": "TERM", "hangup": "HUP"}[stopSignal(ctx).String()]
	b.mu.Lock()
	text := b.traps[name]
	b.mu.Unlock()
	if text == "" {
		return
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	if err != nil {
		return // it was parsed when the trap was set
	}
	late, cancel := context.WithTimeout(context.WithoutCancel(ctx), max(b.cmd.Grace, time.Second))
	defer cancel()
	runner.Subshell().Run(late, file) // how it ends does not count: the signal does
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
