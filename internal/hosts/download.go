package hosts

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"yellowlantern/internal/guard"
)

// Downloading fetches a page from a host until it is over, or nothing has come for five seconds, and returns once its first octets are
// there. The page is one under /slow/, whose server sends 200 KB a second: whatever can stop a download stops this one, and no kernel on
// the way holds all of it beforehand.
//
// What end returns is how much came, and an error with curl's exit status where that is not all.
func (s *Site) Downloading(ctx context.Context, host, url string) (end func() (octets int64, err error), err error) {
	into, err := os.CreateTemp(s.folder, "download")
	if err != nil {
		return nil, err
	}
	_ = into.Close()
	size := func() int64 {
		at, err := os.Stat(into.Name())
		if err != nil {
			return 0
		}
		return at.Size()
	}
	over := make(chan error, 1)
	guard.Go("hosts.Downloading", func() {
		out, err := s.Run(ctx, host, "curl", "-sS", "--no-buffer", "--connect-timeout", "5", "--speed-limit", "1", "--speed-time", "5",
			"-o", into.Name(), url)
		if err != nil {
			err = fmt.Errorf("%s: %w", strings.TrimSpace(out), err)
		}
		over <- err
	})
	for begun := time.Now(); size() == 0; time.Sleep(20 * time.Millisecond) {
		select {
		case err := <-over:
			return nil, fmt.Errorf("%s from %s: over before anything came: %w", url, host, err)
		default:
			if time.Since(begun) > 10*time.Second {
				return nil, fmt.Errorf("%s from %s: nothing came for ten seconds", url, host)
			}
		}
	}
	return func() (int64, error) {
		err := <-over
		defer func() { _ = os.Remove(into.Name()) }()
		return size(), err
	}, nil
}
