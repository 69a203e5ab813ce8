package people

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/hex"
	"slices"
	"strings"
	"sync"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/eap"
)

// Tester is an identity made for one trial: it is in the groups of a class of people, lives in memory alone, and is gone when the
// trial is over. Nobody else knows its password.
type Tester struct {
	Name, Password string
	groups         []string
	hash           [eap.NTHashLen]byte
	// Key is what it proves itself with by tunnels that want a key.
	Key         ed25519.PrivateKey
	Certificate []byte // for it, DER, by itself
	fingerprint string
}

// testerPrefix begins the names of testers; no user's name can begin so.
const testerPrefix = "~trial-"

// testers are the identities that are lent out just now.
type testers struct {
	mu   sync.Mutex
	lent map[string]*Tester
}

// Lend makes a tester for people in the groups. It must be taken back.
func (p *People) Lend(groups []string) *Tester {
	b := make([]byte, 28)
	_, _ = rand.Read(b)
	t := &Tester{Name: testerPrefix + hex.EncodeToString(b[:8]), Password: hex.EncodeToString(b[8:]), groups: slices.Clone(groups)}
	t.hash = eap.NTHash(t.Password)
	if public, key, err := ed25519.GenerateKey(rand.Reader); err == nil {
		if spki, err := x509.MarshalPKIXPublicKey(public); err == nil {
			t.Key, t.fingerprint = key, cert.Fingerprint(spki)
			t.Certificate = cert.SelfSigned(t.Name, key)
		}
	}
	p.testers.mu.Lock()
	defer p.testers.mu.Unlock()
	if p.testers.lent == nil {
		p.testers.lent = map[string]*Tester{}
	}
	p.testers.lent[t.Name] = t
	return t
}

// TakeBack makes a tester worthless.
func (p *People) TakeBack(t *Tester) {
	p.testers.mu.Lock()
	defer p.testers.mu.Unlock()
	delete(p.testers.lent, t.Name)
}

// IsTester tells whether a name is a tester's, lent out or gone.
func IsTester(name string) bool { return strings.HasPrefix(name, testerPrefix) }

// withKey finds the tester that a key is of.
func (ts *testers) withKey(fingerprint string) *Tester {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	for _, t := range ts.lent {
		if t.fingerprint == fingerprint {
			return t
		}
	}
	return nil
}

func (ts *testers) find(name string) *Tester {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	return ts.lent[name]
}
