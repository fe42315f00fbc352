package project

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"sort"
	"strings"
	"sync"

	"github.com/joho/godotenv"
)

// Settings are the variables of an env file.
type Settings struct {
	Name  string   // of the file, as it is shown to the user
	Pairs []string // NAME=value, sorted
}

// ParseEnvFile reads the text of an env file: NAME=value lines with the common
// quoting, comments, and an optional export before the name.
func ParseEnvFile(name string, text []byte) (Settings, error) {
	text = append(bytes.TrimRight(normalize(text), "\n"), '\n') // the library misreads a last line without its end
	if at := invalidUTF8(text); at >= 0 {
		return Settings{}, fmt.Errorf("%s:%d: the file is not UTF-8 from here on", name, 1+bytes.Count(text[:at], []byte("\n")))
	}
	vars, err := godotenv.UnmarshalBytes(hideEscapes(text))
	if err != nil {
		return Settings{}, envFileError(name, text)
	}
	s := Settings{Name: name}
	for key, value := range vars {
		value = hiddenEscapes.Replace(value)
		if !ValidVariable(key) {
			return Settings{}, fmt.Errorf("%s: the variable name %q is not allowed", name, key)
		}
		s.Pairs = append(s.Pairs, key+"="+value)
	}
	sort.Strings(s.Pairs)
	return s, nil
}

// inQuotes matches a setting in double quotes.
var inQuotes = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?ms)^(\s*(?:export\s+)?[\w.]+\s*[=:]\s*")((?:[^"\\]|\\.)*)"`)
})

// escapes puts noncharacters (Unicode, section 23.7) in place of the escaped
// backslashes and quotes, which the library misreads before a closing quote.
var (
	escapes       = strings.NewReplacer(`\\`, "\uFDD0", `\"`, "\uFDD1")
	hiddenEscapes = strings.NewReplacer("\uFDD0", `\`, "\uFDD1", `"`)
)

func hideEscapes(text []byte) []byte {
	if !bytes.Contains(text, []byte(`\`)) {
		return text
	}
	return inQuotes().ReplaceAllFunc(text, func(setting []byte) []byte { return []byte(escapes.Replace(string(setting))) })
}

// envFileError finds the first line up to which the file cannot be read: the
// library tells no line.
func envFileError(name string, text []byte) error {
	line := 0
	for end := 0; end < len(text); {
		next := bytes.IndexByte(text[end:], '\n')
		if next < 0 {
			break
		}
		end += next + 1
		line++
		if _, err := godotenv.UnmarshalBytes(text[:end]); err != nil && !openQuote().Match(text[:end]) {
			return fmt.Errorf("%s:%d: %w", name, line, errEnvLine)
		}
	}
	if open := openQuote().FindIndex(text); open != nil {
		return fmt.Errorf("%s:%d: a quote is not closed", name, 1+bytes.Count(text[:open[0]], []byte("\n")))
	}
	return fmt.Errorf("%s:%d: %w", name, line+1, errEnvLine)
}

// openQuote matches a text whose last value may go on in the next line.
var openQuote = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?s)=\s*("[^"]*|'[^']*)$`) })

var errEnvLine = errors.New("this is no NAME=value")
