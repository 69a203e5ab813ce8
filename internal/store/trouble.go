package store

import (
	"errors"
	"regexp"
	"strconv"
)

// inWords finds the code of a failure that is told before another one.
var inWords = regexp.MustCompile(`\((\d+)\); `)

// Trouble is a failure of the storage itself, in plain words: nobody asked for anything wrong.
type Trouble struct {
	Words string
	Full  bool // there is no room left
	Later bool // it may work in a moment
	err   error
}

func (t *Trouble) Error() string { return t.Words }
func (t *Trouble) Unwrap() error { return t.err }

// SQLite's primary result codes (sqlite.org/rescode.html).
const (
	codeError    = 1
	codeBusy     = 5
	codeLocked   = 6
	codeReadOnly = 8
	codeIO       = 10
	codeCorrupt  = 11
	codeFull     = 13
	codeCantOpen = 14
	codeNotADB   = 26
)

// TroubleOf finds the storage's failure in an error; nil if there is none.
func TroubleOf(err error) *Trouble {
	var t *Trouble
	if errors.As(err, &t) {
		return t
	}
	var coded interface{ Code() int }
	if !errors.As(err, &coded) {
		return nil
	}
	code := coded.Code() & 0xff
	if m := inWords.FindStringSubmatch(err.Error()); code == codeError && m != nil {
		// A failure that made SQLite roll back by itself comes with a second one, of a rollback that is not needed, and only that is
		// wrapped.
		code, _ = strconv.Atoi(m[1])
	}
	switch code {
	case codeFull:
		return &Trouble{
			Words: "the disk that holds the records is full: nothing was changed; make room, and do it again", Full: true,
			err: err,
		}
	case codeBusy, codeLocked:
		return &Trouble{Words: "the records are in use by something else for longer than usual: nothing was changed; do it again in a moment", Later: true, err: err}
	case codeReadOnly:
		return &Trouble{Words: "the records cannot be written: nothing was changed; see who owns the data folder, and whether its disk is mounted read-only", err: err}
	case codeIO, codeCantOpen:
		return &Trouble{Words: "the disk that holds the records fails: nothing was changed; look at the machine's own log", err: err}
	case codeCorrupt, codeNotADB:
		return &Trouble{Words: "the database is damaged: stop the service and restore the data folder from a backup", err: err}
	}
	return nil
}

// plainly puts the storage's failures into plain words.
func plainly(err error) error {
	if t := TroubleOf(err); t != nil {
		return t
	}
	return err
}
