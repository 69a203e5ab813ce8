package handover

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/skip2/go-qrcode"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

const (
	// LinkPath is where links lead, the token behind it.
	LinkPath     = "/kit/"
	tokenOctets  = 20
	longestLink  = 30 * 24 * time.Hour
	openedLasts  = 15 * time.Minute // for how long the files of a kit that was opened can be fetched
	openedMost   = 256
	defaultLasts = 48 * time.Hour
)

// Link is a link by which a person fetches a kit, once.
type Link struct {
	ID       string    `json:"id" doc:"By which it can be withdrawn."`
	User     string    `json:"user"`
	Platform string    `json:"platform"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	Expires  time.Time `json:"expires"`
	State    string    `json:"state" enum:"counts,used,withdrawn,expired"`
	Used     time.Time `json:"used,omitzero"`
}

// NewLink is a link with its token, which is told this once.
type NewLink struct {
	Link
	Path string `json:"path" doc:"Of the page that it opens, on every address of the console."`
	URL  string `json:"url,omitempty" doc:"Where the service has a name: the whole link."`
	QR   []byte `json:"qr,omitempty" doc:"The whole link as a picture (PNG)."`
}

func digestOf(token string) string {
	sum := sha256.Sum256([]byte(strings.ToLower(token)))
	return hex.EncodeToString(sum[:])
}

func linkOf(r store.KitLink, now time.Time) Link {
	l := Link{ID: r.Digest[:16], User: r.User, Platform: r.Platform, At: r.At, By: r.By, Expires: r.Expires, Used: r.Used, State: "counts"}
	switch {
	case !r.Used.IsZero():
		l.State = "used"
	case !r.Withdrawn.IsZero():
		l.State = "withdrawn"
	case !now.Before(r.Expires):
		l.State = "expired"
	}
	return l
}

// NewLink makes a link for a person and a kind of device, which counts for some time; 0: two days. A kit that cannot be is refused here.
func (s *Service) NewLink(ctx context.Context, user, platform string, lasts time.Duration) (NewLink, error) {
	p, ok := devices.Named(platform)
	if !ok || p.Word == devices.OwnClient {
		return NewLink{}, refusal.Invalid(fmt.Sprintf("there is no kit for %q by a link: windows, apple, android", platform))
	}
	if lasts == 0 {
		lasts = defaultLasts
	}
	if lasts < time.Minute || lasts > longestLink {
		return NewLink{}, refusal.Invalid("a link counts from a minute to 30 days")
	}
	known, class, _, err := s.class(ctx, user)
	if err == nil {
		_, err = s.values(ctx, known, class, user, p, authorities{})
	}
	if err != nil {
		return NewLink{}, err
	}
	b := make([]byte, tokenOctets)
	if _, err := rand.Read(b); err != nil {
		return NewLink{}, err
	}
	token, now := strings.ToLower(base32.StdEncoding.EncodeToString(b)), time.Now().UTC()
	r := store.KitLink{Digest: digestOf(token), User: user, Platform: platform, By: actor.Name(ctx), At: now, Expires: now.Add(lasts)}
	if err := s.Store.SaveKitLink(ctx, r); err != nil {
		return NewLink{}, err
	}
	out := NewLink{Link: linkOf(r, now), Path: LinkPath + token}
	if at := s.At(); at != "" {
		out.URL = at + out.Path
		out.QR, err = qrcode.Encode(out.URL, qrcode.Medium, 320)
	}
	return out, err
}

// Links lists links, the newest first.
func (s *Service) Links(ctx context.Context, user string) ([]Link, error) {
	all, err := s.Store.KitLinks(ctx, user)
	out := make([]Link, 0, len(all))
	for _, r := range all {
		out = append(out, linkOf(r, time.Now()))
	}
	return out, err
}

// Withdraw makes a link worthless.
func (s *Service) Withdraw(ctx context.Context, id string) error {
	all, err := s.Store.KitLinks(ctx, "")
	if err != nil {
		return err
	}
	for _, r := range all {
		if linkOf(r, time.Now()).ID != id {
			continue
		}
		done, err := s.Store.EndKitLink(ctx, r.Digest, "withdrawn", time.Now())
		if err == nil && !done {
			return refusal.Conflict("the link counts no more: it was used, withdrawn, or is over")
		}
		return err
	}
	return refusal.Missing("there is no such link: yl users kit-links list shows them")
}

// ErrLink is for a link that counts no more, or never did: whoever has it learns no more than that.
var ErrLink = errors.New("this link does not count, or no longer: ask for another one")

// Look tells whether a link counts, and of what it is, without using it up: scanners open links. Nothing of the person is told.
func (s *Service) Look(ctx context.Context, token string) (site, platform string, err error) {
	r, err := s.Store.KitLink(ctx, digestOf(token))
	if err != nil || linkOf(r, time.Now()).State != "counts" {
		return "", "", ErrLink
	}
	known, _, err := s.Plans.Known(ctx, "")
	p, ok := devices.Named(r.Platform)
	if err != nil || !ok {
		return "", "", ErrLink
	}
	return known.Model.Plan.Name, p.Name, nil
}

// opened are kits that were fetched by a link just now: their files can be, for a moment.
type opened struct {
	mu sync.Mutex
	by map[string]grant
}

type grant struct {
	made  Made
	until time.Time
}

// Open uses a link up, and gives the kit, and the token by which its files are fetched. A person who was removed or may come in no more
// gets none, and the link stays as it is.
func (s *Service) Open(ctx context.Context, token, from string) (Made, string, error) {
	r, err := s.Store.KitLink(ctx, digestOf(token))
	if err != nil || linkOf(r, time.Now()).State != "counts" {
		return Made{}, "", ErrLink
	}
	p, err := s.prepare(actor.With(ctx, actor.Actor{Name: r.By + ", by a link"}), r.User, r.Platform, Wants{})
	if err != nil {
		return Made{}, "", ErrLink
	}
	first, err := s.Store.EndKitLink(ctx, r.Digest, "used", time.Now())
	if err != nil || !first { // somebody else was faster: what was prepared counts for nobody
		return Made{}, "", ErrLink
	}
	made := p.made
	if err := p.keep(context.WithoutCancel(ctx)); err != nil {
		return Made{}, "", err
	}
	s.Journal.Tell(reason.Of(reason.KitFetched, reason.With{reason.What: r.Platform, reason.Source: from}), r.User)
	b := make([]byte, tokenOctets)
	if _, err := rand.Read(b); err != nil {
		return Made{}, "", err
	}
	key := hex.EncodeToString(b)
	s.opened.mu.Lock()
	defer s.opened.mu.Unlock()
	now := time.Now()
	for k, g := range s.opened.by {
		if now.After(g.until) || len(s.opened.by) >= openedMost {
			delete(s.opened.by, k)
		}
	}
	if s.opened.by == nil {
		s.opened.by = map[string]grant{}
	}
	s.opened.by[key] = grant{made, now.Add(openedLasts)}
	return made, key, nil
}

// Fetched is a file of a kit that was opened just now, by somebody who may still come in.
func (s *Service) Fetched(ctx context.Context, key, name string) (contentType string, data []byte, ok bool) {
	s.opened.mu.Lock()
	g, ok := s.opened.by[key]
	s.opened.mu.Unlock()
	if !ok || time.Now().After(g.until) {
		return "", nil, false
	}
	if now, err := s.People.Standing(ctx, g.made.User); err != nil || len(now.Groups) == 0 {
		return "", nil, false
	}
	for _, f := range g.made.Files {
		if f.Name == name {
			return f.Type, f.Data, true
		}
	}
	return "", nil, false
}
