package handover

import (
	"crypto/rand"
	"encoding/base64"
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"howett.net/plist"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/testkit/island"
)

func platform(t require.TestingT, word string) devices.Platform {
	p, ok := devices.Named(word)
	require.True(t, ok)
	return p
}

// Of a plan each kind of device is given what it and the tunnel both have, and nobody else's values; one that cannot come in is told why.
func TestValues(t *testing.T) {
	m := island.Model(t)
	level := func(name, login string) {
		m.Names.Tunnels["main"].Own = &plan.IKEv2{Algorithms: &plan.Algorithms{Level: name}}
		m.Names.Tunnels["main"].Login = login
	}
	of := func(group, word string) (Values, error) { return Of(m, m.Class([]string{group}), platform(t, word)) }
	for _, x := range []struct{ level, word, protect, why string }{
		{"strict", "windows", "AES-256-GCM-16, PRF-HMAC-SHA2-256, P-256", ""},
		{"strict", "apple", "AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519", ""},
		{"strict", "android", "AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519", ""},
		{"legacy", "windows", "AES-256-GCM-16, PRF-HMAC-SHA2-256, P-256", ""},
	} {
		level(x.level, plan.LoginMSCHAPv2)
		v, err := of("researchers", x.word)
		require.NoError(t, err)
		require.Equal(t, x.protect, v.Protect.String(), x.word)
		require.Equal(t, "gate.tern.example", v.Dial)
		require.False(t, v.Full)
		require.Contains(t, v.Routes, netip.MustParsePrefix("10.20.30.0/24"))
		require.Equal(t, []string{"tern.example"}, v.Domains)
	}
	// A device that is set up just so is answered, with just that.
	for _, x := range []struct{ level, word string }{{"strict", "windows"}, {"broad", "apple"}, {"legacy", "android"}} {
		level(x.level, plan.LoginMSCHAPv2)
		v, err := of("researchers", x.word)
		require.NoError(t, err)
		set := algorithm.Set{Encryption: []string{v.Protect.Encryption}, PRF: []string{v.Protect.PRF}, Groups: []string{v.Protect.Group}}
		if v.Protect.Integrity != "" {
			set.Integrity = []string{v.Protect.Integrity}
		}
		device, err := ike.PolicyOf(set)
		require.NoError(t, err)
		at := netip.MustParseAddrPort("192.0.2.10:500")
		i, err := ike.NewInitiator(ike.Caller{
			Name: v.Identity, User: "rory", Algorithms: device, Rand: rand.Reader, Local: at, Remote: at, Now: time.Now,
		})
		require.NoError(t, err)
		o, err := ike.ReadOffer(i.Start(time.Now())[0].(ike.Send).Data)
		require.NoError(t, err)
		suite, again, ok := ike.Level(x.level).Answered(o)
		require.True(t, ok && !again, x.word)
		require.Equal(t, v.Protect.String(), suite)
	}
	level("strict", plan.LoginPublicKey)
	_, err := of("researchers", "windows")
	require.ErrorContains(t, err, "tunnel main: it cannot log in by public-key")
	m.Names.Tunnels["main"].Own = &plan.IKEv2{Algorithms: &plan.Algorithms{
		Encryption: []string{"ChaCha20-Poly1305"}, PRF: []string{"PRF-HMAC-SHA2-256"}, Groups: []string{"X25519"},
	}}
	m.Names.Tunnels["main"].Login = plan.LoginMSCHAPv2
	_, err = of("researchers", "windows")
	require.ErrorContains(t, err, "the smallest addition is")
	_, err = of("nobody", "apple")
	require.ErrorContains(t, err, "no passage admits nobody")
	level("strict", plan.LoginMSCHAPv2)
	m.Gateway.Dial = "10.20.0.1"
	_, err = of("researchers", "apple")
	require.ErrorContains(t, err, "works inside only")
}

// anything is text as hostile as it may be typed.
func anything(t *rapid.T, what string) string {
	parts := rapid.SliceOfN(rapid.OneOf(
		rapid.StringN(0, 12, 40),
		rapid.SampledFrom([]string{
			"'", "''", "\u2018", "\u2019", "\u201a", "\u201b", "\u201c", "$(calc)", "`n", "\r\n", "\ufeff", "Ö", "&lt;", "<key>", "]]>", "; rm", "\"",
			"\\",
		}),
	), 1, 5).Draw(t, what)
	return strings.ToValidUTF8(strings.Join(parts, ""), "?")
}

func values(t *rapid.T) Values {
	v := Values{
		Site: anything(t, "site"), User: anything(t, "user"), Dial: anything(t, "dial"), Identity: anything(t, "identity"), Login: plan.LoginMSCHAPv2,
		Protect: Protection{"AES-256-GCM-16", "", "PRF-HMAC-SHA2-256", "P-256"}, MTU: 1400, Full: rapid.Bool().Draw(t, "full"),
		PFS: rapid.Bool().Draw(t, "pfs"), Search: []string{anything(t, "search")}, Banner: anything(t, "banner"),
		DNS: []netip.Addr{netip.MustParseAddr("10.20.0.53"), netip.MustParseAddr("fd00:20::53")}, Authority: []byte{0x30, 1, 2, 3},
	}
	v.Domains = append([]string{}, v.Search...)
	v.OnDemand = rapid.SampledFrom([]string{"", plan.OnDemandNames, plan.OnDemandAlways}).Draw(t, "on-demand")
	if rapid.Bool().Draw(t, "two authorities") {
		v.Further = [][]byte{{0x30, 4, 5, 6}}
	}
	if !v.Full {
		v.Routes = []netip.Prefix{netip.MustParsePrefix("10.20.0.0/24"), netip.MustParsePrefix("fd00:20::/64")}
	}
	return v
}

// secretsOf is what a kit may hold beside, by the way of logging in.
func secretsOf(t *rapid.T, v *Values) (s Secrets) {
	switch rapid.SampledFrom([]string{"", "password", "identity", "shared"}).Draw(t, "holds") {
	case "password":
		s.Password = anything(t, "password")
	case "shared":
		v.Login, s.Shared = plan.LoginSharedKey, anything(t, "shared")
	case "identity":
		v.Login = plan.LoginCertificate
		s = Secrets{Identity: []byte{0x30, 7, 8}, IdentityPassword: anything(t, "of the identity"), IdentityKind: cert.ECDSA}
	}
	return s
}

// control are characters that no property list can hold (XML 1.0 §2.2).
var control = regexp.MustCompile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")

// A profile is read back by a parser of its format, with every value as it was, whatever it is.
func TestAppleProfile(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := values(t)
		s := secretsOf(t, &v)
		for _, field := range []*string{
			&v.Site, &v.User, &v.Banner, &v.Dial, &v.Identity, &v.Search[0], &s.Password, &s.IdentityPassword, &s.Shared,
		} {
			*field = control.ReplaceAllString(*field, "?")
		}
		v.Domains = []string{v.Search[0]}
		k, err := Make(platform(t, "apple"), v, s)
		require.NoError(t, err)
		var p struct {
			PayloadUUID    string
			PayloadContent []struct {
				PayloadType, UserDefinedName, VPNType string
				PayloadUUID, Password                 string
				PayloadContent                        []byte
				IKEv2                                 map[string]any
				IPv4                                  struct{ OverridePrimary int }
				DNS                                   struct{ ServerAddresses, SearchDomains, SupplementalMatchDomains []string }
			}
		}
		format, err := plist.Unmarshal(k.Files[0].Data, &p)
		require.NoError(t, err)
		require.Equal(t, plist.XMLFormat, format)
		require.Regexp(t, `^[0-9A-F]{8}-[0-9A-F]{4}-8[0-9A-F]{3}-[89AB][0-9A-F]{3}-[0-9A-F]{12}$`, p.PayloadUUID)
		vpn := p.PayloadContent[len(p.PayloadContent)-1]
		for i, der := range v.authorities() {
			root := p.PayloadContent[i]
			require.Equal(t, []any{"com.apple.security.root", der}, []any{root.PayloadType, root.PayloadContent})
		}
		lines := func(s string) string { return strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(s) } // as XML has them
		require.Equal(t, []any{"IKEv2", lines(v.Site)}, []any{vpn.VPNType, lines(vpn.UserDefinedName)})
		require.Equal(t, lines(v.Dial), lines(vpn.IKEv2["RemoteAddress"].(string)))
		require.Equal(t, lines(v.Identity), lines(vpn.IKEv2["RemoteIdentifier"].(string)))
		switch identity := p.PayloadContent[len(p.PayloadContent)-2]; {
		case s.Identity != nil:
			require.Equal(t, []any{"com.apple.security.pkcs12", s.Identity, lines(s.IdentityPassword)},
				[]any{identity.PayloadType, identity.PayloadContent, lines(identity.Password)})
			require.Equal(t, []any{"Certificate", "ECDSA256", identity.PayloadUUID, uint64(0)}, []any{
				vpn.IKEv2["AuthenticationMethod"], vpn.IKEv2["CertificateType"], vpn.IKEv2["PayloadCertificateUUID"], vpn.IKEv2["ExtendedAuthEnabled"],
			})
		case v.Login == plan.LoginSharedKey:
			require.Equal(t, []any{"SharedSecret", lines(s.Shared), uint64(0)}, []any{
				vpn.IKEv2["AuthenticationMethod"], lines(vpn.IKEv2["SharedSecret"].(string)), vpn.IKEv2["ExtendedAuthEnabled"],
			})
		case s.Password != "":
			require.Equal(t, lines(s.Password), lines(vpn.IKEv2["AuthPassword"].(string)))
		default:
			require.Equal(t, lines(v.User), lines(vpn.IKEv2["AuthName"].(string)))
			require.NotContains(t, vpn.IKEv2, "AuthPassword")
		}
		rules, _ := vpn.IKEv2["OnDemandRules"].([]any)
		require.Equal(t, v.OnDemand != "", len(rules) == 1)
		if v.OnDemand == plan.OnDemandNames {
			asks := rules[0].(map[string]any)["ActionParameters"].([]any)[0].(map[string]any)
			require.Equal(t, lines(v.Search[0]), lines(asks["Domains"].([]any)[0].(string)))
		}
		sa := vpn.IKEv2["IKESecurityAssociationParameters"].(map[string]any)
		require.Equal(t, "AES-256-GCM SHA2-256", sa["EncryptionAlgorithm"].(string)+" "+sa["IntegrityAlgorithm"].(string))
		require.EqualValues(t, 19, sa["DiffieHellmanGroup"])
		require.Equal(t, v.Full, vpn.IPv4.OverridePrimary == 1)
		require.Equal(t, []string{"10.20.0.53", "fd00:20::53"}, vpn.DNS.ServerAddresses)
		require.Equal(t, v.Full, len(vpn.DNS.SupplementalMatchDomains) == 0)
	})
}

// literals reads the literals of a script as the language does: a quote that is doubled is one, and whichever kind ends it.
func literals(t require.TestingT, script string) (out []string) {
	quote := func(r rune) bool { return strings.ContainsRune("'\u2018\u2019\u201a\u201b", r) }
	rs := []rune(script)
	for i := 0; i < len(rs); i++ {
		switch {
		case rs[i] == '#':
			for i < len(rs) && rs[i] != '\n' {
				i++
			}
		case quote(rs[i]):
			var b strings.Builder
			for i++; ; i++ {
				require.Less(t, i, len(rs), "a literal does not end")
				require.NotEqual(t, '\n', rs[i], "a literal goes on in the next line")
				if quote(rs[i]) {
					if i+1 >= len(rs) || !quote(rs[i+1]) {
						break
					}
					i++
				}
				b.WriteRune(rs[i])
			}
			out = append(out, b.String())
		default:
			require.NotContains(t, "\"\u201c\u201d\u201e`", string(rs[i]), "outside of literals nothing of the values stands")
		}
	}
	return out
}

// What people type stands in a script as literals alone, each as it was but for line ends; the script begins with a byte-order mark and has
// what it is to do, and what undoes it.
func TestWindowsScript(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := values(t)
		s := secretsOf(t, &v)
		k, err := Make(platform(t, "windows"), v, s)
		require.NoError(t, err)
		text := string(k.Files[0].Data)
		require.True(t, strings.HasPrefix(text, "\ufeff#Requires -RunAsAdministrator\r\nparam([switch]$Undo)\r\n"))
		require.True(t, utf8.ValidString(text))
		got := literals(t, strings.TrimPrefix(text, "\ufeff"))
		one := func(s string) string { return strings.NewReplacer("\r", " ", "\n", " ", "\x00", " ").Replace(s) }
		wanted := []string{one(v.Site), one(v.Dial), one(v.Search[0])}
		for _, der := range v.authorities() {
			wanted = append(wanted, base64.StdEncoding.EncodeToString(der))
		}
		if s.Identity != nil {
			wanted = append(wanted, base64.StdEncoding.EncodeToString(s.Identity), one(s.IdentityPassword))
		}
		for _, want := range wanted {
			require.Contains(t, got, want)
		}
		if !v.Full {
			require.Contains(t, got, "10.20.0.0/24")
			require.Contains(t, got, "fd00:20::/64")
			require.Contains(t, got, one("."+strings.TrimPrefix(v.Search[0], ".")))
		}
		require.Equal(t, v.Full, strings.Contains(text, "-SplitTunneling:$false"))
		pfs := map[bool]string{true: "-PfsGroup ECP256", false: "-PfsGroup None"}[v.PFS]
		require.Contains(t, text, "-AuthenticationTransformConstants GCMAES256 -CipherTransformConstants GCMAES256 -EncryptionMethod GCMAES256 "+
			"-IntegrityCheckMethod SHA256 -DHGroup ECP256 "+pfs)
	})
	v := Values{Protect: Protection{"AES-256-CBC", "HMAC-SHA2-256-128", "PRF-HMAC-SHA2-256", "MODP-2048"}}
	b, err := windowsScript(v, Secrets{})
	require.NoError(t, err)
	require.Contains(t, string(b), "-AuthenticationTransformConstants SHA256128 -CipherTransformConstants AES256 -EncryptionMethod AES256 "+
		"-IntegrityCheckMethod SHA256 -DHGroup Group14 -PfsGroup None")
	v.Protect.Integrity = "HMAC-SHA2-384-192"
	_, err = windowsScript(v, Secrets{})
	require.ErrorContains(t, err, "no words")
}

// Every algorithm that is said of a platform has its word in that platform's kit, or the kit says that it has none.
func TestWordsOfPlatforms(t *testing.T) {
	for _, w := range platform(t, "apple").Able.Encryption {
		require.NotEmpty(t, appleAlgorithms[w], w)
	}
	for _, w := range platform(t, "windows").Able.Encryption {
		require.NotEmpty(t, windowsCipher[w], w)
	}
	for _, w := range platform(t, "windows").Able.Groups {
		require.NotEmpty(t, windowsGroup[w]+windowsPFS[w], w)
	}
	for _, w := range append(platform(t, "apple").Able.Integrity, platform(t, "apple").Able.PRF...) {
		require.NotEmpty(t, appleAlgorithms[w], w)
	}
	a, b := Values{User: "rory"}, Values{User: "rory", Routes: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}
	require.NotEqual(t, a.Digest("apple"), b.Digest("apple"), "what the kit holds is another: it is stale")
	require.Equal(t, a.uuid("vpn"), b.uuid("vpn"), "a newer profile takes its place")
	require.Equal(t, "r-ry.ps1", fileName(Values{User: "r/ry"}, "ps1"))
}
