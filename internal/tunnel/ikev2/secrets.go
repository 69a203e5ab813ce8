package ikev2

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/private"
)

const (
	secretsName = "ikev2-secrets.json"
	// ticketKeyMakes is for how long a key makes tickets; then another one does, and this one opens them for as long as they may last.
	ticketKeyMakes = 6 * time.Hour
	ticketLasts    = 12 * time.Hour
)

// keeper keeps what must outlive the process: by what devices learn that it ended, and come back.
type keeper struct {
	path string // empty: it outlives nothing

	mu   sync.Mutex
	have kept
}

type kept struct {
	Crash   []byte          `json:"crash"`
	Tickets []ike.TicketKey `json:"tickets"`
}

// openKeeper reads what was kept. What cannot be read is made anew: devices then log in.
func openKeeper(folder string) (*keeper, error) {
	k := &keeper{}
	if folder == "" {
		return k, nil
	}
	k.path = filepath.Join(folder, secretsName)
	b, err := os.ReadFile(k.path)
	if err == nil {
		err = private.Check(k.path)
	}
	if err == nil {
		err = json.Unmarshal(b, &k.have)
	}
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	if err != nil {
		k.have = kept{}
	}
	return k, err
}

// secrets gives what counts now, and changes keys whose time is over.
func (k *keeper) secrets(now time.Time) (ike.Secrets, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	changed := false
	if len(k.have.Crash) != 32 {
		k.have.Crash, changed = random32(), true
	}
	fresh := k.have.Tickets[:0:0]
	for _, t := range k.have.Tickets {
		if age := now.Sub(t.Made); len(t.Key) == 32 && age >= 0 && age < ticketKeyMakes+ticketLasts {
			fresh = append(fresh, t)
		}
	}
	changed = changed || len(fresh) != len(k.have.Tickets)
	k.have.Tickets = fresh
	if len(fresh) == 0 || now.Sub(fresh[0].Made) >= ticketKeyMakes {
		id := uint32(1)
		if len(fresh) > 0 {
			id = fresh[0].ID + 1
		}
		k.have.Tickets, changed = append([]ike.TicketKey{{ID: id, Key: random32(), Made: now}}, fresh...), true
	}
	out := ike.Secrets{Crash: k.have.Crash, Tickets: append([]ike.TicketKey{}, k.have.Tickets...)}
	if !changed || k.path == "" {
		return out, nil
	}
	b, err := json.Marshal(k.have)
	if err == nil {
		err = private.Write(k.path, b)
	}
	return out, err
}

func random32() []byte {
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	return b
}
