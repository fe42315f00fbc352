package secret

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func ExampleMask_Text() {
	var m Mask
	m.Add("k-123")
	fmt.Println(m.Text("sent with k-123, not with k-12"))
	// Output: sent with •••, not with k-12
}

func TestNoSecretComesThroughHoweverTheStreamIsCut(t *testing.T) {
	tests := []struct {
		name, text, want string
	}{
		{"alone", "k-123", "•••"},
		{"within text", "a k-123 b", "a ••• b"},
		{"twice", "k-123k-123", "••••••"},
		{"begun anew", "k-k-123", "k-•••"},
		{"only begun", "k-12", "k-12"},
		{"the longer of two that begin alike", "k-12345 k-1234", "••• •••4"},
		{"over two lines", "x\nzwei\nZeilen\ny", "x\n•••\ny"},
		{"a letter of several bytes", "clé\xc3é", "•••\xc3é"},
		{"none", "nothing here", "nothing here"},
	}
	m := &Mask{}
	for _, value := range []string{"k-123", "k-12345", "zwei\nZeilen", "clé", ""} {
		m.Add(value)
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			assert.Equal(t, test.want, m.Text(test.text), "whole")
			for size := 1; size < len(test.text); size++ {
				var out strings.Builder
				w := m.Writer(func(p []byte) { out.Write(p) })
				for rest := test.text; rest != ""; rest = rest[min(size, len(rest)):] {
					w.Write([]byte(rest[:min(size, len(rest))]))
				}
				w.Flush()
				assert.Equal(t, test.want, out.String(), "in pieces of %d", size)
			}
		})
	}
}

func TestOutputIsHeldBackOnlyWhileItMayBeASecret(t *testing.T) {
	m := &Mask{}
	m.Add("k-123")
	var out strings.Builder
	w := m.Writer(func(p []byte) { out.Write(p) })
	w.Write([]byte("asks: k"))
	assert.Equal(t, "asks: ", out.String())
	w.Write([]byte("ey? "))
	assert.Equal(t, "asks: key? ", out.String())
}

func TestNilMaskKnowsNothing(t *testing.T) {
	var m *Mask
	m.Add("x")
	assert.True(t, m.Empty())
	assert.Equal(t, "x", m.Text("x"))
}

// A value is masked where a message or a record has escaped it.
func TestEscapedValuesAreMasked(t *testing.T) {
	for _, value := range []string{"k\n1", `a"b\c`, "tab\there", "ü\x01", "<&>", "plain"} {
		m := &Mask{}
		m.Add(value)
		text, err := json.Marshal(value)
		require.NoError(t, err)
		for _, shown := range []string{value, strconv.Quote(value), strconv.QuoteToASCII(value), string(text)} {
			masked := m.Text("-- " + shown + " --")
			assert.Equal(t, Shown, strings.Trim(masked, `- "`), shown)
		}
	}
}
