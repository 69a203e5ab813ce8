// Package refusal is how the parts of the service say no: of which sort it is, in words that say what to do, with the reason as a code
// where somebody decides by it. What carries it to a caller, an HTTP status say, is the edge's business.
package refusal

import (
	"errors"
	"time"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Sort is why something is refused, as far as every caller can tell.
type Sort int

// Sorts of refusals.
const (
	Wrong    Sort = iota // what was asked for cannot be
	NotThere             // what it is about is not there
	Clashes              // with how things are now: look again
	Unproved             // who asks has not proved who they are
	Denied               // who asks may not
	TooMuch              // at once: try again later
	Away                 // what it takes does not answer
)

// Detail is what is wrong with one place.
type Detail struct{ Place, Words string }

// Error is a refusal.
type Error struct {
	Sort    Sort
	Words   string
	Reason  reason.Reason // without a code: the words say it all
	Details []Detail
	Wait    time.Duration // until the next try is heard; 0: nothing is said of it
}

// Error is the words.
func (e *Error) Error() string { return e.Words }

// Invalid refuses what cannot be.
func Invalid(words string, details ...Detail) error {
	return &Error{Sort: Wrong, Words: words, Details: details}
}

// Missing refuses what is about something that is not there.
func Missing(words string) error { return &Error{Sort: NotThere, Words: words} }

// Conflict refuses what clashes with how things are now.
func Conflict(words string) error { return &Error{Sort: Clashes, Words: words} }

// Because refuses for a reason.
func Because(sort Sort, why reason.Reason, details ...Detail) error {
	return &Error{Sort: sort, Words: why.Words(), Reason: why, Details: details}
}

// Known turns the store's errors about one thing into refusals. Other errors, and nil, stay what they are.
func Known(err error, kind, name string) error {
	about := reason.With{reason.What: kind, reason.Name: name}
	var held *store.HeldError
	switch {
	case errors.As(err, &held):
		return Conflict(held.Error())
	case errors.Is(err, store.ErrNotFound):
		return Because(NotThere, reason.Of(reason.NotThere, about))
	case errors.Is(err, store.ErrExists):
		return Because(Clashes, reason.Of(reason.ThereAlready, about))
	case errors.Is(err, store.ErrStale):
		return Because(Clashes, reason.Of(reason.ChangedMeanwhile, about))
	}
	return err
}

// Mistaken says that what was asked for is wrong, unless it was the storage that failed, or it is a refusal already.
func Mistaken(err error) error {
	var already *Error
	if err == nil || store.TroubleOf(err) != nil || errors.As(err, &already) {
		return err
	}
	return Invalid(err.Error())
}
