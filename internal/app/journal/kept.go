package journal

import (
	"encoding/json"
	"time"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Params is a reason's parameters as they are kept.
func Params(why reason.Reason) string {
	if len(why.With) == 0 {
		return ""
	}
	b, err := json.Marshal(why.With)
	if err != nil { // texts only: it cannot
		return ""
	}
	return string(b)
}

// Reason is a reason that was kept.
func Reason(code, with string) reason.Reason {
	out := reason.Reason{Code: reason.Code(code)}
	if with != "" {
		_ = json.Unmarshal([]byte(with), &out.With)
	}
	return out
}

// eventOf is a line that was kept. Lines of versions that wrote words only, with the protocol's own error beside them, have no code.
func eventOf(r store.JournalEntry) gateway.Event {
	e := gateway.Event{
		Time: r.At.Truncate(time.Millisecond), Kind: r.Kind, Gateway: r.Gateway, User: r.User, From: r.From, Reason: Reason(r.Reason, r.With), Words: r.Words,
	}
	if r.Reason == "" && r.Code != "" {
		e.Reason = e.Reason.And(reason.With{reason.Notify: r.Code, reason.Offered: r.Offered, reason.Wanted: r.Wanted})
	}
	return e
}
