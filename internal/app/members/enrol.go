package members

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/enrol"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// EnrolPath is where devices ask for certificates by SCEP (RFC 8894).
const EnrolPath = "/enrol"

// Invitation lets a device of a person's have a certificate for a key that it makes itself, once.
type Invitation struct {
	ID        string    `json:"id" doc:"By which it is taken back."`
	User      string    `json:"user"`
	Device    string    `json:"device,omitempty"`
	By        string    `json:"by"`
	Expires   time.Time `json:"expires"`
	UsedBy    string    `json:"used-by,omitempty" doc:"The fingerprint of the key that it was used for."`
	Challenge string    `json:"challenge,omitempty" doc:"What the device is to be told: shown this once."`
	URL       string    `json:"url,omitempty" doc:"Where the device asks; none: the service knows no address that devices reach."`
}

// How long invitations count.
const (
	defaultInvitation = 48 * time.Hour
	longestInvitation = 30 * 24 * time.Hour
)

// Invite makes an invitation.
func (s *Service) Invite(ctx context.Context, user, device string, lasts time.Duration) (Invitation, error) {
	if _, err := s.People.User(ctx, user); err != nil {
		return Invitation{}, refusal.Known(err, "user", user)
	}
	if lasts == 0 {
		lasts = defaultInvitation
	}
	if lasts < time.Minute || lasts > longestInvitation {
		return Invitation{}, refusal.Invalid("an invitation counts from a minute to 30 days")
	}
	challenge, now := rand.Text(), time.Now().UTC()
	i := store.Invitation{Digest: digestOf(challenge), User: user, Device: device, By: actor.Name(ctx), At: now, Expires: now.Add(lasts)}
	if err := s.Store.SaveInvitation(ctx, i); err != nil {
		return Invitation{}, err
	}
	out := invitation(i)
	out.Challenge = challenge
	if at := s.At(); at != "" {
		out.URL = at + EnrolPath
	}
	return out, nil
}

func digestOf(challenge string) string {
	sum := sha256.Sum256([]byte(challenge))
	return hex.EncodeToString(sum[:])
}

func invitation(i store.Invitation) Invitation {
	return Invitation{ID: i.Digest[:12], User: i.User, Device: i.Device, By: i.By, Expires: i.Expires, UsedBy: i.UsedBy}
}

// Invitations lists them, the newest first; of one person, or where none is named, of everybody.
func (s *Service) Invitations(ctx context.Context, user string) ([]Invitation, error) {
	all, err := s.Store.Invitations(ctx, user)
	out := make([]Invitation, 0, len(all))
	for _, i := range all {
		out = append(out, invitation(i))
	}
	return out, err
}

// Uninvite takes an invitation back.
func (s *Service) Uninvite(ctx context.Context, id string) error {
	_, err := s.Store.RemoveInvitation(ctx, id)
	return refusal.Known(err, "invitation", id)
}

// refusedEnrolments are those of the current minute: strangers ask too, and do not fill the journal.
type refusedEnrolments struct {
	mu    sync.Mutex
	tally crowd.Tally
}

const (
	refusalsEvery = time.Minute
	mostRefusals  = 16 // that are told in that time one by one
)

// refusedEnrolment writes down that a device got no certificate, or counts it with others like it.
func (s *Service) refusedEnrolment(why, user string, from netip.Addr) {
	told := reason.Of(reason.EnrolmentRefused, reason.With{reason.Error: why, reason.Source: from.String()})
	r, now := &s.refused, time.Now()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tally.Every, r.tally.Most = refusalsEvery, mostRefusals
	counted, rest := r.tally.Due(now)
	for _, c := range counted {
		s.Journal.Tell(c.Index.(reason.Reason).And(reason.With{
			reason.More: strconv.Itoa(c.More), reason.Until: c.Last.Format(time.TimeOnly),
		}), "")
	}
	if rest.More > 0 {
		s.Journal.Tell(reason.Of(reason.OthersRefused, reason.With{
			reason.Count: strconv.Itoa(rest.More), reason.When: rest.Last.Format(time.TimeOnly),
		}), "")
	}
	if r.tally.Lets(now, crowd.Source(from).String()+" "+user+" "+why, told) {
		s.Journal.Tell(told, user)
	}
}

// Enrol answers a device's message. An error is one that nobody can be answered.
func (s *Service) Enrol(ctx context.Context, b []byte, from netip.Addr) ([]byte, error) {
	by, authority, err := s.Trust.Enrolment(ctx)
	if err != nil {
		return nil, err
	}
	m, err := enrol.Read(b, by)
	if m == nil {
		return nil, err
	}
	if err != nil {
		return m.Refused(by, enrol.BadMessage)
	}
	k, user, why := s.grant(ctx, m)
	if k == nil {
		s.refusedEnrolment(why, user, from)
		return m.Refused(by, enrol.BadRequest)
	}
	return m.Granted(by, k, authority)
}

// grant gives a device its certificate; nil: it gets none, and why.
func (s *Service) grant(ctx context.Context, m *enrol.Message) (leaf *x509.Certificate, user, why string) {
	text := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: m.Request}))
	if _, _, err := people.ReadPublic(text); err != nil {
		return nil, "", err.Error()
	}
	fingerprint := cert.Fingerprint(m.Public)
	var device string
	switch m.Type {
	case enrol.Renewal:
		k, err := s.Store.Key(ctx, cert.Fingerprint(m.Signer.RawSubjectPublicKeyInfo))
		counts := err == nil && k.Authority == "" && k.Revoked.IsZero() && string(k.Certificate) == string(m.Signer.Raw)
		switch left := time.Until(k.Expires); {
		case !counts || left <= 0:
			return nil, k.User, "it shows no certificate that counts"
		case left > cert.RenewWithin:
			return nil, k.User, people.ErrNotDue.Error()
		}
		user, device = k.User, k.Device
	default:
		i, err := s.Store.TakeInvitation(ctx, digestOf(m.Challenge), fingerprint, time.Now())
		if err != nil {
			return nil, "", "it brings no invitation that counts (yl users keys invite makes one)"
		}
		user, device = i.User, i.Device
	}
	if u, err := s.People.User(ctx, user); err != nil || u.Off {
		return nil, user, "its person may not come in"
	}
	if k, err := s.Store.Key(ctx, fingerprint); err == nil && k.User == user && k.Revoked.IsZero() && m.Type == enrol.First {
		leaf, err = x509.ParseCertificate(k.Certificate) // the answer was lost
		if err != nil {
			return nil, user, "its key is known without a certificate"
		}
		return leaf, user, ""
	}
	k, err := s.AddKey(ctx, user, device, text)
	var clash *refusal.Error
	if errors.As(err, &clash) {
		return nil, user, clash.Words
	}
	if err != nil {
		return nil, user, err.Error()
	}
	block, _ := pem.Decode([]byte(k.Certificate))
	if leaf, err = x509.ParseCertificate(block.Bytes); err != nil {
		return nil, user, err.Error()
	}
	about := reason.With{reason.What: device, reason.Until: leaf.NotAfter.Format(time.DateOnly), reason.Certificate: fingerprint}
	s.Journal.Tell(reason.Of(reason.Enrolled, about), user)
	return leaf, user, ""
}
