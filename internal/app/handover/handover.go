// Package handover hands people what their devices need, keeps what was handed to whom, and says whose is stale, who never came in, and
// what is to be done about each. What a kit holds is core/handover's.
package handover

import (
	"cmp"
	"context"
	"encoding/pem"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/handover"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Service hands over.
type Service struct {
	Store   *store.Store
	People  *people.People
	Plans   *plans.Service
	Trust   *trust.Service
	Journal *journal.Service
	Gateway interface{ Sessions() []gateway.Session }
	// Own makes the file of our own client. group is one of theirs, where they are of a source and were not here yet.
	Own func(ctx context.Context, user, group string) (trials.ProbeKit, error)
	// At is where people reach the pages of kits, such as https://kits.tern.example; empty: not known.
	At func() string
	// Invite lets a device of a person's have a certificate for a key that it makes itself: where it asks, and by which word.
	Invite func(ctx context.Context, user, device string) (url, challenge string, err error)

	opened opened
}

// Kit is a kit that was made.
type Kit struct {
	User     string    `json:"user"`
	Platform string    `json:"platform"`
	Revision int       `json:"revision" doc:"It was made by this revision."`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	Expires  time.Time `json:"expires,omitzero" doc:"When the certificate in it ends."`
	Stale    string    `json:"stale,omitempty" doc:"Why it is not what would be made now; empty: it is."`
}

// Made is a kit with what it holds.
type Made struct {
	Kit
	Password string          `json:"password,omitempty" doc:"The person's new password, where one was asked for: it is in the kit, and is not told again."`
	Shared   bool            `json:"shared,omitempty" doc:"The key that the person and the gateway share is in the kit."`
	Invites  bool            `json:"invites,omitempty" doc:"An invitation is in the kit, by which the device has a certificate for a key that it makes itself, once."`
	Key      bool            `json:"key,omitempty" doc:"A key for this device alone is in the kit, and nowhere else."`
	Site     string          `json:"site"`
	Banner   string          `json:"banner,omitempty" doc:"Of the passage."`
	CodePage string          `json:"code-page,omitempty" doc:"Where the person gives their second factor once they are connected."`
	Tunnel   string          `json:"tunnel"`
	Steps    []string        `json:"steps" nullable:"false"`
	Files    []handover.File `json:"files" nullable:"false"`
}

// Row is one person, and how far their handover is.
type Row struct {
	User     string    `json:"user"`
	FullName string    `json:"full-name,omitempty"`
	Groups   []string  `json:"groups" nullable:"false"`
	Kits     []Kit     `json:"kits" nullable:"false"`
	First    time.Time `json:"first,omitzero" doc:"First login."`
	Last     time.Time `json:"last,omitzero" doc:"Newest login."`
	Device   string    `json:"device,omitempty" doc:"What they are connected with now: what the device calls itself, and where it is seen."`
	Refused  string    `json:"refused,omitempty" doc:"Why their newest try failed, where none succeeded after it."`
	Next     string    `json:"next" doc:"What is to be done next; empty: nothing."`
	Mend     string    `json:"mend,omitempty" doc:"The command for it."`
}

// class finds somebody's class in the running plan.
func (s *Service) class(ctx context.Context, user string) (*reach.Known, *reach.Class, int, error) {
	known, number, err := s.Plans.Known(ctx, "")
	if err != nil {
		return nil, nil, 0, err
	}
	if i, ok := known.Named(user); ok {
		return known, &known.Classes[i], number, nil
	}
	return nil, nil, 0, refusal.Missing(fmt.Sprintf("there is no active user %q", user))
}

// Wants is what a kit is to hold that is made for it.
type Wants struct {
	NewPassword bool // another one of the person's
	// KeyOnDevice has the device make its key itself, and have a certificate issued for it by an invitation in the kit.
	KeyOnDevice bool
}

// Make makes the kit of a person for a kind of device, and keeps that it was made. Where the tunnel wants a certificate, a key is made for
// the device, which is in the kit alone, or by the device itself.
func (s *Service) Make(ctx context.Context, user, platform string, wants Wants) (Made, error) {
	p, err := s.prepare(ctx, user, platform, wants)
	if err != nil {
		return Made{}, err
	}
	return p.made, p.keep(ctx)
}

// prepared is a kit that is whole, before anybody's password or keys are others: until it is kept, nothing has changed.
type prepared struct {
	made Made
	keep func(context.Context) error
}

func (s *Service) prepare(ctx context.Context, user, platform string, wants Wants) (none prepared, err error) {
	p, ok := devices.Named(platform)
	if !ok || platform == devices.OwnClient {
		return none, refusal.Invalid(fmt.Sprintf("there is no kit for %q here: windows, apple, android, %s", platform, devices.OwnKit))
	}
	known, class, number, err := s.class(ctx, user)
	if err != nil {
		return none, err
	}
	v, err := s.values(ctx, known, class, user, p, authorities{})
	if err != nil {
		return none, err
	}
	if _, err := handover.Make(p, v, handover.Secrets{}); err != nil { // before anything is signed
		return none, refusal.Mistaken(err)
	}
	record := store.Kit{
		User: user, Platform: platform, Revision: number, Digest: v.Digest(platform), At: time.Now().UTC(), By: actor.Name(ctx),
		Authorities: strings.Join(fingerprints(v), " "),
	}
	secrets, apply := handover.Secrets{}, func(context.Context) error { return nil }
	switch {
	case platform != devices.OwnKit:
		if secrets, apply, err = s.secrets(ctx, p, v, wants, &record); err != nil {
			return none, err
		}
	case wants.NewPassword, wants.KeyOnDevice: // nothing of it would be in the file
		return none, refusal.Invalid("a kit for yl dial holds no password and no key: yl users password " + user +
			" gives another password, yl dial new-key on the device makes a key")
	}
	k, err := handover.Make(p, v, secrets)
	if err != nil {
		return none, refusal.Mistaken(err)
	}
	if platform == devices.OwnKit {
		own, err := s.Own(ctx, user, "")
		if err != nil {
			return none, err
		}
		about := "for yl dial up, signed by the authority with the fingerprint (SHA-256) " + own.Signer
		k.Files = []handover.File{{Name: handover.OwnName(v), About: about, Type: "application/json", Data: own.File}}
	}
	signs := map[string]func(context.Context, []byte) ([]byte, error){"apple": s.Trust.Sign, "windows": s.Trust.SignScript}
	if sign := signs[platform]; sign != nil {
		for i := range k.Files {
			if k.Files[i].Data, err = sign(ctx, k.Files[i].Data); err != nil {
				return none, err
			}
		}
	}
	made := Made{
		Kit: kitOf(record), Password: secrets.Password, Key: secrets.Identity != nil, Invites: secrets.Enrol != "", Shared: secrets.Shared != "",
		Site: v.Site, Banner: v.Banner, CodePage: v.CodePage, Tunnel: v.Tunnel, Steps: k.Steps, Files: k.Files,
	}
	return prepared{made, func(ctx context.Context) error {
		if err := s.Store.SaveKit(ctx, record); err != nil { // first: it takes nothing from anybody
			return err
		}
		return apply(ctx)
	}}, nil
}

// authorities are those of tunnels, looked up once.
type authorities map[string][][]byte

// values are what a person's device is to be set to.
func (s *Service) values(ctx context.Context, known *reach.Known, class *reach.Class, user string, p devices.Platform, of authorities,
) (v handover.Values, err error) {
	if v, err = handover.Of(known.Model, class.Class, p); err != nil {
		return v, refusal.Invalid(fmt.Sprintf("no kit for %s: %s", p.Name, err))
	}
	v.User = user
	if of[v.Tunnel] == nil {
		text, err := s.Trust.Of(ctx, known.Model, v.Tunnel)
		if err != nil {
			return v, err
		}
		for block, rest := pem.Decode([]byte(text)); block != nil; block, rest = pem.Decode(rest) {
			of[v.Tunnel] = append(of[v.Tunnel], block.Bytes)
		}
	}
	all := of[v.Tunnel]
	if len(all) == 0 {
		return v, refusal.Invalid("the authority of tunnel " + v.Tunnel + " is not known: import its certificate with those above it")
	}
	v.Authority, v.Further = all[0], all[1:]
	return v, nil
}

func kitOf(r store.Kit) Kit {
	return Kit{User: r.User, Platform: r.Platform, Revision: r.Revision, At: r.At, By: r.By, Expires: r.Expires}
}

// fingerprints are those of the authorities that a device is to trust.
func fingerprints(v handover.Values) (out []string) {
	for _, der := range append([][]byte{v.Authority}, v.Further...) {
		out = append(out, cert.Fingerprint(der))
	}
	return out
}

func holdsAll(r store.Kit, v handover.Values) bool {
	held := strings.Fields(r.Authorities)
	return !slices.ContainsFunc(fingerprints(v), func(f string) bool { return !slices.Contains(held, f) })
}

const soon = 30 * 24 * time.Hour // before its certificate's end a kit is stale

// stale tells why a kit is not what would be made now.
func (s *Service) stale(ctx context.Context, known *reach.Known, class *reach.Class, r store.Kit, of authorities) string {
	p, ok := devices.Named(r.Platform)
	if !ok || class == nil {
		return "nobody could use it now: no passage admits this person"
	}
	v, err := s.values(ctx, known, class, r.User, p, of)
	switch {
	case err != nil:
		return err.Error()
	case v.Digest(r.Platform) != r.Digest:
		return fmt.Sprintf("what it holds has changed since revision %d", r.Revision)
	case !holdsAll(r, v):
		return "it does not hold every authority that the device is to trust"
	case !r.Expires.IsZero() && time.Until(r.Expires) < soon:
		return "the certificate in it ends on " + r.Expires.Format(time.DateOnly)
	}
	return ""
}

// Rows lists people with their kits, first and last login, and what is to be done next; filter is a part of a name, group, platform or next
// step.
func (s *Service) Rows(ctx context.Context, filter string) ([]Row, error) {
	known, _, err := s.Plans.Known(ctx, "")
	if err != nil {
		return nil, err
	}
	users, err := s.People.List(ctx)
	if err != nil {
		return nil, err
	}
	kits, err := s.Store.Kits(ctx)
	if err != nil {
		return nil, err
	}
	logins, err := s.Store.Logins(ctx)
	if err != nil {
		return nil, err
	}
	classes := map[string]*reach.Class{}
	for i := range known.Classes {
		for _, u := range known.Classes[i].Users {
			classes[u] = &known.Classes[i]
		}
	}
	now := map[string]string{}
	for _, x := range s.Gateway.Sessions() {
		now[x.User] = strings.TrimSpace(x.Device + " from " + x.From)
	}
	out, of := []Row{}, authorities{}
	for _, u := range users {
		if u.Off {
			continue
		}
		row := Row{User: u.Name, FullName: u.FullName, Groups: u.Groups, Kits: []Kit{}, Device: now[u.Name]}
		for _, r := range kits[u.Name] {
			k := kitOf(r)
			k.Stale = s.stale(ctx, known, classes[u.Name], r, of)
			row.Kits = append(row.Kits, k)
		}
		l := logins[u.Name]
		row.First, row.Last = l.First, l.Last
		if l.Refused.After(l.Last) {
			row.Refused = l.Words
		}
		row.next(classes[u.Name], l)
		words := strings.Join(append([]string{row.User, row.FullName, row.Next, row.Refused, row.Mend}, row.Groups...), " ")
		for _, k := range row.Kits {
			words += " " + k.Platform
		}
		if strings.Contains(strings.ToLower(words), strings.ToLower(filter)) {
			out = append(out, row)
		}
	}
	// Those for whom something is to be done come first.
	slices.SortStableFunc(out, func(a, b Row) int { return cmp.Compare(rank(a), rank(b)) })
	return out, nil
}

func rank(r Row) int {
	switch {
	case r.Refused != "":
		return 0
	case r.Next != "":
		return 1
	}
	return 2
}

// next says what is to be done for somebody.
func (r *Row) next(class *reach.Class, l store.LoginSpan) {
	stale := slices.IndexFunc(r.Kits, func(k Kit) bool { return k.Stale != "" })
	switch {
	case class == nil || class.Passage == nil:
		r.Next = "no passage admits them: put them into a group of one, or add their group"
		r.Mend = "yl users change " + r.User + " --group GROUP"
	case r.Refused != "" && l.Code == string(reason.WrongPassword):
		r.Next, r.Mend = "their password was wrong: give them another", "yl users password "+r.User
	case r.Refused != "":
		r.Next, r.Mend = "their newest try failed: look at why", "yl diagnose "+r.User+" --complaint cannot-connect"
	case stale >= 0:
		r.Next = "the kit for " + r.Kits[stale].Platform + " is stale: hand over a new one, which takes its place on the device"
		r.Mend = "yl users kit " + r.User + " --platform " + r.Kits[stale].Platform
	case r.Last.IsZero() && len(r.Kits) == 0:
		r.Next, r.Mend = "they have no kit", "yl users kit "+r.User+" --platform PLATFORM"
	case r.Last.IsZero():
		r.Next = "they have a kit and never came: ask whether they followed its steps"
	}
}

// MakeOwn makes the file of our own client for a person, and keeps that it was made where they are known.
func (s *Service) MakeOwn(ctx context.Context, user, group string) (trials.ProbeKit, error) {
	own, err := s.Own(ctx, user, group)
	if err != nil {
		return own, err
	}
	known, class, number, err := s.class(ctx, user)
	if err != nil { // of a source, and was not here yet
		return own, nil
	}
	p, _ := devices.Named(devices.OwnKit)
	v, err := s.values(ctx, known, class, user, p, authorities{})
	if err != nil {
		return own, nil // their file says what it can
	}
	return own, s.Store.SaveKit(ctx, store.Kit{
		User: user, Platform: devices.OwnKit, Revision: number, Digest: v.Digest(devices.OwnKit), At: time.Now().UTC(), By: actor.Name(ctx),
		Authorities: strings.Join(fingerprints(v), " "),
	})
}

// Changes says what a plan in place of another changes for kits that people have; those that are stale already are left out.
func (s *Service) Changes(ctx context.Context, was, now *reach.Known) ([]plans.KitChange, error) {
	kits, err := s.Store.Kits(ctx)
	out := []plans.KitChange{}
	if err != nil || was == nil || now == nil {
		return out, err
	}
	ofWas, ofNow := authorities{}, authorities{}
	for _, user := range slices.Sorted(maps.Keys(kits)) {
		i, before := was.Named(user)
		j, after := now.Named(user)
		if !before {
			continue
		}
		for _, r := range kits[user] {
			p, ok := devices.Named(r.Platform)
			if !ok || s.stale(ctx, was, &was.Classes[i], r, ofWas) != "" {
				continue
			}
			change := plans.KitChange{User: user, Platform: r.Platform, Stops: true}
			if !after || now.Classes[j].Passage == nil {
				change.Why = "no passage lists a group of theirs then"
				out = append(out, change)
				continue
			}
			old, err := handover.Of(was.Model, was.Classes[i].Class, p)
			if err != nil {
				continue
			}
			v, err := s.values(ctx, now, &now.Classes[j], user, p, ofNow)
			if err != nil {
				change.Why = err.Error()
				out = append(out, change)
				continue
			}
			stops, others := handover.Differs(p, old, v, was.Model, now.Model)
			switch {
			case !holdsAll(r, v):
				stops = append(stops, "it does not trust the authority of the certificate that the tunnel shows then")
				fallthrough
			case len(stops) > 0:
				change.Why = strings.Join(stops, "; ")
			case len(others) > 0:
				change.Stops, change.Why = false, strings.Join(others, ", ")
			default:
				continue
			}
			out = append(out, change)
		}
	}
	return out, nil
}
