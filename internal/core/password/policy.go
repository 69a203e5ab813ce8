package password

import (
	_ "embed"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Bounds of a password's length: Least in characters, for whoever sees a challenge answered can try guesses against it; Longest in octets.
const (
	Least   = 12
	Longest = 256
)

//go:embed common.txt
var commonText string

// common is what passwords are made of that many people think of, the longest first.
var common = longestFirst(strings.Fields(commonText))

func longestFirst(words []string) []string {
	slices.SortStableFunc(words, func(a, b string) int { return len(b) - len(a) })
	return words
}

// Check tells why a password will not do. about are words that somebody who guesses knows: the person's name, the site's.
func Check(password string, least int, about ...string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case !utf8.ValidString(password):
		return errors.New("the password is not UTF-8 text")
	case strings.ContainsFunc(password, unicode.IsControl):
		return errors.New("the password holds a control character, which no device can be given")
	case n < max(least, Least):
		return fmt.Errorf("the password has %d characters; give at least %d, such as four unrelated words", n, max(least, Least))
	case len(password) > Longest:
		return fmt.Errorf("the password is longer than %d octets", Longest)
	}
	if word := guessable(password, about); word != "" {
		return fmt.Errorf("the password is among the first that are guessed (%s): give four unrelated words", word)
	}
	return nil
}

// plain undoes what people do to a word so that it looks like none.
var plain = strings.NewReplacer(
	"0", "o", "1", "i", "3", "e", "4", "a", "5", "s", "7", "t", "8", "b", "@", "a", "$", "s", "!", "i", "|", "l",
)

// guessable says which pattern a password is one of; empty: none.
func guessable(password string, about []string) string {
	low := strings.ToLower(password)
	if distinct(low) <= 3 {
		return "few different characters"
	}
	if runs(low) {
		return "a run along the keyboard or the alphabet"
	}
	var words []string
	for _, a := range about {
		words = append(words, strings.FieldsFunc(strings.ToLower(a), func(r rune) bool { return !unicode.IsLetter(r) })...)
	}
	words = longestFirst(slices.DeleteFunc(words, func(w string) bool { return utf8.RuneCountInString(w) < 4 }))
	for _, text := range []string{letters(low), letters(plain.Replace(low))} {
		rest, used := left(text, words)
		if used > 0 && utf8.RuneCountInString(rest) < 4 {
			return "made of the person's or the site's name"
		}
		rest, more := left(rest, common)
		if used+more > 0 && more <= 2 && utf8.RuneCountInString(rest) < 4 {
			return "made of a common one"
		}
	}
	return ""
}

// letters leaves out everything else: digits and signs before, between and behind words are guessed with them.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) {
			return r
		}
		return -1
	}, s)
}

// left is what is left of a text without words, the longest first, and how many of them were in it.
func left(text string, words []string) (rest string, used int) {
	for _, w := range words {
		if strings.Contains(text, w) {
			text = strings.ReplaceAll(text, w, "")
			used++
		}
	}
	return text, used
}

func distinct(s string) int {
	seen := map[rune]bool{}
	for _, r := range s {
		seen[r] = true
	}
	return len(seen)
}

// rows are what fingers and children run along; either way, once begun.
var rows = []string{
	"abcdefghijklmnopqrstuvwxyz", "01234567890", "qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "yxcvbnm", "azertyuiop", "qsdfghjklm",
	"1qaz2wsx3edc4rfv5tgb6yhn7ujm8ik9ol", "1q2w3e4r5t6y7u8i9o0p",
}

func init() {
	for _, row := range slices.Clone(rows) {
		back := []rune(row)
		slices.Reverse(back)
		rows = append(rows, string(back))
	}
}

// runs tells whether nearly all of a text runs along rows, in pieces of four and more.
func runs(s string) bool {
	rs := []rune(s)
	in := 0
	for i := 0; i < len(rs); {
		n := 1
		for _, row := range rows {
			k := 1
			for i+k < len(rs) && strings.Contains(row, string(rs[i:i+k+1])) {
				k++
			}
			n = max(n, k)
		}
		if n >= 4 {
			in += n
		}
		i += n
	}
	return in > 0 && len(rs)-in < 4
}

const (
	consonants = "bdfghjkmnprstvwz" // 16, none of them mistaken for a digit
	vowels     = "aeiou"
	groups     = 4
)

// New makes a password that can be read out and typed on any keyboard: 66 bits, as four groups of five letters.
func New(random io.Reader) (string, error) {
	var out strings.Builder
	for g := range groups {
		if g > 0 {
			out.WriteByte('-')
		}
		for i := range 5 {
			of := consonants
			if i%2 == 1 {
				of = vowels
			}
			c, err := pick(random, of)
			if err != nil {
				return "", err
			}
			out.WriteByte(c)
		}
	}
	return out.String(), nil
}

// pick takes one of up to 16 letters, each as likely as any other.
func pick(random io.Reader, of string) (byte, error) {
	fair := 256 - 256%len(of)
	for b := [1]byte{}; ; {
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return 0, err
		}
		if int(b[0]) < fair {
			return of[int(b[0])%len(of)], nil
		}
	}
}
