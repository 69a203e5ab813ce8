// Package revocation finds out whether certificates of other authorities are revoked: it fetches their lists and asks their servers, keeps
// what it got, and says what it goes by and how fresh that is. What a list or an answer says package foreign reads.
package revocation

import (
	"context"
	"crypto/x509"
	"fmt"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// Store keeps lists, so that a service that starts again goes by what it had.
type Store interface {
	AuthorityLists(ctx context.Context) ([]store.AuthorityList, error)
	KeepAuthorityList(ctx context.Context, l store.AuthorityList) error
}

// Keeper has what is known.
type Keeper struct {
	// Tell hears of a place where something could be had and cannot any more, with why, or can again; nil: nobody does. It must not call
	// the keeper.
	Tell func(authority, from, failed string)

	store Store
	now   func() time.Time

	mu      sync.Mutex
	lists   map[place]*list
	answers map[string]foreign.Answer // by issuer and serial
	asked   map[string]*failing       // servers, by address
	read    bool                      // what the store has
}

// place is where a list of an authority is from: an address, or given by hand.
type place struct{ authority, from string }

// byHand begins the places of lists that were given by hand; who signed them follows.
const byHand = "given by hand, of "

// New has nothing yet.
func New(st Store) *Keeper {
	return &Keeper{store: st, now: time.Now, lists: map[place]*list{}, answers: map[string]foreign.Answer{}, asked: map[string]*failing{}}
}

func (k *Keeper) tell(authority, from, failed string) {
	if k.Tell != nil {
		k.Tell(authority, from, failed)
	}
}

// Verdict is what is known of a certificate and those above it.
type Verdict struct {
	Revoked bool
	Since   time.Time
	Source  string // by what it is known
	Unknown string // why it is not known; empty: it is
}

// Judge finds out whether some certificate of a chain is revoked; the last, which the plan believes by itself, is not looked at.
func (k *Keeper) Judge(ctx context.Context, a *foreign.Authority, chain []*x509.Certificate) Verdict {
	var all Verdict
	for i := 0; i+1 < len(chain); i++ {
		v := k.one(ctx, a, chain[i], chain[i+1])
		switch {
		case v.Revoked:
			if i > 0 {
				v.Source = chain[i].Subject.CommonName + " by " + v.Source
			}
			return v
		case v.Unknown != "" && all.Unknown == "":
			all.Unknown = v.Unknown
		case all.Source == "":
			all.Source = v.Source
		}
	}
	return all
}

func (k *Keeper) one(ctx context.Context, a *foreign.Authority, c, issuer *x509.Certificate) Verdict {
	var why []string
	how := a.FoundOut()
	if how == plan.RevocationNone {
		return Verdict{Source: "nobody is asked, as the plan says"}
	}
	if how == plan.RevocationOCSP || how == plan.RevocationBoth {
		v := k.ask(ctx, a, c, issuer)
		if v.Unknown == "" {
			return v
		}
		why = append(why, v.Unknown)
	}
	if how == plan.RevocationLists || how == plan.RevocationBoth {
		v := k.byList(ctx, a, c, issuer)
		if v.Unknown == "" {
			return v
		}
		why = append(why, v.Unknown)
	}
	return Verdict{Unknown: strings.Join(why, "; ")}
}

// byList goes by the lists that are there, and fetches some where none will do.
func (k *Keeper) byList(ctx context.Context, a *foreign.Authority, c, issuer *x509.Certificate) Verdict {
	places := placesFor(a, c)
	why := ""
	for _, fetch := range []bool{false, true} {
		for _, l := range k.having(ctx, a.Name, places) {
			if fetch {
				k.fetch(ctx, l, false, issuer)
			}
			v, ok := k.look(l, c, issuer)
			if ok {
				return v
			}
			why = v.Unknown
		}
	}
	if why == "" {
		why = "neither the plan nor the certificate says where a list is, and none was given by hand"
	}
	return Verdict{Unknown: why}
}

// look reads what a list says of a certificate; not ok: nothing.
func (k *Keeper) look(l *list, c, issuer *x509.Certificate) (Verdict, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	read, err := l.readBy(issuer)
	switch {
	case l.failed != "" && (err != nil || !read.Fresh(k.now())):
		return Verdict{Unknown: l.from + ": " + l.failed}, false
	case err != nil:
		return Verdict{Unknown: l.from + ": " + err.Error()}, false
	case !read.Fresh(k.now()):
		return Verdict{Unknown: fmt.Sprintf("%s was to be gone by until %s", l.from, read.Next.UTC().Format(time.DateTime))}, false
	case !read.Covers(c):
		return Verdict{Unknown: l.from + " is about other certificates"}, false
	}
	at, gone := read.Revoked(c)
	return Verdict{Revoked: gone, Since: at, Source: fmt.Sprintf("the list of %s, %s", read.This.UTC().Format(time.DateTime), l.from)}, true
}

// placesFor are the addresses of lists that may be about a certificate.
func placesFor(a *foreign.Authority, c *x509.Certificate) (out []string) {
	if len(a.Lists) > 0 {
		return a.Lists
	}
	for _, u := range c.CRLDistributionPoints {
		if web(u) {
			out = append(out, u)
		}
	}
	return out
}

func web(u string) bool {
	u = strings.ToLower(u)
	return strings.HasPrefix(u, "http://") || strings.HasPrefix(u, "https://")
}
