package check

import (
	"crypto/rand"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/cert"
)

func TestFindingsOfSources(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	ca, err := cert.NewAuthority(rand.Reader, now, "Mainland Institute")
	require.NoError(t, err)
	authority := "authority: " + strconv.Quote(string(ca.PEM())) + ", "
	const ours = "servers: [\"radius+tls://10.20.0.7\"], certificate: gate, secret: kept, changes-at: 10.20.0.1, "
	const right = "servers: [ldaps://directory.tern.example], account: \"cn=lantern\", secret: kept, base: \"dc=tern\", "
	for _, c := range []struct {
		want, severity string // empty: nothing is found
		fields         string
		login          string
		after          time.Duration
	}{
		{"", "", right + authority, "eap-ttls", 0},
		{"", "", right + "off: true, ", "eap-mschapv2", 0},
		{"source-cannot-check@sources/mainland/kind", "stop", right, "eap-mschapv2", 0},
		{"source-server@sources/mainland/servers", "stop", strings.Replace(right, "[ldaps://directory.tern.example]", "[]", 1), "eap-ttls", 0},
		{"source-server@sources/mainland/servers/0", "stop", strings.Replace(right, "ldaps:", "http:", 1), "eap-ttls", 0},
		{"source-account@sources/mainland/account", "stop", "servers: [ldap://d], base: x, ", "eap-ttls", 0},
		{"source-account@sources/mainland/secret", "stop", strings.Replace(right, "secret: kept, ", "", 1), "eap-ttls", 0},
		{"no-secret@sources/mainland/secret", "stop", strings.Replace(right, "kept", "lost", 1), "eap-ttls", 0},
		{"source-without-account@sources/mainland/account", "warn", "servers: [ldap://d], base: x, bind-as: \"{user}@x\", ", "eap-ttls", 0},
		{"source-account@sources/mainland/bind-as", "stop", "servers: [ldap://d], base: x, bind-as: \"uid=user\", ", "eap-ttls", 0},
		{"source-filter@sources/mainland/filter", "stop", right + "filter: \"(uid=\", ", "eap-ttls", 0},
		{"source-time@sources/mainland/timeout", "stop", right + "timeout: 1m, ", "eap-ttls", 0},
		{"source-time@sources/mainland/look-again", "stop", right + "look-again: 1s, ", "eap-ttls", 0},
		{"source-time@sources/mainland/remember", "stop", right + "remember: 1m, ", "eap-ttls", 0},
		{"source-nested@sources/mainland/group-base", "warn", right + "nested: true, ", "eap-ttls", 0},
		{"source-authority@sources/mainland/authority", "stop", right + "authority: x, ", "eap-ttls", 0},
		{"source-authority@sources/mainland/authority", "warn", right + authority, "eap-ttls", ca.Leaf.NotAfter.Sub(now) - 24*time.Hour},
		{"", "", ours, "eap-mschapv2", 0},
		{"", "", ours, "eap-relayed", 0},
		{"", "", "servers: [\"radius://127.0.0.1:18120\"], secret: kept, changes-at: 127.0.0.1, ", "eap-ttls", 0},
		{"source-cannot-check@sources/mainland/kind", "stop", ours, "public-key", 0},
		{"source-server@sources/mainland/servers/0", "stop", strings.Replace(ours, "radius+tls", "ldaps", 1), "eap-ttls", 0},
		{"source-server@sources/mainland/accounting/0", "stop", ours + "accounting: [\"radius://x:0\"], ", "eap-ttls", 0},
		{"source-account@sources/mainland/secret", "stop", strings.Replace(ours, "secret: kept, ", "", 1), "eap-ttls", 0},
		{"source-account@sources/mainland/secret", "stop", "servers: [\"radius://127.0.0.1\"], ", "eap-ttls", 0},
		{"source-in-clear@sources/mainland/servers", "warn", strings.Replace(ours, "+tls", "", 1), "eap-ttls", 0},
		{"no-secret@sources/mainland/secret", "stop", strings.Replace(ours, "kept", "lost", 1), "eap-ttls", 0},
		{"source-certificate@sources/mainland/certificate", "warn", strings.Replace(ours, "certificate: gate, ", "", 1), "eap-ttls", 0},
		{"no-certificate@sources/mainland/certificate", "stop", strings.Replace(ours, "gate", "lost", 1), "eap-ttls", 0},
		{"source-groups-from-class@sources/mainland/groups-from", "warn", ours + "groups-from: class, ", "eap-ttls", 0},
		{"source-without-changes@sources/mainland/changes-at", "note", strings.Replace(ours, "changes-at: 10.20.0.1, ", "", 1), "eap-ttls", 0},
		{"source-changes-from-nobody@sources/mainland/servers", "stop", strings.Replace(ours, "10.20.0.7", "r.tern.example", 1), "eap-ttls", 0},
		{"source-time@sources/mainland/interim", "stop", ours + "interim: 1s, ", "eap-ttls", 0},
		{"source-relay-second@sources/mainland/kind", "warn", ours + "name: other, kind: radius}\n  - {" + ours, "eap-relayed", 0},
	} {
		in := input(t,
			strings.NewReplacer("\npassages:\n",
				"\nsources:\n  - {"+c.fields+"name: mainland, kind: "+kindOf(c.fields)+"}\npassages:\n",
				"login: eap-mschapv2", "login: "+c.login).Replace(s.Plan))
		in.Now, in.Secrets = now.Add(c.after), map[string]bool{"kept": true}
		var found []string
		for _, f := range Run(in) {
			if strings.HasPrefix(f.Path, "sources/") {
				found = append(found, f.ID()+" "+string(f.Severity))
			}
		}
		if c.want == "" {
			require.Empty(t, found, c.fields)
			continue
		}
		require.Contains(t, found, c.want+" "+c.severity, c.fields)
	}
	require.Contains(t, ids(Run(input(t, strings.Replace(s.Plan, "login: eap-mschapv2", "login: eap-relayed",
		1)))),
		"source-to-relay@tunnels/main/login")
	for text, want := range map[string]bool{
		"login: eap-relayed\n    also-login: [eap-mschapv2]": false,
		"login: eap-ttls\n    also-login: [eap-mschapv2]":    false, "login: eap-mschapv2\n    also-login: [eap-mschapv2]": true,
		"login: certificate\n    also-login: [eap-ttls]": true,
	} {
		found := strings.Join(ids(Run(input(t, strings.Replace(s.Plan, "login: eap-mschapv2", text, 1)))), " ")
		require.Equal(t, want, strings.Contains(found, "also-login@tunnels/main/also-login/0"), text)
		require.NotContains(t, found, "login-not-offered")
	}
	in := input(t, strings.Replace(s.Plan, "\npassages:\n", "\nsources:\n  - {"+right+"name: mainland, kind: ldap}\npassages:\n", 1))
	in.People = nil
	require.NotContains(t, strings.Join(ids(Run(in)), " "), "nobody-admitted", "they are kept elsewhere")
}

func kindOf(fields string) string {
	if strings.Contains(fields, "changes-at") || strings.Contains(fields, "radius") {
		return "radius"
	}
	return "ldap"
}

func TestFindingsOfEquipment(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	const right = "name: jetty, addresses: [10.20.0.0/28], secret: kept, groups: [researchers], certificate: gate"
	for _, c := range []struct{ want, at, equipment string }{
		{"", "10.20.0.1", right},
		{"", "", right + ", off: true"},
		{"equipment-unheard@equipment/jetty stop", "", right},
		{"equipment-none@equipment-at note", "10.20.0.1", right + ", off: true"},
		{"equipment-from-nowhere@equipment/jetty/addresses stop", "10.20.0.1", strings.Replace(right, "[10.20.0.0/28]", "[]", 1)},
		{"equipment-alike@equipment/other/addresses/0 stop", "10.20.0.1", right + "}\n  - {" + strings.Replace(right, "jetty", "other", 1)},
		{"no-secret@equipment/jetty/secret stop", "10.20.0.1", strings.Replace(right, "kept", "lost", 1)},
		{"no-certificate@equipment/jetty/certificate stop", "10.20.0.1", strings.Replace(right, "gate", "lost", 1)},
		{"", "10.20.0.1", strings.Replace(right, "certificate: gate", "logins: [eap-mschapv2]", 1)},
		{"equipment-learns-passwords@equipment/jetty/logins warn", "10.20.0.1", right + ", logins: [password]"},
		{"equipment-no-room-for-codes@equipment/jetty/logins stop", "10.20.0.1", right + ", logins: [ms-chapv2, eap-tls], second-factor: true"},
		{"equipment-factor-unused@equipment/jetty/factor-optional note", "10.20.0.1", right + ", factor-optional: true"},
		{"equipment-for-nobody@equipment/jetty/groups stop", "10.20.0.1", strings.Replace(right, "[researchers]", "[]", 1)},
		{"secret-shared-twice@equipment/jetty/secret warn", "10.20.0.1", right + "}\nsources:\n  - {name: m, kind: radius, servers: [\"radius://127.0.0.1\"], secret: kept"},
	} {
		text := strings.Replace(s.Plan, "\npassages:\n", "\nequipment:\n  - {"+c.equipment+"}\npassages:\n", 1)
		if c.at != "" {
			text += "\nequipment-at: " + c.at + "\n"
		}
		in := input(t, text)
		in.Secrets = map[string]bool{"kept": true, "jetty-update": true}
		var found []string
		for _, f := range Run(in) {
			if strings.HasPrefix(f.Path, "equipment") {
				found = append(found, f.ID()+" "+string(f.Severity))
			}
		}
		if c.want == "" {
			require.Empty(t, found, c.equipment)
			continue
		}
		require.Contains(t, found, c.want, c.equipment)
	}
}
