// Package legible keeps texts honest that reach a terminal or a page: what would move a cursor, set a window's title, or turn letters
// around is refused where it comes in, and shown escaped where it is there already. What a text means is left to others.
package legible

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Hidden tells whether a character acts rather than shows: the control characters (C0, DEL and C1 of ECMA-48), those that change the
// direction of text (UAX #9 §2), and the line and paragraph separators. A tab and a line feed count as such.
func Hidden(r rune) bool {
	switch {
	case unicode.IsControl(r), r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}

// Find gives the octet at which a text has its first hidden character, one that is not in allowed; -1 if there is none. What is no UTF-8
// counts as hidden.
func Find(text, allowed string) int {
	for i, r := range text {
		bad := Hidden(r)
		if r == utf8.RuneError {
			_, size := utf8.DecodeRuneInString(text[i:])
			bad = size == 1
		}
		if bad && !strings.ContainsRune(allowed, r) {
			return i
		}
	}
	return -1
}

// Name names the character at an octet of a text, for whoever is to take it out.
func Name(text string, at int) string {
	r, size := utf8.DecodeRuneInString(text[at:])
	if r == utf8.RuneError && size == 1 {
		return fmt.Sprintf("the octet 0x%02x, which is no UTF-8", text[at])
	}
	return fmt.Sprintf("U+%04X", r)
}

// Escape writes hidden characters but tabs and line feeds as \u and four digits, as JSON has it, so that JSON stays what it says.
func Escape(text string) string {
	if Find(text, "\t\n") < 0 {
		return text
	}
	var b strings.Builder
	for i, r := range text {
		if _, size := utf8.DecodeRuneInString(text[i:]); r == utf8.RuneError && size == 1 {
			fmt.Fprintf(&b, `\u%04x`, text[i])
			continue
		}
		if Hidden(r) && r != '\t' && r != '\n' {
			fmt.Fprintf(&b, `\u%04x`, r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Writer escapes what is written through it. A character that is cut off between two writes waits for its rest.
type Writer struct {
	To   io.Writer
	rest []byte
}

// Write writes everything, escaped.
func (w *Writer) Write(p []byte) (int, error) {
	all := append(w.rest, p...)
	n := len(all)
	for back := 1; back <= min(3, n); back++ {
		if utf8.RuneStart(all[n-back]) {
			if !utf8.FullRune(all[n-back:]) {
				n -= back
			}
			break
		}
	}
	_, err := io.WriteString(w.To, Escape(string(all[:n])))
	w.rest = append([]byte(nil), all[n:]...)
	return len(p), err
}
