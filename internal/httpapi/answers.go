package httpapi

import (
	"context"
	"errors"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/app/refusal"
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

// statuses are how sorts of refusals travel.
var statuses = map[refusal.Sort]int{
	refusal.Wrong: http.StatusUnprocessableEntity, refusal.NotThere: http.StatusNotFound, refusal.Clashes: http.StatusConflict,
	refusal.Unproved: http.StatusUnauthorized, refusal.Denied: http.StatusForbidden, refusal.TooMuch: http.StatusTooManyRequests,
	refusal.Away: http.StatusServiceUnavailable,
}

// refusing turns what is refused into answers.
func refusing[I, O any](h func(context.Context, *I) (*O, error)) func(context.Context, *I) (*O, error) {
	return func(ctx context.Context, in *I) (*O, error) {
		out, err := h(ctx, in)
		var no *refusal.Error
		if !errors.As(err, &no) {
			return out, err
		}
		r := &Refusal{
			ErrorModel: huma.ErrorModel{Status: statuses[no.Sort], Title: http.StatusText(statuses[no.Sort]), Detail: no.Words},
			Reason:     no.Reason,
		}
		for _, d := range no.Details {
			r.Add(&huma.ErrorDetail{Location: d.Place, Message: d.Words})
		}
		if no.Wait > 0 { // when the next try is heard (RFC 9110 §10.2.3)
			return nil, huma.ErrorWithHeaders(r, http.Header{"Retry-After": {strconv.Itoa(int(no.Wait.Seconds()) + 1)}})
		}
		return nil, r
	}
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
