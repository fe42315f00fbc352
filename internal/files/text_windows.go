package files

import "os"

// readText returns the text of a file.
func readText(name string) (string, error) {
	text, err := os.ReadFile(name)
	return string(text), err
}
