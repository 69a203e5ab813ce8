package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

const width = 100 // columns

type printer struct {
	out  io.Writer
	json bool
}

// value prints JSON if it was asked for, and tells whether it did.
func (p *printer) value(v any) (bool, error) {
	if !p.json {
		return false, nil
	}
	enc := json.NewEncoder(p.out)
	enc.SetIndent("", "  ")
	return true, enc.Encode(v)
}

// done says that something was done.
func (p *printer) done(format string, args ...any) error {
	words := fmt.Sprintf(format, args...)
	if printed, err := p.value(map[string]string{"done": words}); printed {
		return err
	}
	p.say("%s", words)
	return nil
}

func (p *printer) say(format string, args ...any) {
	for _, line := range wrap(fmt.Sprintf(format, args...), width) {
		fmt.Fprintln(p.out, line)
	}
}

// indented says something with every line moved in.
func (p *printer) indented(by int, format string, args ...any) {
	for _, line := range wrap(fmt.Sprintf(format, args...), width-by) {
		fmt.Fprintln(p.out, strings.Repeat(" ", by)+line)
	}
}

// table prints rows under a heading. Columns are as wide as they need to be; what does not fit the width is taken from the
// widest columns, whose text then goes over several lines.
func (p *printer) table(head []string, rows [][]string) {
	if len(rows) == 0 {
		p.say("(none)")
		return
	}
	widths := make([]int, len(head))
	for _, r := range append([][]string{head}, rows...) {
		for i, cell := range r {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for total(widths) > width {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		widths[widest]--
	}
	for n, r := range append([][]string{head}, rows...) {
		p.row(r, widths)
		if n == 0 {
			fmt.Fprintln(p.out, strings.Repeat("─", min(total(widths), width)))
		}
	}
}

func total(widths []int) int {
	sum := 2 * (len(widths) - 1)
	for _, w := range widths {
		sum += w
	}
	return sum
}

func (p *printer) row(cells []string, widths []int) {
	parts := make([][]string, len(cells))
	height := 1
	for i, cell := range cells {
		parts[i] = wrap(cell, widths[i])
		height = max(height, len(parts[i]))
	}
	for line := range height {
		text := ""
		for i := range cells {
			word := ""
			if line < len(parts[i]) {
				word = parts[i][line]
			}
			text += word + strings.Repeat(" ", widths[i]-utf8.RuneCountInString(word)+2)
		}
		fmt.Fprintln(p.out, strings.TrimRight(text, " "))
	}
}

// wrap breaks text at spaces; a word that is too long by itself is cut.
func wrap(text string, width int) []string {
	var out []string
	for _, paragraph := range strings.Split(text, "\n") {
		line := ""
		for _, word := range strings.Fields(paragraph) {
			for utf8.RuneCountInString(word) > width {
				if line != "" {
					out = append(out, line)
					line = ""
				}
				r := []rune(word)
				out = append(out, string(r[:width]))
				word = string(r[width:])
			}
			switch {
			case line == "":
				line = word
			case utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) <= width:
				line += " " + word
			default:
				out = append(out, line)
				line = word
			}
		}
		out = append(out, line)
	}
	return out
}
