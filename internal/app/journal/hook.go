package journal

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"yellowlantern/internal/gateway"
)

// Webhook is where events are sent to: a POST with the event as JSON.
type Webhook struct {
	URL   string
	Token string   // sent as a bearer token; empty: none
	Kinds []string // of events
}

const (
	hookQueue   = 256 // events that wait; more are left out, and the log says so
	hookTries   = 4
	hookTimeout = 5 * time.Second
)

// hook sends events one after another, so that a slow listener holds up nobody.
type hook struct {
	kinds []string
	queue chan gateway.Event
	full  func()
}

// tell queues an event, if it is of a kind that is wanted.
func (h *hook) tell(e gateway.Event) {
	if !slices.Contains(h.kinds, e.Kind) {
		return
	}
	select {
	case h.queue <- e:
	default:
		h.full()
	}
}

// Send hands events to the webhook until the context ends; without a webhook it returns at once.
func (s *Service) Send(ctx context.Context) {
	if s.webhook == nil {
		return
	}
	if words := s.webhook.Warning(); words != "" {
		s.log.Warn(words)
	}
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-s.hook.queue:
			if err := s.webhook.send(ctx, e); err != nil {
				s.log.Warn("webhook: an event was not taken", "kind", e.Kind, "error", err)
			}
		}
	}
}

// send tries a few times, waiting longer each time.
func (w *Webhook) send(ctx context.Context, e gateway.Event) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	for try := range hookTries {
		if err = w.post(ctx, b); err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second << try):
		}
	}
	return err
}

// hookClient follows no redirect: an event, and the token with it, goes where the administrator said and nowhere else.
var hookClient = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// Warning says what is unwise about where events are sent to; empty: nothing.
func (w *Webhook) Warning() string {
	u, err := url.Parse(w.URL)
	if err != nil || w.Token == "" || u.Scheme == "https" {
		return ""
	}
	if a, err := netip.ParseAddr(u.Hostname()); err == nil && a.IsLoopback() || u.Hostname() == "localhost" {
		return ""
	}
	return "the webhook's token travels in clear to " + u.Host + ": whoever is on the way can read it, and use it; give an https address"
}

func (w *Webhook) post(ctx context.Context, b []byte) error {
	bounded, cancel := context.WithTimeout(ctx, hookTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(bounded, http.MethodPost, w.URL, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if w.Token != "" {
		req.Header.Set("Authorization", "Bearer "+w.Token)
	}
	resp, err := hookClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return fmt.Errorf("it answered %s", resp.Status)
	}
	return nil
}
