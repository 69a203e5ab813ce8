package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Nothing is removed from under the plan that runs: secrets, certificates, people and administrators whom it names, wherever it does. The
// answer says which setting; a plan without it lets go.
func TestNamedByThePlan(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	for _, s := range []string{"account", "radius", "mail", "registrar", "switches"} {
		x.did("secret", "keep", s, "--kind", "password", "--from-file", write(t, "a secret of sixteen octets or more"))
	}
	x.did("secret", "make", "jetty-update", "--kind", "tsig")
	for c, of := range map[string]string{"second": "gate", "switch": "gate", "page": "code", "kits": "kits", "lantern": "lantern"} {
		x.did("certificate", "make", c, "--for", of+".tern.example", "--key-kind", map[bool]string{true: "rsa", false: "ecdsa"}[c == "second"])
	}
	hire(t, d, x, "keeper", "administrator")
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls", "\npassages:\n", `
mail-server: smtps://mail.tern.example
mail-from: gateway@tern.example
mail-secret: mail
last-resort: keeper
kits-at: https://kits.tern.example
kits-certificate: kits
sources:
  - {name: mainland, kind: ldap, servers: ["ldaps://directory.tern.example"], account: "cn=x", base: "dc=x", secret: account}
  - {name: harbour, kind: radius, servers: ["radius.tern.example"], secret: radius, certificate: lantern, off: true}
administrators:
  - {name: keepers, source: mainland, groups: ["cn=keepers,dc=x"], role: administrator}
equipment-at: 127.0.0.1
equipment-port: 18120
equipment:
  - {name: jetty, secret: switches, certificate: switch, addresses: [127.0.0.1/32], groups: [researchers], gives: [{users: [wanda.warden], vlan: 30}]}

passages:
`, "    internet: true\n", "    internet: true\n    code-page: {name: code.tern.example, addresses: [10.99.255.1], certificate: page}\n",
		"    outside:\n", "    outside:\n      update: {server: \"192.0.2.53:53\", zone: tern.example, key: jetty-update}\n"+
			"      calls: [{name: registrar, url: \"https://names.tern.example/?a={ipv4}\", secret: registrar}]\n",
		"    certificate: gate\n", "    certificate: gate\n    second-certificate: second\n")
	for path, at := range map[string]string{
		"/secrets/account": "sources/mainland/secret", "/secrets/radius": "sources/harbour/secret", "/secrets/mail": "mail-secret",
		"/secrets/registrar": "gateways/jetty/outside/calls/registrar/secret", "/secrets/jetty-update": "gateways/jetty/outside/update/key",
		"/secrets/switches": "equipment/jetty/secret", "/certificates/switch": "equipment/jetty/certificate",
		"/certificates/second": "tunnels/main/second-certificate", "/certificates/gate": "tunnels/main/certificate",
		"/certificates/page": "gateways/jetty/code-page/certificate", "/certificates/kits": "kits-certificate",
		"/certificates/lantern": "sources/harbour/certificate", "/administrators/keeper": "last-resort",
		"/users/wanda.warden": "equipment/jetty/gives/0/users/0",
	} {
		status, words := refused(t, d.Client, "DELETE", path, nil)
		require.Equal(t, 409, status, "%s: %s", path, words)
		require.Contains(t, words, at+" of the running plan names ", path)
		if path == "/users/wanda.warden" { // a person may have to go at once
			require.NoError(t, d.Client.Do(t.Context(), "DELETE", path+"?even-so=true", nil, nil))
			continue
		}
		status, _ = refused(t, d.Client, "DELETE", path+"?even-so=true", nil)
		require.Contains(t, []int{409, 422}, status, path)
	}
	x.did("secret", "keep", "mail", "--kind", "password", "--again", "--from-file", write(t, "another secret, which takes its place"))
	x.did("plan", "load", write(t, d.Scenario.Plan))
	x.did("plan", "commit", "-m", "without", "--accept", "all", "--because", "it is a test")
	require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/secrets/mail?even-so=true", nil, nil))
	require.NoError(t, d.Client.Do(t.Context(), "DELETE", "/administrators/keeper", nil, nil))
}
