package revocation

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"time"

	"yellowlantern/internal/core/foreign"
)

// failing is a server that is asked, with how that went last.
type failing struct {
	authority string
	at        time.Time
	why       string // empty: it answered
}

func (f *failing) told(address string) Source {
	s := Source{From: address, Kind: "server", State: Fresh, Fetched: f.at}
	if f.why != "" {
		s.State, s.Fetched, s.Failed, s.Tried = None, time.Time{}, f.why, f.at
	}
	return s
}

const (
	askAgain    = 5 * time.Second // a server that gave no answer, so that logins do not all wait for it
	mostAnswers = 100_000
	mostServers = 64
)

// ask asks the authority's server, where what it said before may not be gone by any more.
func (k *Keeper) ask(ctx context.Context, a *foreign.Authority, c, issuer *x509.Certificate) Verdict {
	address := a.OCSP
	for _, u := range c.OCSPServer {
		if address == "" && web(u) {
			address = u
		}
	}
	if address == "" {
		return Verdict{Unknown: "neither the plan nor the certificate names a server to ask"}
	}
	sum := sha256.Sum256(issuer.RawSubjectPublicKeyInfo)
	key := hex.EncodeToString(sum[:]) + " " + c.SerialNumber.Text(16)
	now := k.now()
	k.mu.Lock()
	answer, known := k.answers[key]
	if known = known && now.Before(answer.Until); !known {
		if f := k.asked[address]; f != nil && f.why != "" && now.Sub(f.at) < askAgain {
			defer k.mu.Unlock()
			return Verdict{Unknown: address + ": " + f.why}
		}
	}
	k.mu.Unlock()
	if !known {
		var err error
		answer, err = question(ctx, address, c, issuer, now)
		k.note(a.Name, address, key, answer, err)
		if err != nil {
			return Verdict{Unknown: address + ": " + err.Error()}
		}
	}
	return Verdict{Revoked: answer.Revoked, Since: answer.At, Source: "its server " + address}
}

func question(ctx context.Context, address string, c, issuer *x509.Certificate, now time.Time) (foreign.Answer, error) {
	ask, err := foreign.Ask(c, issuer)
	if err != nil {
		return foreign.Answer{}, err
	}
	b, err := post(ctx, address, "application/ocsp-request", ask)
	if err != nil {
		return foreign.Answer{}, err
	}
	return foreign.ReadAnswer(b, c, issuer, now)
}

// note keeps an answer, and how the server did.
func (k *Keeper) note(authority, address, key string, answer foreign.Answer, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.answers) >= mostAnswers { // they are asked for again
		clear(k.answers)
	}
	if len(k.asked) >= mostServers {
		clear(k.asked)
	}
	was := k.asked[address]
	k.asked[address] = &failing{authority: authority, at: k.now()}
	if err != nil {
		k.asked[address].why = err.Error()
		if was == nil || was.why == "" {
			k.tell(authority, address, err.Error())
		}
		return
	}
	if was != nil && was.why != "" {
		k.tell(authority, address, "")
	}
	k.answers[key] = answer
}
