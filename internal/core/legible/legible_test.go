package legible

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEscape(t *testing.T) {
	for in, want := range map[string]string{
		"plain – ✓ Ýmir 🐦\n\ttab":        "plain – ✓ Ýmir 🐦\n\ttab",
		"\x1b[2Jgone":                    `\u001b[2Jgone`,
		"\u009b31m":                      `\u009b31m`,
		"a\u202egpj.exe":                 `a\u202egpj.exe`,
		"\x7f\r\x00":                     `\u007f\u000d\u0000`,
		"cut \xff off":                   `cut \u00ff off`,
		"\u2066x\u2069 \u2028 \u061c":    `\u2066x\u2069 \u2028 \u061c`,
		"the replacement \ufffd is fine": "the replacement \ufffd is fine",
	} {
		require.Equal(t, want, Escape(in))
		if want != in {
			at := Find(in, "\t\n")
			require.GreaterOrEqual(t, at, 0)
			require.NotEmpty(t, Name(in, at))
		}
	}
	require.Equal(t, 1, Find("a\nb", ""))
	require.Equal(t, -1, Find("a\nb", "\n"))
	require.Equal(t, "U+001B", Name("x\x1b", 1))
	require.Contains(t, Name("\xff", 0), "no UTF-8")
}

// Whatever is written in whatever pieces: nothing hidden comes out, and JSON stays JSON that says the same.
func FuzzWriter(f *testing.F) {
	f.Add("plain – ✓\x1b[0m\u202e", 3)
	f.Add("\xe2\x80", 1)
	f.Fuzz(func(t *testing.T, text string, step int) {
		if step < 1 || step > 64 {
			return
		}
		valid := strings.ToValidUTF8(text, "?")
		value, err := json.Marshal(valid)
		require.NoError(t, err)
		var out bytes.Buffer
		w := &Writer{To: &out}
		for rest := value; len(rest) > 0; rest = rest[min(step, len(rest)):] {
			n, err := w.Write(rest[:min(step, len(rest))])
			require.NoError(t, err)
			require.Equal(t, min(step, len(rest)), n)
		}
		require.Equal(t, -1, Find(out.String(), "\t\n"))
		var back string
		require.NoError(t, json.Unmarshal(out.Bytes(), &back))
		require.Equal(t, valid, back)
	})
}
