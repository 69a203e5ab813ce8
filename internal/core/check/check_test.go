package check

import (
	"crypto/rand"
	"crypto/x509"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

var now = time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)

func certificate(t *testing.T, name string, made time.Time) *x509.Certificate {
	ca, err := cert.NewAuthority(rand.Reader, made, "Tern Island")
	require.NoError(t, err)
	pair, err := ca.NewGateway(rand.Reader, made, name)
	require.NoError(t, err)
	return pair.Leaf
}

func input(t *testing.T, text string) Input {
	doc, err := plan.Read(text)
	require.NoError(t, err)
	return Input{Doc: doc, Now: now, Certificates: map[string]*x509.Certificate{"gate": certificate(t, "gate.tern.example", now)}, People: []reach.Person{
		{User: "wanda", Groups: []string{"wardens"}}, {User: "rory", Groups: []string{"researchers"}}, {User: "vera", Groups: []string{"volunteers"}},
		{User: "curt", Groups: []string{"turbine-contractor"}}, {User: "both", Groups: []string{"researchers", "volunteers"}}}}
}

// Each finding is made on the plan that has it, at its setting and with a mend, and not on Tern Island's own plan.
func TestFindings(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	sound := Run(input(t, s.Plan))
	require.Zero(t, Count(sound, Stop), "%v", sound)
	require.Zero(t, Count(sound, Warn), "%v", sound)

	cases := []struct {
		code, path string
		severity   Severity
		find, put  string
		fix        string // part of it
	}{
		{"missing-reference", "passages/volunteers/pool", Stop, "groups: [volunteers]\n    tunnels: [main]\n    pool: guests", "groups: [volunteers]\n    tunnels: [main]\n    pool: gests", "make pool gests"},
		{"missing-reference", "rules/archive/to/0", Stop, "groups: [researchers], to: [records, nestcams], services: [web, ping]}\n  - {name: cam", "groups: [researchers], to: [recrods, nestcams], services: [web, ping]}\n  - {name: cam", "recrods"},
		{"missing-reference", "rules/cameras/services/0", Stop, "to: [nestcams], services: [web]}", "to: [nestcams], services: [wep]}", "tcp/443"},
		{"malformed-service", "services/files/ports/0", Stop, "tcp/445", "tcp/44500000", "tcp/443"},
		{"outside-private", "gateways/jetty/outside/addresses/0", Stop, "192.0.2.10,", "192.168.9.10,", "in-front"},
		{"forward-missing", "gateways/jetty/outside/in-front/forwards", Stop, "addresses: [192.0.2.10, \"2001:db8:10::10\"]", "addresses: [192.168.9.10]\n      in-front: {address: 192.0.2.10, forwards: [{service: udp/500, to: 192.168.9.10}]}", "udp/4500"},
		{"forward-elsewhere", "gateways/jetty/outside/in-front/forwards", Stop, "addresses: [192.0.2.10, \"2001:db8:10::10\"]", "addresses: [192.168.9.10]\n      in-front: {address: 192.0.2.10, forwards: [{service: udp/500, to: 192.168.9.10}, {service: udp/4500, to: 192.168.9.11}]}", "192.168.9.10"},
		{"forwards-everything", "gateways/jetty/outside/in-front/forwards/0", Warn, "addresses: [192.0.2.10, \"2001:db8:10::10\"]", "addresses: [192.168.9.10]\n      in-front: {address: 192.0.2.10, forwards: [{service: any, to: 192.168.9.10}]}", "only"},
		{"dial-private", "gateways/jetty/dial", Stop, "dial: gate.tern.example", "dial: 10.20.0.1", "192.0.2.10"},
		{"dial-elsewhere", "gateways/jetty/dial", Stop, "dial: gate.tern.example", "dial: 192.0.2.99", "192.0.2.10"},
		{"next-hop-not-attached", "gateways/jetty/routes/0/via", Stop, "{to: 10.20.30.0/24, via: 10.20.0.2}", "{to: 10.20.30.0/24, via: 10.21.0.2}", "inside"},
		{"address-off-network", "gateways/jetty/inside/0/addresses", Stop, "addresses: [10.20.0.1, ", "addresses: [10.21.0.1, ", "that network"},
		{"no-certificate", "tunnels/main/certificate", Stop, "certificate: gate", "certificate: gone", "yl certificate make gone"},
		{"certificate-refused", "tunnels/main/certificate", Stop, "dial: gate.tern.example", "dial: other.tern.example", "--for other.tern.example"},
		{"broken-protocol", "tunnels/main/kind", Stop, "kind: ikev2", "kind: pptp", "ikev2"},
		{"not-yet", "tunnels/main/kind", Stop, "kind: ikev2", "kind: l2tp-ipsec", "ikev2"},
		{"not-yet", "tunnels/main/login", Stop, "login: eap-mschapv2", "login: eap-tls", "eap-mschapv2"},
		{"not-yet", "tunnels/main/suites/0", Stop, "aes256gcm-sha256-x25519,", "aes128cbc-sha1-modp1024,", "aes256gcm"},
		{"tunnels-alike", "tunnels/second", Stop, "    certificate: gate\n", "    certificate: gate\n  - {name: second, kind: ikev2, gateway: jetty, login: eap-mschapv2, suites: [aes256gcm-sha256-p256], certificate: gate}\n", "switch one"},
		{"mtu", "tunnels/main/mtu", Stop, "    certificate: gate\n", "    certificate: gate\n    mtu: 1500\n", "1400"},
		{"nobody-admitted", "passages/volunteers/groups", Stop, "  - name: volunteers\n    groups: [volunteers]", "  - name: volunteers\n    groups: [campers]", "put a user"},
		{"no-passage", "passages", Note, "  - name: contractor\n    groups: [turbine-contractor]", "  - name: contractor\n    groups: [wardens]", "passage"},
		{"admitted-twice", "passages/contractor/groups/1", Note, "groups: [turbine-contractor]\n    tunnels", "groups: [turbine-contractor, wardens]\n    tunnels", "one passage"},
		{"reaches-nothing", "passages/contractor/groups", Stop, "{name: hands-off-the-turbine, action: refuse, groups: [wardens,", "{name: no, action: refuse, groups: [turbine-contractor], to: [any], services: [any]}\n  - {name: hands-off-the-turbine, action: refuse, groups: [wardens,", "rule"},
		{"pool-overlaps-network", "pools/guests/prefixes/0", Stop, "10.99.1.0/26", "10.20.40.0/26", "10.99.1.0/26"},
		{"pool-overlaps-pool", "pools/guests/prefixes/0", Stop, "10.99.1.0/26", "10.99.0.64/26", "which is free"},
		{"pool-overlaps-outside", "pools/guests", Stop, "10.99.1.0/26", "192.0.2.0/26", "which is free"},
		{"pool-typical-home", "pools/guests/prefixes/0", Warn, "10.99.1.0/26", "192.168.1.0/26", "uncommon"},
		{"pool-public", "pools/guests/prefixes/0", Warn, "10.99.1.0/26", "203.0.113.0/26", "owned"},
		{"pool-too-small", "pools/guests/prefixes", Warn, "10.99.1.0/26", "10.99.1.0/32", "larger"},
		{"pool-empty", "pools/guests", Stop, "[10.99.1.0/26]", "[10.99.1.0/26], exclude: [10.99.1.0/26]", "excluded"},
		{"host-bits", "pools/guests/prefixes/0", Stop, "10.99.1.0/26", "10.99.1.1/26", "10.99.1.0/26"},
		{"host-bits", "passages/research/routes/split/1", Stop, "split: [station, archive]", "split: [station, 10.20.30.1/24]", "10.20.30.0/24"},
		{"host-bits", "gateways/jetty/routes/0/to", Stop, "to: 10.20.30.0/24", "to: 10.20.30.1/24", "10.20.30.0/24"},
		{"name-server-not-routed", "passages/contractor/dns/servers/0", Stop, "split: [names, turbine]", "split: [turbine]", "add names to passages/contractor/routes/split"},
		{"name-server-not-permitted", "passages/research/dns/servers/0", Stop, "to: [names], services: [names, ping]}\n  - {name: wardens-i", "to: [names], services: [ping]}\n  - {name: wardens-i", "udp/53"},
		{"public-name-servers-only", "passages/research/dns/servers", Warn, "pool: staff\n    dns: {servers: [10.20.0.53], search: [tern.example]}\n    routes: {split", "pool: staff\n    dns: {servers: [9.9.9.9], search: [tern.example]}\n    routes: {split", "first"},
		{"no-name-server", "passages/research/dns", Warn, "pool: staff\n    dns: {servers: [10.20.0.53], search: [tern.example]}\n    routes: {split", "pool: staff\n    routes: {split", "name server"},
		{"no-search-domain", "passages/research/dns", Note, "servers: [10.20.0.53], search: [tern.example]}\n    routes: {split: [station", "servers: [10.20.0.53]}\n    routes: {split: [station", "search"},
		{"split-empty", "passages/research/routes", Stop, "{split: [station, archive]}", "{split: []}", "full: true"},
		{"full-and-split", "passages/research/routes", Stop, "{split: [station, archive]}", "{full: true, split: [station, archive]}", "one of them"},
		{"split-typical-home", "passages/research/routes/split/2", Warn, "split: [station, archive]", "split: [station, archive, 192.168.1.0/24]", "renumber"},
		{"routed-for-nothing", "passages/volunteers/routes/split/2", Warn, "split: [names, nestcams]", "split: [names, nestcams, turbine]", "rule"},
		{"needed-not-routed", "passages/research/routes/split", Stop, "split: [station, archive]", "split: [station, records]", "add nestcams"},
		{"full-without-internet", "passages/wardens/routes/full", Stop, "    internet: true\n", "", "internet: true"},
		{"full-without-rule", "passages/wardens/routes/full", Stop, "groups: [wardens], to: [internet]", "groups: [researchers], to: [internet]", "internet"},
		{"full-without-translation", "passages/wardens/routes/full", Stop, "out: internet}", "out: station}", "action: translate"},
		{"full-ipv4-only", "passages/wardens/routes/full", Warn, "[10.99.0.0/24, \"fd00:99::/112\"]", "[10.99.0.0/24]", "IPv6"},
		{"no-way-back", "networks/archive/router", Stop, "{to: 0.0.0.0/0, via: 10.20.0.1}", "{to: 10.20.0.0/24, via: 10.20.0.1}", "route"},
		{"translation-never", "nat/way-out/from", Warn, "from: [staff], to: [internet]", "from: [10.98.0.0/24], to: [internet]", "pool"},
		{"translation-shadowed", "nat/again", Warn, "out: internet}\n", "out: internet}\n  - {name: again, gateway: jetty, action: exempt, from: [staff], to: [internet], out: internet}\n", "before way-out"},
		{"rule-for-nobody", "rules/cameras/groups/1", Warn, "groups: [volunteers], to: [nestcams]", "groups: [volunteers, campers], to: [nestcams]", "passage"},
		{"any-destination", "rules/cameras/to/0", Warn, "groups: [volunteers], to: [nestcams], services", "groups: [volunteers], to: [any], services", "name the networks"},
		{"any-service", "rules/archive/services", Warn, "to: [records, nestcams], services: [web, ping]}\n  - {name: cam", "to: [records, nestcams], services: [any]}\n  - {name: cam", "services"},
		{"rule-never-acts", "rules/again", Warn, "  - {name: cameras,", "  - {name: again, action: permit, groups: [researchers], to: [records], services: [tcp/80]}\n  - {name: cameras,", "narrow archive"},
		{"unused", "services/spare", Note, "  - {name: files,", "  - {name: spare, ports: [tcp/9]}\n  - {name: files,", "remove"},
		{"expectation-fails", "expectations/volunteers-watch-nests", Stop, "groups: [volunteers], to: [nestcams], services: [web]", "groups: [volunteers], to: [nestcams], services: [tcp/443]", "add a rule that permits tcp/80 to nestcams"},
		{"only-the-gateway", "expectations/gw/to", Warn, "expectations:\n", "expectations:\n  - {name: gw, everyone: true, must: not-reach, to: [10.20.0.1], services: [tcp/22]}\n  - {name: gw2, groups: [wardens], must: reach, to: [10.20.0.1], services: [ping]}\n", "behind"},
		{"expectation-empty", "expectations/empty", Stop, "expectations:\n", "expectations:\n  - {name: empty, everyone: true, must: reach}\n", "to and services"},
	}
	codes, mends := map[string]bool{}, map[string]bool{}
	for _, c := range cases {
		t.Run(c.code+"@"+c.path, func(t *testing.T) {
			require.Equal(t, 1, strings.Count(s.Plan, c.find), "what is replaced stands once: %q", c.find)
			text := strings.Replace(s.Plan, c.find, c.put, 1)
			if strings.Contains(c.put, "campers") {
				text = strings.Replace(text, "groups:\n", "groups:\n  - {name: campers}\n", 1)
			}
			path := c.path
			if c.code == "only-the-gateway" {
				path = "expectations/gw2/to"
			}
			fs := Run(input(t, text))
			i := slices.IndexFunc(fs, func(f Finding) bool { return f.Code == c.code && f.Path == path })
			require.GreaterOrEqual(t, i, 0, "not found; found %v", ids(fs))
			require.Equal(t, c.severity, fs[i].Severity)
			require.Contains(t, fs[i].Fix, c.fix)
			require.NotEmpty(t, fs[i].Problem)
			if len(fs[i].Mend) > 0 { // what can be applied mends it, and breaks nothing
				mended, err := plan.Apply(text, fs[i].Mend...)
				require.NoError(t, err)
				after := Run(input(t, mended))
				require.False(t, slices.ContainsFunc(after, func(f Finding) bool { return f.ID() == fs[i].ID() && f.Problem == fs[i].Problem }), "%v does not mend it: %v", fs[i].Mend, ids(after))
				require.LessOrEqual(t, Count(after, Stop), Count(fs, Stop), "%v breaks something: %v", fs[i].Mend, after)
				mends[c.code] = true
			}
			require.Greater(t, fs[i].Line, 1)
			for _, f := range sound {
				require.False(t, f.Code == c.code && f.Path == path, "the sound plan has it too")
			}
		})
		codes[c.code] = true
	}
	require.GreaterOrEqual(t, len(mends), 20, "kinds of findings with a fix that can be applied: %v", mends)
	t.Logf("%d kinds of findings, %d with a fix that can be applied", len(codes), len(mends))
}

func ids(fs []Finding) (out []string) {
	for _, f := range fs {
		out = append(out, f.ID())
	}
	return out
}

// What depends on people, certificates and time rather than on the document.
func TestFindingsBesideThePlan(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	in := input(t, s.Plan)
	in.Now = now.Add(cert.GatewayLife - 10*24*time.Hour)
	require.Contains(t, ids(Run(in)), "certificate-expires@tunnels/main/certificate")
	in.Now = now.Add(cert.GatewayLife + time.Hour)
	require.Contains(t, ids(Run(in)), "certificate-refused@tunnels/main/certificate")
	in = input(t, s.Plan)
	in.People = in.People[:3]
	require.Contains(t, ids(Run(in)), "nobody-admitted@passages/contractor/groups")
	in.People = append(in.People, reach.Person{User: "stray", Groups: []string{"nowhere"}})
	require.Contains(t, ids(Run(in)), "no-passage@passages")

	empty, err := plan.Read("format: 1\nname: nothing\n")
	require.NoError(t, err)
	require.Contains(t, ids(Run(Input{Doc: empty, Now: now})), "no-gateway@gateways")
}
