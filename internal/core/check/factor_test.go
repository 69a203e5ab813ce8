package check

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	isle "yellowlantern/internal/testkit/island"
)

func TestFindingsOfSecondFactors(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	const page = "name: code.tern.example, addresses: [10.99.255.1, \"fd00:99:ffff::1\"]"
	const asked, path = "asked: true", "passages/research/second-factor"
	for _, c := range []struct{ want, page, asked, login, dns string }{
		{"", page, asked, "certificate", ""},
		{"", page, asked + ", remember: 24h, of: [researchers], not-from: [198.51.100.0/24]", "certificate", ""},
		{"second-factor-no-page@" + path + " stop", "", asked, "certificate", ""},
		{"single-factor@passages/research warn", page, "asked: false", "eap-mschapv2", ""},
		{"single-factor@passages/research warn", page, "asked: false", "public-key", ""},
		{"second-factor-waived@" + path + "/waived warn", page, asked + ", waived: so", "certificate", ""},
		{"second-factor-each-time@" + path + " note", page, asked, "eap-mschapv2", ""},
		{"second-factor-not-remembered@" + path + "/remember warn", page, asked + ", remember: 24h", "eap-mschapv2", ""},
		{"no-second-factor@" + path + " warn", page, asked, "certificate", "nobody has one"},
		{"second-factor-of-nobody@" + path + "/not-from/0 warn", page, asked + ", not-from: [0.0.0.0/0]", "certificate", ""},
		{"code-page-family@gateways/jetty/code-page/addresses warn", "name: code.tern.example, addresses: [10.99.255.1]", asked, "certificate", ""},
		{"code-page-unnamed@passages/research/dns warn", page, asked, "certificate", "{}"},
		{"code-page-unused@gateways/jetty/code-page note", page, "asked: false", "certificate", ""},
		{"code-page-name@gateways/jetty/code-page/name stop", strings.Replace(page, "code.tern.example", "https://code", 1), asked, "certificate", ""},
		{"code-page-certificate@gateways/jetty/code-page/certificate stop", page + ", certificate: gate", asked, "certificate", ""},
		{"code-page-address@gateways/jetty/code-page/addresses stop", "name: code.tern.example, addresses: []", asked, "certificate", ""},
		{"code-page-address@gateways/jetty/code-page/addresses/0 stop", strings.Replace(page, "10.99.255.1", "10.20.0.53", 1), asked, "certificate", ""},
		{"code-page-address@gateways/jetty/code-page/addresses/0 stop", strings.Replace(page, "10.99.255.1", "192.0.2.99", 1), asked, "certificate", ""},
		{"code-page-address@gateways/jetty/code-page/addresses/1 stop", strings.Replace(page, "\"fd00:99:ffff::1\"", "10.99.255.2", 1), asked, "certificate", ""},
	} {
		text := strings.Replace(s.Plan, "login: eap-mschapv2", "login: "+c.login, 1)
		text = strings.Replace(text, "    routes: {split: [station, archive]}\n"+isle.Waived,
			"    routes: {split: [station, archive]}\n    second-factor: {"+c.asked+"}\n", 1)
		if c.page != "" {
			text = strings.Replace(text, "    internet: true\n", "    internet: true\n    code-page: {"+c.page+"}\n", 1)
		}
		if c.dns == "{}" {
			text = strings.Replace(text,
				"    dns: {servers: [10.20.0.53], search: [tern.example]}\n    routes: {split: [station", "    dns: {}\n    routes: {split: [station", 1)
		}
		in := input(t, text)
		for i := range in.People {
			in.People[i].Factor = c.dns != "nobody has one"
		}
		var found []string
		for _, f := range Run(in) {
			if strings.Contains(f.Code, "factor") || strings.Contains(f.Code, "code-page") {
				found = append(found, f.ID()+" "+string(f.Severity))
			}
		}
		if c.want == "" {
			require.Empty(t, found, "%+v", c)
			continue
		}
		require.Contains(t, found, c.want, "%+v", c)
	}
}

func TestFindingsOfApproval(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	for n, want := range map[int]bool{1: true, 2: false} {
		in := input(t, s.Plan+"\napprove-commits: true\n")
		in.Administrators = []Administrator{{Name: "admin"}, {Name: "ada.admin"}}[:n]
		require.Equal(t, want, strings.Contains(strings.Join(ids(Run(in)), " "), "approval-by-nobody@approve-commits"))
	}
}

func TestFindingsOfMail(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	const right = "mail-server: smtps://mail.tern.example\nmail-from: gateway@tern.example\nmail-account: gateway\nmail-secret: kept\npassword-help: true\nkits-at: https://kits.tern.example\n"
	for was, x := range map[string][2]string{
		"":                                       {"", ""},
		"smtps://mail.tern.example":              {"http://mail.tern.example", "mail-server@mail-server"},
		"from: gateway@tern.example":             {"from: gateway", "mail-from@mail-from"},
		"secret: kept":                           {"secret: lost", "no-secret@mail-secret"},
		"kits-at: https://kits.tern.example":     {"", "password-help-nowhere@password-help"},
		"mail-server: smtps://mail.tern.example": {"", "mail-nowhere@password-help"},
	} {
		in := input(t, s.Plan+"\n"+strings.Replace(right, was, x[0], 1))
		in.Secrets = map[string]bool{"kept": true, "jetty-update": true}
		found := strings.Join(ids(Run(in)), " ")
		if x[1] == "" {
			require.NotContains(t, found, "mail")
			continue
		}
		require.Contains(t, found, x[1])
	}
}

func TestFindingsOfKeptPasswords(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	const want = "password-kept-otherwise@passages/research/tunnels"
	for login, found := range map[string]bool{"eap-mschapv2": true, "eap-ttls": false, "eap-mschapv2\n    also-login: [eap-ttls]": false} {
		in := input(t, strings.Replace(s.Plan, "login: eap-mschapv2", "login: "+login, 1))
		for i := range in.People {
			in.People[i].Unchallenged = in.People[i].User == "rory"
		}
		require.Equal(t, found, slices.Contains(ids(Run(in)), want), login)
	}
}
