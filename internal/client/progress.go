package client

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"yellowlantern/internal/guard"
)

// quick is how long a call takes that nobody wonders about.
const quick = time.Second

// errSilent ends a call for which nothing came.
var errSilent = fmt.Errorf("nothing came for %s, and it is working on nothing that was asked for", patience)

// watched is the context of a call that ends where nothing comes for so long and the service does not work on it either. Who waits is told
// how far it is. stop must be called.
func (c *Client) watched(ctx context.Context) (until context.Context, stop func()) {
	until, end := context.WithCancelCause(ctx)
	over := make(chan struct{})
	guard.Go("client.watched", func() {
		defer close(over)
		seen, told := time.Now(), false
		wait := time.NewTimer(quick)
		defer wait.Stop()
		for {
			select {
			case <-until.Done():
				if told {
					c.Progress("")
				}
				return
			case <-wait.C:
			}
			if words := c.working(until); words != "" {
				if seen = time.Now(); c.Progress != nil {
					c.Progress(words)
					told = true
				}
			}
			if time.Since(seen) > patience {
				end(errSilent)
			}
			wait.Reset(quick / 2)
		}
	})
	return until, func() {
		end(nil)
		<-over
	}
}

// working says what the service works out for whoever calls; empty: nothing, or it does not say.
func (c *Client) working(ctx context.Context) string {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	var tasks []struct {
		Yours bool   `json:"yours"`
		Words string `json:"words"`
	}
	resp, err := c.send(ctx, http.MethodGet, "/computing", nil)
	if err != nil {
		return ""
	}
	if _, err := read(resp, &tasks); err != nil {
		return ""
	}
	words := ""
	for _, t := range tasks { // the last is what the others wait for
		if t.Yours {
			words = t.Words
		}
	}
	return words
}
