// Benchdoc writes what benchmarks measured into a document: between a line such as
//
//	<!-- measured Up: joined-units relay-units joined-% -->
//
// and the next <!-- /measured --> it puts a table of that benchmark's cases with these measures, of what go test -bench printed. Where a
// case was measured several times it has the median, and the smallest and largest in brackets. Of a benchmark with many measures and no
// cases it makes a row of each, with what is aimed at beside it:
//
//	<!-- measured Sizes as rows: commit-s<2 document-s<1 memory-MB -->
//
// benchdoc DOCUMENT FILE...
package main

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "benchdoc:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) < 2 {
		return fmt.Errorf("a document and files with what go test printed are needed")
	}
	m := measured{by: map[string]map[string][]float64{}}
	for _, pattern := range args[1:] {
		files, err := filepath.Glob(pattern)
		if err != nil {
			return err
		}
		for _, path := range files {
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			m.read(string(text))
		}
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	return os.WriteFile(args[0], []byte(m.write(string(text))), 0o644)
}

// measured is what was measured, by case and measure, in the order of the cases.
type measured struct {
	cases []string
	by    map[string]map[string][]float64
}

var line = regexp.MustCompile(`^Benchmark(\S+?)(?:-\d+)?\s+\d+\s+(.*)$`)

// read takes what go test -bench printed.
func (m *measured) read(text string) {
	for lines := bufio.NewScanner(strings.NewReader(text)); lines.Scan(); {
		found := line.FindStringSubmatch(lines.Text())
		if found == nil {
			continue
		}
		name, words := found[1], strings.Fields(found[2])
		if m.by[name] == nil {
			m.by[name] = map[string][]float64{}
			m.cases = append(m.cases, name)
		}
		for i := 0; i+1 < len(words); i += 2 {
			if v, err := strconv.ParseFloat(words[i], 64); err == nil {
				m.by[name][words[i+1]] = append(m.by[name][words[i+1]], v)
			}
		}
	}
}

var begin = regexp.MustCompile(`^<!-- measured (\S+)( as rows)?: (.+) -->$`)

const end = "<!-- /measured -->"

// write replaces the tables of a document of which something was measured.
func (m *measured) write(text string) string {
	var out []string
	skip := false
	for _, l := range strings.Split(text, "\n") {
		if l == end {
			skip = false
		}
		if !skip {
			out = append(out, l)
		}
		if found := begin.FindStringSubmatch(l); found != nil {
			table := m.table
			if found[2] != "" {
				table = m.rows
			}
			if table := table(found[1], strings.Fields(found[3])); table != nil {
				out = append(append(append(out, ""), table...), "")
				skip = true
			}
		}
	}
	return strings.Join(out, "\n")
}

// rows is a table of one benchmark's measures; nil: nothing of it was measured.
func (m *measured) rows(name string, measures []string) (out []string) {
	if m.by[name] == nil {
		return nil
	}
	out = []string{"| | measured | aim |", "|---|---|---|"}
	for _, measure := range measures {
		measure, aim, _ := strings.Cut(measure, "<")
		if word := figure(m.by[name][measure], measure); word != "" {
			out = append(out, "| "+measure+" | "+word+" | "+aim+" |")
		}
	}
	return out
}

// table is of one benchmark; nil: nothing of it was measured.
func (m *measured) table(name string, measures []string) (out []string) {
	for _, c := range m.cases {
		rest, its := strings.CutPrefix(c, name)
		if !its || rest != "" && rest[0] != '/' {
			continue
		}
		row := []string{strings.ReplaceAll(strings.TrimPrefix(rest, "/"), "_", " ")} // as go test writes blanks
		some := false
		for _, measure := range measures {
			word := figure(m.by[c][measure], measure)
			some = some || word != ""
			row = append(row, word)
		}
		if some {
			out = append(out, "| "+strings.Join(row, " | ")+" |")
		}
	}
	if out == nil {
		return nil
	}
	heads := slices.Clone(measures)
	for i, h := range heads {
		switch h {
		case "ns/op":
			heads[i] = "time"
		case "B/op":
			heads[i] = "allocated"
		case "allocs/op":
			heads[i] = "allocations"
		}
	}
	return append([]string{"| | " + strings.Join(heads, " | ") + " |", "|" + strings.Repeat("---|", len(measures)+1)}, out...)
}

// figure is the median of what was measured, with three digits, and its spread.
func figure(all []float64, measure string) string {
	if len(all) == 0 {
		return ""
	}
	slices.Sort(all)
	median, least, most := all[len(all)/2], all[0], all[len(all)-1]
	unit := ""
	for _, u := range units[measure] {
		if median >= u.of {
			unit = " " + u.name
			median, least, most = median/u.of, least/u.of, most/u.of
			break
		}
	}
	if measure == "allocs/op" {
		return group(strconv.FormatFloat(median, 'f', 0, 64))
	}
	out := digits(median) + unit
	if least != most {
		out += " (" + digits(least) + " to " + digits(most) + ")"
	}
	return out
}

// units are those in which measures of any size are told, the largest first.
var units = map[string][]struct {
	of   float64
	name string
}{
	"ns/op": {{1e9, "s"}, {1e6, "ms"}, {1e3, "µs"}, {1, "ns"}}, "B/op": {{1e6, "MB"}, {1e3, "KB"}, {1, "B"}},
}

func digits(v float64) string {
	switch {
	case v == 0:
		return "0"
	case v >= 100 || v <= -100:
		return group(strconv.FormatFloat(v, 'f', 0, 64))
	case v >= 10:
		return strconv.FormatFloat(v, 'f', 1, 64)
	}
	return strconv.FormatFloat(v, 'f', 2, 64)
}

// group puts commas between thousands.
func group(s string) string {
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
