package revocation

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/store"
)

// list is one list of an authority's, as it was fetched last.
type list struct {
	place

	fetching sync.Mutex // one fetches at a time, and others wait for it

	mu      sync.Mutex // guards what follows
	der     []byte
	fetched time.Time
	failed  string // why it could not be fetched last; empty: it was
	tried   time.Time
	by      *x509.Certificate // who signed it, once that is known
	read    *foreign.List     // by that one
}

const (
	fetchEvery = time.Hour        // a list that is good still
	againAfter = 30 * time.Second // one that could not be fetched
)

// readBy reads the list as one of an issuer. mu is held.
func (l *list) readBy(issuer *x509.Certificate) (*foreign.List, error) {
	if l.der == nil {
		return nil, errors.New("it was not fetched yet")
	}
	if l.read != nil && l.by.Equal(issuer) {
		return l.read, nil
	}
	read, err := foreign.ReadList(l.der, issuer)
	if err == nil {
		l.read, l.by = read, issuer
	}
	return read, err
}

// having gives the lists of some places, and those that were given by hand.
func (k *Keeper) having(ctx context.Context, authority string, places []string) (out []*list) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.restore(ctx)
	for _, from := range places {
		p := place{authority, from}
		if k.lists[p] == nil {
			k.lists[p] = &list{place: p}
		}
		out = append(out, k.lists[p])
	}
	for p, l := range k.lists {
		if p.authority == authority && strings.HasPrefix(p.from, byHand) {
			out = append(out, l)
		}
	}
	return out
}

// restore takes what the store has. mu is held.
func (k *Keeper) restore(ctx context.Context) {
	if k.read {
		return
	}
	kept, err := k.store.AuthorityLists(ctx)
	if err != nil {
		return
	}
	k.read = true
	for _, r := range kept {
		p := place{r.Authority, r.Source}
		k.lists[p] = &list{place: p, der: r.DER, fetched: r.Fetched}
	}
}

// fetch gets a list anew where it is time to (or at once), and keeps it if somebody who may has signed it and it is no older than the one
// that is there.
func (k *Keeper) fetch(ctx context.Context, l *list, atOnce bool, signers ...*x509.Certificate) {
	if strings.HasPrefix(l.from, byHand) {
		return
	}
	l.fetching.Lock()
	defer l.fetching.Unlock()
	if !atOnce && !l.due(k.now()) {
		return
	}
	der, err := get(ctx, l.from)
	var read *foreign.List
	var issuer *x509.Certificate
	if err == nil {
		issuer, read, err = readByAny(der, signers)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	was := l.failed
	l.tried = k.now()
	if err == nil && l.read != nil && l.by.Equal(issuer) && read.This.Before(l.read.This) {
		err = fmt.Errorf("it is older than the one of %s that is there", l.read.This.UTC().Format(time.DateTime))
	}
	if err == nil && !read.Fresh(k.now()) {
		err = fmt.Errorf("what is there was to be gone by until %s", read.Next.UTC().Format(time.DateTime))
	}
	if err != nil {
		if l.failed = err.Error(); was == "" {
			k.tell(l.authority, l.from, l.failed)
		}
		return
	}
	l.der, l.read, l.by, l.fetched, l.failed = der, read, issuer, k.now(), ""
	// What cannot be kept is fetched again after the next start.
	_ = k.store.KeepAuthorityList(ctx, store.AuthorityList{Authority: l.authority, Source: l.from, DER: der, Fetched: l.fetched.UTC()})
	if was != "" {
		k.tell(l.authority, l.from, "")
	}
}

// readByAny reads a list as that of whoever of some has signed it.
func readByAny(der []byte, signers []*x509.Certificate) (by *x509.Certificate, read *foreign.List, err error) {
	err = errors.New("nobody is known who could have signed it")
	for _, by = range signers {
		if read, err = foreign.ReadList(der, by); err == nil {
			return by, read, nil
		}
	}
	return nil, nil, err
}

// due tells whether it is time to fetch: in the second half of its life, hourly, or where what is there will not do.
func (l *list) due(now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.failed != "":
		return now.Sub(l.tried) >= againAfter
	case l.read == nil || !l.read.Fresh(now):
		return true
	}
	return now.Sub(l.fetched) >= min(fetchEvery, l.read.Next.Sub(l.read.This)/2)
}

// Give takes a list by hand, where the service cannot reach the authority's server.
func (k *Keeper) Give(ctx context.Context, a *foreign.Authority, b []byte) (Source, error) {
	var why error
	for _, by := range k.signers(a) {
		read, err := foreign.ReadList(b, by)
		if err != nil {
			why = errors.Join(why, err)
			continue
		}
		if !read.Fresh(k.now()) {
			return Source{}, fmt.Errorf("it was to be gone by until %s: a newer one is needed", read.Next.UTC().Format(time.DateTime))
		}
		sum := sha256.Sum256(by.RawSubjectPublicKeyInfo)
		p := place{a.Name, fmt.Sprintf("%s%s (%x)", byHand, by.Subject.CommonName, sum[:4])}
		k.mu.Lock()
		k.restore(ctx)
		l := k.lists[p]
		if l == nil {
			l = &list{place: p}
		}
		k.mu.Unlock()
		l.mu.Lock()
		defer l.mu.Unlock()
		if old, err := l.readBy(by); err == nil && read.This.Before(old.This) {
			return Source{}, fmt.Errorf("it is older than the one of %s that is there", old.This.UTC().Format(time.DateTime))
		}
		if err := k.store.KeepAuthorityList(ctx, store.AuthorityList{
			Authority: a.Name, Source: p.from, DER: b, Fetched: k.now().UTC(),
		}); err != nil {
			return Source{}, err
		}
		l.der, l.read, l.by, l.fetched = b, read, by, k.now()
		k.mu.Lock()
		k.lists[p] = l
		k.mu.Unlock()
		return l.told(k.now()), nil
	}
	return Source{}, fmt.Errorf("it is no list of this authority: %w; a list that another one signs needs that one's certificate in the plan", why)
}

// signers are who may have signed lists of an authority's: its own certificates, and those in between that were seen.
func (k *Keeper) signers(a *foreign.Authority) []*x509.Certificate {
	k.mu.Lock()
	var lists []*list
	for p, l := range k.lists {
		if p.authority == a.Name {
			lists = append(lists, l)
		}
	}
	k.mu.Unlock() // who holds a list may want the keeper
	out := slices.Clone(a.Certificates)
	for _, l := range lists {
		l.mu.Lock()
		if by := l.by; by != nil && !slices.ContainsFunc(out, by.Equal) {
			out = append(out, by)
		}
		l.mu.Unlock()
	}
	return out
}
