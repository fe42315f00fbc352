// Generate writes docs/reference.md from the program itself: its keys and its
// commands. With -check it only tells whether the file is as it should be.
package main

import (
	"bytes"
	_ "embed"
	"flag"
	"fmt"
	"os"

	"tugline/internal/cli"
)

// file is where the reference stands, from the top of the repository.
const file = "docs/reference.md"

// rest is what no table in the program holds.
//
//go:embed rest.md
var rest string

func main() {
	check := flag.Bool("check", false, "only tell whether "+file+" is up to date")
	flag.Parse()
	if err := write(*check); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(check bool) error {
	want := []byte(cli.Reference(rest))
	if !check {
		return os.WriteFile(file, want, 0o644)
	}
	have, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if !bytes.Equal(have, want) {
		return fmt.Errorf("%s is out of date: go run ./docs/generate", file)
	}
	return nil
}
