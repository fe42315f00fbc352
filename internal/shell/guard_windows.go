package shell

import "io"

// guardian stands for nothing: on Windows the system ends all programs with Tugline.
type guardian struct{ command []string }

func (g *guardian) ready() {}
func (g *guardian) end()   {}

// Guard returns at once, as guardian.
func Guard(io.Reader, io.ReaderAt, string) {}

// endMarked does nothing, as guardian.
func endMarked([]string, <-chan struct{}) {}

// adoptOrphans does nothing: only Linux gives orphans to anyone but init.
func adoptOrphans() {}
