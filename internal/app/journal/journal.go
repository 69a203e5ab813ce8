// Package journal writes down what happens, hands it to whoever looks on and to the webhook, and finds it again. It is the one place that
// writes the journal.
package journal

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Service is the journal.
type Service struct {
	store   *store.Store
	log     *slog.Logger
	webhook *Webhook
	hook    hook
	viewers viewers
	// Collector is where lines are sent on to; nil: nowhere.
	Collector *Collector
}

// New makes the journal of a store. hook may be nil.
func New(st *store.Store, log *slog.Logger, to *Webhook) *Service {
	s := &Service{store: st, log: log, webhook: to}
	if to != nil {
		s.hook = hook{
			kinds: to.Kinds, queue: make(chan gateway.Event, hookQueue),
			full: func() { log.Warn("webhook: too many events wait, one is left out") },
		}
	}
	return s
}

// Tell writes something of the service's own. A journal that cannot be written is told in the log.
func (s *Service) Tell(why reason.Reason, user string) {
	if err := s.write(gateway.Tell(why, user, "")); err != nil {
		s.log.Error("journal", "error", err)
	}
}

// admitPatience is for how long a login waits to be recorded, within the time that a login may take.
const admitPatience = 25 * time.Second

// Admit records a login that is about to be let in; one that cannot be recorded is not.
func (s *Service) Admit(e gateway.Event) error {
	return Patiently(admitPatience, func() error { return s.write(e) })
}

// EventPatience is for how long what RADIUS servers are to be told waits to be written while the database is somebody else's.
const EventPatience = time.Minute

// storageAgain is after which the storage is tried again that took nothing.
const storageAgain = 500 * time.Millisecond

// Events writes what a gateway tells of, lines and sessions that ended, and that it was taken. While the storage takes nothing, for its
// disk is full or somebody else has it, they wait where they are, until the context ends; it tells whether they were taken.
func (s *Service) Events(ctx context.Context, events []gateway.Event, past []store.PastSession, t store.Taken) bool {
	var lines []store.JournalEntry
	var told []gateway.Event
	for _, e := range events {
		if !people.IsTester(e.User) { // of these nothing is written; what comes after it is noted as taken, and it with that
			lines, told = append(lines, entryOf(e)), append(told, e)
		}
	}
	if len(lines) == 0 && len(past) == 0 {
		return true
	}
	for said := false; ; said = true {
		err := s.store.AddEvents(context.WithoutCancel(ctx), lines, past, t)
		if err == nil {
			break
		}
		trouble := store.TroubleOf(err)
		if !said || trouble == nil {
			s.log.Error("journal", "error", err)
		}
		if trouble == nil { // it would never be written
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(storageAgain):
		}
	}
	for _, e := range told {
		s.tell(e)
	}
	return true
}

// Patiently tries again for a while what the storage may do in a moment.
func Patiently(most time.Duration, do func() error) error {
	for begun := time.Now(); ; {
		err := do()
		if t := store.TroubleOf(err); t == nil || !t.Later || time.Since(begun) > most {
			return err
		}
	}
}

// write writes a line and tells who looks on. Of identities made for trials nothing is written: their reports say it all, and a schedule
// would fill the journal.
func (s *Service) write(e gateway.Event) error {
	if people.IsTester(e.User) {
		return nil
	}
	if err := s.store.AddJournal(context.Background(), entryOf(e)); err != nil {
		return err
	}
	s.tell(e)
	return nil
}

func entryOf(e gateway.Event) store.JournalEntry {
	return store.JournalEntry{
		At: e.Time.UTC(), Kind: e.Kind, Gateway: e.Gateway, User: e.User, From: e.From, Words: e.Words, Reason: string(e.Code), With: Params(e.Reason),
	}
}

// tell tells who looks on of a line that was written.
func (s *Service) tell(e gateway.Event) {
	s.viewers.tell(e)
	s.hook.tell(e)
	s.log.Info("journal", "kind", e.Kind, "user", e.User, "from", e.From, "code", e.Code, "with", e.With, "words", e.Words)
}

// Query says which lines are wanted. Empty fields ask for nothing.
type Query struct {
	Kind, User, Text, Code string
	With                   []string // parameters of the reason with their values, as passage=staff
	Since, Until           time.Time
	Limit                  int
}

// Find gives lines, the newest first.
func (s *Service) Find(ctx context.Context, q Query) ([]gateway.Event, error) {
	with := map[string]string{}
	for _, p := range q.With {
		name, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, refusal.Invalid(fmt.Sprintf("with: %q is no parameter with its value: write passage=staff", p))
		}
		with[name] = value
	}
	records, err := s.store.Journal(ctx, store.JournalQuery{
		Kind: q.Kind, User: q.User, Text: q.Text, Code: q.Code, With: with, Since: q.Since, Until: q.Until, Limit: q.Limit,
	})
	out := make([]gateway.Event, 0, len(records))
	for _, r := range records {
		out = append(out, eventOf(r))
	}
	return out, err
}
