package shell

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"
)

// echoText returns what bash's echo prints for its arguments: it takes -n, -e and -E, also
// several in one word, and interprets escapes only with -e.
func echoText(args []string) string {
	newline, escapes := true, false
	for len(args) > 0 && echoOption().MatchString(args[0]) {
		for _, c := range args[0][1:] {
			switch c {
			case 'n':
				newline = false
			case 'e':
				escapes = true
			case 'E':
				escapes = false
			}
		}
		args = args[1:]
	}
	text := strings.Join(args, " ")
	if escapes {
		var ended bool
		if text, ended = unescape(text); ended {
			return text
		}
	}
	if newline {
		text += "\n"
	}
	return text
}

var echoOption = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^-[neE]+$`) })

// simpleEscapes are the escapes of one letter.
var simpleEscapes = map[byte]byte{'a': 7, 'b': 8, 'e': 27, 'E': 27, 'f': 12, 'n': 10, 'r': 13, 't': 9, 'v': 11, '\\': '\\'}

// unescape returns text with the escapes of echo -e interpreted. ended says that it ends
// at an escape \c, and without a newline.
func unescape(text string) (out string, ended bool) {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' || i+1 == len(text) {
			b.WriteByte(text[i])
			continue
		}
		i++
		c := text[i]
		if simple, ok := simpleEscapes[c]; ok {
			b.WriteByte(simple)
			continue
		}
		switch c {
		case 'c':
			return b.String(), true
		case '0':
			n := digits(text[i+1:], 3, 8)
			code, _ := strconv.ParseUint("0"+text[i+1:i+1+n], 8, 32) // these are octal digits
			b.WriteByte(byte(code))
			i += n
		case 'x', 'u', 'U':
			n := digits(text[i+1:], map[byte]int{'x': 2, 'u': 4, 'U': 8}[c], 16)
			if n == 0 {
				b.WriteString(text[i-1 : i+1])
				continue
			}
			code, _ := strconv.ParseUint(text[i+1:i+1+n], 16, 64) // these are hexadecimal digits
			if c == 'x' {
				b.WriteByte(byte(code))
			} else if code <= utf8.MaxRune {
				b.WriteRune(rune(code))
			}
			i += n
		default:
			b.WriteString(text[i-1 : i+1])
		}
	}
	return b.String(), false
}

// digits returns how many digits of a base text begins with, at most so many.
func digits(text string, most, base int) int {
	n := 0
	for n < most && n < len(text) {
		if _, err := strconv.ParseUint(text[n:n+1], base, 8); err != nil {
			break
		}
		n++
	}
	return n
}

// isPlainTest reports whether the arguments of a test are of a kind that evalTest knows.
// What they mean is decided by their number (POSIX, test).
func isPlainTest(args []string) bool {
	switch {
	case len(args) == 1:
		return true
	case len(args) == 3 && slices.Contains(binaryTests, args[1]):
		return true
	case len(args) > 1 && args[0] == "!":
		return isPlainTest(args[1:])
	}
	return len(args) == 2 && slices.Contains(unaryTests, args[0])
}

// evalTest returns the exit code of a test for which isPlainTest holds: 0 and 1 are yes
// and no, 2 comes with an error. Paths count from dir.
func evalTest(args []string, dir string) (code int, err error) {
	yes, no := 0, 1
	if isNot := len(args) == 2 || len(args) == 4 || len(args) == 3 && !slices.Contains(binaryTests, args[1]); isNot && args[0] == "!" {
		args, yes, no = args[1:], 1, 0
	}
	is := false
	switch len(args) {
	case 1:
		is = args[0] != ""
	case 2:
		is = unaryTest(args[0], args[1], dir)
	default:
		if is, err = binaryTest(args[0], args[1], args[2]); err != nil {
			return 2, err
		}
	}
	if is {
		return yes, nil
	}
	return no, nil
}

func unaryTest(op, value, dir string) bool {
	switch op {
	case "-n":
		return value != ""
	case "-z":
		return value == ""
	}
	if value == "" {
		return false
	}
	path := value
	if !filepath.IsAbs(path) {
		path = dir + string(filepath.Separator) + path // a / at the end counts
	}
	if op == "-L" || op == "-h" {
		info, err := os.Lstat(path)
		return err == nil && info.Mode()&os.ModeSymlink != 0
	}
	info, err := os.Stat(path)
	if err != nil {
		return false
	}
	switch op {
	case "-f":
		return info.Mode().IsRegular()
	case "-d":
		return info.IsDir()
	case "-s":
		return info.Size() > 0
	case "-r", "-w", "-x":
		return mayAccess(path, op[1], info)
	}
	return true
}

// wholeTest is a number as test takes it.
var wholeTest = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[ \t\n\v\f\r]*([+-]?[0-9]+)[ \t]*$`) })

func binaryTest(a, op, b string) (bool, error) {
	switch op {
	case "=", "==":
		return a == b, nil
	case "!=":
		return a != b, nil
	}
	var numbers [2]int64
	for i, text := range []string{a, b} {
		m := wholeTest().FindStringSubmatch(text)
		if m == nil {
			return false, fmt.Errorf("%q is no whole number", text)
		}
		var err error
		if numbers[i], err = strconv.ParseInt(m[1], 10, 64); err != nil {
			return false, fmt.Errorf("the number %q is too large", text)
		}
	}
	switch x, y := numbers[0], numbers[1]; op {
	case "-eq":
		return x == y, nil
	case "-ne":
		return x != y, nil
	case "-lt":
		return x < y, nil
	case "-le":
		return x <= y, nil
	case "-gt":
		return x > y, nil
	case "-ge":
		return x >= y, nil
	}
	return false, errors.New("unknown operator " + op)
}
