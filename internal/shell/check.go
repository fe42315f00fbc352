package shell

import "mvdan.cc/sh/v3/syntax"

// check returns what the library would run otherwise than bash, from the
// syntax tree alone.
func check(script string, file *syntax.File) []Problem { return nil }
