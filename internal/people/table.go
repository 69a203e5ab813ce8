package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/core/password"
	"yellowlantern/internal/store"
)

// Columns of a table of people (RFC 4180), in the order in which they are written. Groups and tunnels are separated by semicolons, a time
// is a day (until its end, UTC) or a moment (RFC 3339), yes and no are those words.
var Columns = []string{"user", "full-name", "mail", "groups", "off", "until", "hours", "sessions", "tunnels"}

// mostLines is how many people one table holds at most.
const mostLines = 100_000

// What becomes of a line.
const (
	LineAdd     = "add"
	LineChange  = "change"
	LineSame    = "same"
	LineRefused = "refused"
)

// Line is what becomes of one line of a table.
type Line struct {
	Line  int    `json:"line" doc:"Of the file, from 1; the first names the columns."`
	User  string `json:"user,omitempty"`
	Does  string `json:"does" enum:"add,change,same,refused"`
	Words string `json:"words" doc:"What changes, or why it is refused."`
	// Password is one that was made, once the table was taken.
	Password string `json:"password,omitempty" doc:"Of somebody who is new, once the table was taken: it is shown here alone, and counts only until another is chosen."`
}

// Table is what becomes of a table of people.
type Table struct {
	Lines   []Line `json:"lines" nullable:"false"`
	Added   int    `json:"added"`
	Changed int    `json:"changed"`
	Same    int    `json:"same"`
	Refused int    `json:"refused"`
	Taken   bool   `json:"taken" doc:"It was taken; otherwise nothing was changed."`
	added   []store.NewUser
	addedAt []int // in Lines
	changed []store.User
}

// Write writes people as a table.
func Write(w io.Writer, us []User) error {
	out := csv.NewWriter(w)
	if err := out.Write(Columns); err != nil {
		return err
	}
	for _, u := range us {
		var row []string
		for _, c := range Columns {
			row = append(row, inert(u.cell(c)))
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// inert keeps a cell from being a formula to whoever opens the table with a program that calculates. It is undone at reading.
func inert(cell string) string {
	if formula(cell) {
		return "'" + cell
	}
	return cell
}

func formula(cell string) bool { return cell != "" && strings.IndexByte("=+-@'", cell[0]) >= 0 }

// cell is what a person's column holds.
func (u User) cell(column string) string {
	switch column {
	case "user":
		return u.Name
	case "full-name":
		return u.FullName
	case "mail":
		return u.Mail
	case "groups":
		return strings.Join(u.Groups, ";")
	case "off":
		if u.Off {
			return "yes"
		}
		return "no"
	case "until":
		if u.Until.IsZero() {
			return ""
		}
		return u.Until.UTC().Format(time.RFC3339)
	case "hours":
		return u.Hours
	case "sessions":
		if u.Sessions == 0 {
			return ""
		}
		return strconv.Itoa(u.Sessions)
	case "tunnels":
		return strings.Join(u.Tunnels, ";")
	}
	return ""
}

// set takes what a column holds.
func (u *User) set(column, cell string) (err error) {
	switch column {
	case "user":
		u.Name = cell
	case "full-name":
		u.FullName = cell
	case "mail":
		u.Mail = cell
	case "groups":
		u.Groups = words(cell)
	case "off":
		switch strings.ToLower(cell) {
		case "yes":
			u.Off = true
		case "no", "":
			u.Off = false
		default:
			return fmt.Errorf("off is %q: expected yes or no", cell)
		}
	case "until":
		u.Until, err = ReadUntil(cell)
	case "hours":
		u.Hours = cell
	case "sessions":
		if u.Sessions = 0; cell != "" {
			if u.Sessions, err = strconv.Atoi(cell); err != nil {
				return fmt.Errorf("sessions is %q: expected a number", cell)
			}
		}
	case "tunnels":
		if u.Tunnels = words(cell); len(u.Tunnels) == 0 {
			u.Tunnels = nil
		}
	}
	return err
}

func words(cell string) []string {
	out := strings.FieldsFunc(cell, func(r rune) bool { return r == ';' || r == ' ' })
	slices.Sort(out)
	return slices.Compact(out)
}

// ReadUntil reads until when somebody may connect: a day, until its end (UTC), a moment (RFC 3339), or nothing.
func ReadUntil(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.AddDate(0, 0, 1), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, fmt.Errorf("%q is no time: expected a day such as 2027-03-31, or a moment such as 2027-03-31T18:00:00Z", text)
	}
	return t.UTC(), nil
}

// Until says until when, as people write it: the end of a day where it is one.
func Until(t time.Time) string {
	if u := t.UTC(); u.Truncate(24 * time.Hour).Equal(u) {
		return "the end of " + u.Add(-time.Second).Format(time.DateOnly)
	}
	return t.UTC().Format("2006-01-02 15:04") + " UTC"
}

// Import holds a table against people, and takes it if it is to be taken and every line of it will do: all of it, or nothing. Columns that
// it does not have stay as they are; people whom it does not name do too. check may refuse somebody.
func (p *People) Import(ctx context.Context, text []byte, take bool, check func(User) error) (Table, error) {
	have, err := p.List(ctx)
	if err != nil {
		return Table{}, err
	}
	known := map[string]User{}
	for _, u := range have {
		known[u.Name] = u
	}
	t, err := readTable(text, known, check)
	if err != nil || !take {
		return t, err
	}
	if t.Refused > 0 {
		return t, nil
	}
	for i := range t.added {
		rec := t.added[i].User
		made, err := password.New(rand.Reader)
		if err != nil {
			return t, err
		}
		if t.added[i], err = p.prepare(user(rec), store.NewPassword{Text: made, Must: true, Cost: password.Light}); err != nil {
			return t, err
		}
		t.Lines[t.addedAt[i]].Password = made
	}
	if err := p.keeper.ApplyPeople(ctx, t.added, t.changed); err != nil {
		if errors.Is(err, store.ErrExists) || errors.Is(err, store.ErrNotFound) {
			err = fmt.Errorf("people were changed meanwhile (%w): look at it again", err)
		}
		return Table{}, err
	}
	t.Taken = true
	return t, nil
}

func readTable(text []byte, known map[string]User, check func(User) error) (t Table, err error) {
	t.Lines = []Line{}
	in := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\ufeff"))))
	in.FieldsPerRecord = -1
	head, err := in.Read()
	if err != nil {
		return t, fmt.Errorf("the first line names the columns, such as %s: %w", strings.Join(Columns, ","), err)
	}
	for i, c := range head {
		head[i] = strings.ToLower(strings.TrimSpace(c))
		if !slices.Contains(Columns, head[i]) {
			return t, fmt.Errorf("line 1: there is no column %q; there are %s", c, strings.Join(Columns, ", "))
		}
		if slices.Contains(head[:i], head[i]) {
			return t, fmt.Errorf("line 1: the column %s is there twice", c)
		}
	}
	if !slices.Contains(head, "user") {
		return t, errors.New("line 1: there is no column user, by which a line says whom it is about")
	}
	at := map[string]int{}
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return t, nil
		}
		if len(t.Lines) == mostLines {
			return t, fmt.Errorf("there are more than %d lines: take the table in parts", mostLines)
		}
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			return t, fmt.Errorf("line %d: %w", wrong.Line, wrong.Err)
		}
		line, _ := in.FieldPos(0)
		t.line(line, head, row, known, at, check)
	}
}

// line is what becomes of one.
func (t *Table) line(number int, head, row []string, known map[string]User, at map[string]int, check func(User) error) {
	l := Line{Line: number}
	refuse := func(format string, args ...any) {
		l.Does, l.Words = LineRefused, fmt.Sprintf(format, args...)
		t.Refused++
		t.Lines = append(t.Lines, l)
	}
	if len(row) != len(head) {
		refuse("it has %d columns, the first line names %d", len(row), len(head))
		return
	}
	for i, cell := range row {
		row[i] = strings.TrimSpace(cell)
		if len(row[i]) > 1 && row[i][0] == '\'' && formula(row[i][1:]) {
			row[i] = row[i][1:]
		}
	}
	l.User = row[slices.Index(head, "user")]
	if first, twice := at[l.User]; twice {
		refuse("%s is in line %d already", l.User, first)
		return
	}
	at[l.User] = number
	was, exists := known[l.User]
	now := was
	if !exists {
		now = User{Name: l.User, Groups: []string{}}
	}
	var faults []error
	for i, column := range head {
		faults = append(faults, now.set(column, row[i]))
	}
	if err := errors.Join(faults...); err == nil {
		faults = append(faults, now.check())
		if check != nil && !reflect.DeepEqual(was, now) {
			faults = append(faults, check(now))
		}
	}
	if err := errors.Join(faults...); err != nil {
		refuse("%s", strings.ReplaceAll(err.Error(), "\n", "; "))
		return
	}
	switch changes := differ(was, now); {
	case !exists:
		l.Does, l.Words = LineAdd, "in "+orNobody(now.Groups)
		t.Added++
		t.added, t.addedAt = append(t.added, store.NewUser{User: now.record()}), append(t.addedAt, len(t.Lines))
	case len(changes) == 0:
		l.Does, l.Words = LineSame, "nothing changes"
		t.Same++
	default:
		l.Does, l.Words = LineChange, strings.Join(changes, "; ")
		t.Changed++
		t.changed = append(t.changed, now.record())
	}
	t.Lines = append(t.Lines, l)
}

func orNobody(groups []string) string {
	if len(groups) == 0 {
		return "no group"
	}
	return strings.Join(groups, ", ")
}

// differ says in words what is another in b.
func differ(a, b User) (out []string) {
	for _, c := range Columns[1:] {
		if was, now := a.cell(c), b.cell(c); was != now {
			out = append(out, fmt.Sprintf("%s: %s → %s", c, orEmpty(was), orEmpty(now)))
		}
	}
	return out
}

func orEmpty(s string) string {
	if s == "" {
		return "nothing"
	}
	return strings.ReplaceAll(s, ";", ", ")
}

// Known are the words that a plan has for what a person is described with; nil: there is no plan.
type Known struct {
	Groups  []string `json:"groups" nullable:"false"`
	Hours   []string `json:"hours" nullable:"false"`
	Tunnels []string `json:"tunnels" nullable:"false"`
}

// Fits tells which word of a person's the plan does not have.
func (k *Known) Fits(u User) error {
	if k == nil {
		return nil
	}
	missing := map[string]bool{}
	for _, g := range u.Groups {
		missing["group "+g] = !slices.Contains(k.Groups, g)
	}
	for _, t := range u.Tunnels {
		missing["tunnel "+t] = !slices.Contains(k.Tunnels, t)
	}
	if u.Hours != "" {
		missing["hours "+u.Hours] = !slices.Contains(k.Hours, u.Hours)
	}
	maps.DeleteFunc(missing, func(_ string, yes bool) bool { return !yes })
	if len(missing) == 0 {
		return nil
	}
	return fmt.Errorf("the running plan has no %s", strings.Join(slices.Sorted(maps.Keys(missing)), ", no "))
}
