package service

import (
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Answers tell what was wrong with which field, and never what stood in it: it may have been a password, in its own field or in another.
// What the storage could not do is told in plain words, and as nobody's mistake.
func init() {
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		if t := store.TroubleOf(errors.Join(errs...)); t != nil {
			return troubled(t)
		}
		for i, e := range errs {
			if d, ok := e.(huma.ErrorDetailer); ok {
				detail := *d.ErrorDetail()
				detail.Value = nil
				errs[i] = &detail
			}
		}
		refusal := &Refusal{ErrorModel: huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: message}}
		for _, e := range errs {
			if e != nil {
				refusal.Add(e)
			}
		}
		return refusal
	}
}

// Refusal is an answer that says why not, as a problem document (RFC 9457) with members of ours: a code and its parameters, for whoever
// decides by it.
type Refusal struct {
	huma.ErrorModel
	reason.Reason
}

// Error is the words.
func (r *Refusal) Error() string { return r.Detail }

// refuse refuses for a reason.
func refuse(status int, why reason.Reason, details ...error) error {
	r := huma.NewError(status, why.Words(), details...).(*Refusal)
	r.Reason = why
	return r
}

// troubled answers for the storage.
func troubled(t *store.Trouble) huma.StatusError {
	status := http.StatusInternalServerError
	switch {
	case t.Full:
		status = http.StatusInsufficientStorage
	case t.Later:
		status = http.StatusServiceUnavailable
	}
	return &Refusal{ErrorModel: huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: t.Words}}
}

// mistaken answers that what was asked for is wrong, unless it was the storage that failed.
func mistaken(err error) error {
	if t := store.TroubleOf(err); t != nil {
		return troubled(t)
	}
	return huma.Error422UnprocessableEntity(err.Error())
}
