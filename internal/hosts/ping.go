package hosts

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"time"
)

// Pings is what came of pings in a row.
type Pings struct {
	Answered, Missed int
}

func (p Pings) String() string {
	return fmt.Sprintf("%d pings answered, %d missed", p.Answered, p.Missed)
}

var sequence = regexp.MustCompile(`icmp_seq=(\d+) `)

// Pinging pings an address from a host fifty times a second until it is told to stop. A ping that was on its way then is neither.
func (s *Site) Pinging(ctx context.Context, host, to string) (stop func() (Pings, error), err error) {
	cmd := s.Command(ctx, host, "ping", "-i", "0.02", to)
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return func() (p Pings, err error) {
		time.Sleep(200 * time.Millisecond)
		err = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		last, seen := 0, map[string]bool{}
		for _, found := range sequence.FindAllStringSubmatch(out.String(), -1) {
			seen[found[1]] = true
			n, _ := strconv.Atoi(found[1])
			last = max(last, n)
		}
		return Pings{len(seen), last - len(seen)}, err
	}, nil
}
