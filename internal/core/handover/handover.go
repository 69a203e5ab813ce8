// Package handover makes what one person needs to connect with one kind of device: files that the device's own settings import, and steps
// to follow, with that person's values and nobody else's. It holds no secret: a password is told apart from it. Who may have one, and
// signing, are left to the callers.
package handover

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Values are what a device is to be set to.
type Values struct {
	Site      string         `json:"site"` // what the plan is called
	User      string         `json:"user"`
	Dial      string         `json:"dial"`     // the public name or address of the gateway
	Identity  string         `json:"identity"` // what it calls itself
	Tunnel    string         `json:"tunnel"`
	Login     string         `json:"login"`
	Protect   Protection     `json:"protect"`
	PFS       bool           `json:"pfs,omitempty"`
	MTU       int            `json:"mtu"`
	Keepalive int            `json:"keepalive"` // seconds
	Full      bool           `json:"full,omitempty"`
	Routes    []netip.Prefix `json:"routes,omitempty"`
	DNS       []netip.Addr   `json:"dns,omitempty"`
	Search    []string       `json:"search,omitempty"`
	Domains   []string       `json:"domains,omitempty"` // that go through the tunnel, search domains included
	Authority []byte         `json:"authority"`         // DER
	Banner    string         `json:"banner,omitempty"`
	// Further are other authorities that the device is to trust, DER.
	Further  [][]byte `json:"further-authorities,omitempty"`
	OnDemand string   `json:"on-demand,omitempty"` // when the device connects by itself
	CodePage string   `json:"code-page,omitempty"` // where a second factor is given once it is connected
	TCPPort  int      `json:"tcp-port,omitempty"`  // of our own client, which falls back to it
}

// authorities are all of them.
func (v Values) authorities() [][]byte { return append([][]byte{v.Authority}, v.Further...) }

// Secrets are what a kit holds beside the values, where it is asked for: whoever has the kit has them.
type Secrets struct {
	Password string
	Shared   string // the key that person and gateway share
	// Identity is the device's certificate with its key, PKCS #12, IdentityPassword by what it is opened, and IdentityKind of what kind
	// its key is.
	Identity         []byte
	IdentityPassword string
	IdentityKind     string
	// Enrol is where the device has a certificate issued for a key that it makes itself (SCEP, RFC 8894), in place of Identity; empty: it
	// does not. Challenge is by what it may, once.
	Enrol, Challenge string
}

// Protection is what keys and traffic are protected with: one of each, that device and tunnel both have.
type Protection struct{ Encryption, Integrity, PRF, Group string }

// String names them in the words of plans.
func (p Protection) String() string {
	words := []string{p.Encryption}
	if p.Integrity != "" {
		words = append(words, p.Integrity)
	}
	return strings.Join(append(words, p.PRF, p.Group), ", ")
}

// File is a file of a kit.
type File struct {
	Name  string `json:"name"`
	About string `json:"about"` // what it is for
	Type  string `json:"type"`  // media type
	Data  []byte `json:"data"`
}

// Kit is what is handed over.
type Kit struct {
	Platform string   `json:"platform"`
	Values   Values   `json:"values"`
	Steps    []string `json:"steps"` // in order, for the person
	Files    []File   `json:"files"`
	// Digest stands for all that the kit holds: a kit whose digest would be another now is stale.
	Digest string `json:"digest"`
}

// Digest is of the values alone: files and words may be written otherwise by another version without a kit becoming stale.
// Whom the device is to trust is no part of it: which authorities a kit holds is remembered by itself.
func (v Values) Digest(platform string) string {
	v.Authority, v.Further = nil, nil
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(append([]byte(platform+"\n"), b...))
	return hex.EncodeToString(sum[:])
}

// WhyNot is why a kind of device cannot come in by any tunnel of a person's passage.
type WhyNot struct{ Words []string }

func (e WhyNot) Error() string { return strings.Join(e.Words, "; ") }

// Of makes the values of somebody of a class for a kind of device: by the first tunnel of their passage that the device can use. Errors are
// WhyNot, or say that nobody admits them.
func Of(m *site.Model, c *site.Class, platform devices.Platform) (v Values, err error) {
	if c.Passage == nil {
		return v, fmt.Errorf("no passage admits %s", c.Name())
	}
	p := c.Passage
	var why WhyNot
	for _, name := range p.Tunnels {
		t := m.Names.Tunnels[name]
		if t == nil || t.Off || t.Gateway != m.Gateway.Name || t.Kind != plan.KindIKEv2 {
			continue
		}
		reason, way := "", ""
		for _, l := range t.Logins() { // a kit sets the first that it can
			if l == plan.LoginRelayed { // which method that will be, the source's server knows: user and password are what a kit can set
				l = plan.LoginMSCHAPv2
			}
			if slices.Contains(platform.Logins, l) && (way == "" || way == plan.LoginTTLS || way == plan.LoginEAPTLS) {
				way = l
			}
		}
		v.Protect, reason = common(t.IKEv2().Set(), platform.Able)
		switch {
		case reason != "":
		case (way == plan.LoginTTLS || way == plan.LoginEAPTLS) && platform.Word != devices.OwnClient:
			reason = "no kit sets up " + way + " there: it is set by hand, where the system has it"
		case way == "":
			reason = "it cannot log in by " + t.Login
		}
		if reason != "" {
			why.Words = append(why.Words, fmt.Sprintf("tunnel %s: %s", name, reason))
			continue
		}
		own := t.IKEv2()
		v.Site, v.Dial, v.Identity, v.Tunnel, v.Login = m.Plan.Name, m.Gateway.Dial, t.IdentityOr(m.Gateway.Dial), t.Name, way
		v.PFS, v.MTU, v.Keepalive = own.PFS, t.InnerMTU(), int(own.Keepalive.Or(plan.DefaultKeepalive).Seconds())
		v.OnDemand = p.Passage.OnDemand
		if platform.Word == devices.OwnClient {
			v.TCPPort = own.TCPPort
		}
		if page := m.Gateway.CodePage; page != nil && p.Factor.Asks(c.Groups) {
			v.CodePage = "https://" + page.Name + "/"
		}
		v.Full, v.Banner, v.DNS, v.Search = p.Passage.Routes.Full, p.Passage.Banner, p.DNS.Servers, p.DNS.Search
		v.Domains = append(slices.Clone(p.DNS.Search), p.DNS.Domains...)
		if !v.Full {
			v.Routes = p.Routes.Prefixes()
		}
		if a, err := netip.ParseAddr(v.Dial); err == nil && (a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast()) {
			return v, fmt.Errorf("people would dial %s, which works inside only: give the gateway its public name (gateways/%s/dial)", a,
				m.Gateway.Name)
		}
		return v, nil
	}
	if len(why.Words) == 0 {
		why.Words = []string{"passage " + p.Name + " has no tunnel of this gateway that is on"}
	}
	return v, why
}

// common picks what a tunnel and a kind of device both have, by the tunnel's order.
func common(tunnel, device algorithm.Set) (p Protection, why string) {
	if lacks := tunnel.Lacks(device); !lacks.None() {
		return p, "it can agree with none of its algorithms; the smallest addition is " + lacks.String()
	}
	first := func(ours, theirs []string) string {
		for _, w := range ours {
			if slices.Contains(theirs, w) {
				return w
			}
		}
		return ""
	}
	p.PRF, p.Group = first(tunnel.PRF, device.PRF), first(tunnel.Groups, device.Groups)
	for _, w := range tunnel.Encryption {
		a, ok := algorithm.Named(algorithm.Encryption, w)
		if !ok || !slices.Contains(device.Encryption, w) {
			continue
		}
		if a.Own {
			return Protection{w, "", p.PRF, p.Group}, ""
		}
		if i := first(tunnel.Integrity, device.Integrity); i != "" {
			return Protection{w, i, p.PRF, p.Group}, ""
		}
	}
	return p, "it can agree with none of its algorithms"
}

// Make makes the kit of a kind of device.
func Make(platform devices.Platform, v Values, s Secrets) (Kit, error) {
	k := Kit{Platform: platform.Word, Values: v, Digest: v.Digest(platform.Word)}
	var authorities []File
	for i, der := range v.authorities() {
		name := "authority.cer"
		if i > 0 {
			name = fmt.Sprintf("authority-%d.cer", i+1)
		}
		authorities = append(authorities, File{name, "an authority that the gateway's certificate is of", "application/pkix-cert", der})
	}
	switch platform.Word {
	case "apple":
		profile, err := appleProfile(v, s)
		if err != nil {
			return k, err
		}
		k.Files = []File{{fileName(v, "mobileconfig"), "a configuration profile", "application/x-apple-aspen-config", profile}}
		k.Steps = appleSteps(v, s)
	case "windows":
		script, err := windowsScript(v, s)
		if err != nil {
			return k, err
		}
		k.Files = []File{{fileName(v, "ps1"), "a script for PowerShell", "text/plain; charset=utf-8", script}}
		k.Files = append(k.Files, authorities...)
		k.Steps = windowsSteps(v, s)
	case "android":
		if v.Login == plan.LoginSharedKey {
			authorities = []File{}
		}
		if k.Files, k.Steps = authorities, androidSteps(v, s); s.Identity != nil {
			k.Files = append(k.Files, File{fileName(v, "p12"), "the device's certificate with its key", "application/x-pkcs12", s.Identity})
		}
	case devices.OwnClient: // its file is made by whoever knows what its probe is to try
		k.Platform, k.Digest = devices.OwnKit, v.Digest(devices.OwnKit)
		k.Steps = ownSteps(v)
	default:
		return k, fmt.Errorf("there is no kit for %s here", platform.Name)
	}
	if v.CodePage != "" {
		k.Steps = append(k.Steps, "Connect, then open "+v.CodePage+" in a browser on this device, and type the code of your second factor: until then nothing else is reached.")
	}
	return k, nil
}

// OwnName is the name of our own client's file.
func OwnName(v Values) string { return fileName(v, "kit") }

// ownSteps are those of our own client.
func ownSteps(v Values) []string {
	file := OwnName(v)
	name := strings.TrimSuffix(file, "kit")
	proof := "it asks for " + (Secrets{}).password(v)
	switch v.Login {
	case plan.LoginSharedKey:
		proof = "the shared key lies beside it, in " + name + "login"
	case plan.LoginCertificate, plan.LoginPublicKey, plan.LoginEAPTLS:
		proof = "the device's key lies beside it, in " + name + "key; yl dial new-key makes one"
	case plan.LoginBoth:
		proof += ", and the device's key lies beside it, in " + name + "key"
	}
	return []string{
		"Copy " + file + " to the Linux device.",
		"There, as root: yl dial up " + file + " (" + proof + "; --background keeps it up, yl dial status shows it).",
		"At the first use it shows the fingerprint of who signed the kit: compare it with the one that you were told.",
	}
}

// fileName is a name that every system takes.
func fileName(v Values, suffix string) string {
	clean := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return '-'
	}, v.User)
	return strings.Trim(clean[:min(len(clean), 60)], ".-") + "." + suffix
}

// password is what the steps say of it.
func (s Secrets) password(v Values) string {
	if s.Password != "" {
		return "the password " + s.Password
	}
	return "your password of " + v.Site
}
