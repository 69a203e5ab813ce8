package handover

import (
	"encoding/base64"
	"fmt"
	"strings"

	"yellowlantern/internal/core/plan"
)

// The parameters are those of the system's own cmdlets (VpnClient, PKI, DnsClient), as its maker documents them.
var (
	windowsTransform = map[string]string{"AES-256-GCM-16": "GCMAES256", "AES-128-GCM-16": "GCMAES128"}
	windowsCipher    = map[string]string{
		"AES-256-GCM-16": "GCMAES256", "AES-128-GCM-16": "GCMAES128", "AES-256-CBC": "AES256", "AES-128-CBC": "AES128", "3DES-CBC": "DES3",
	}
	windowsHash = map[string]string{
		"HMAC-SHA2-256-128": "SHA256", "HMAC-SHA2-384-192": "SHA384", "HMAC-SHA1-96": "SHA1",
		"PRF-HMAC-SHA2-256": "SHA256", "PRF-HMAC-SHA2-384": "SHA384", "PRF-HMAC-SHA1": "SHA1",
	}
	windowsGroup = map[string]string{"P-256": "ECP256", "P-384": "ECP384", "MODP-2048": "Group14", "MODP-1024": "Group2"}
	windowsPFS   = map[string]string{"P-256": "ECP256", "P-384": "ECP384", "MODP-2048": "PFS2048", "MODP-1024": "PFS2"}
)

// quoted is a text as a literal of PowerShell: nothing in it is expanded, and each kind of quote that its grammar takes for one is doubled
// (the language's specification, §2.3.5.2).
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('\'')
	for _, r := range s {
		switch r {
		case '\'', '\u2018', '\u2019', '\u201a', '\u201b':
			b.WriteRune(r)
		case '\r', '\n', 0:
			r = ' ' // a name has one line
		}
		b.WriteRune(r)
	}
	b.WriteByte('\'')
	return b.String()
}

// list is several of them.
func list(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = quoted(w)
	}
	return "@(" + strings.Join(out, ", ") + ")"
}

// windowsScript makes the connection, anew each time that it runs, and takes all of it away with -Undo.
func windowsScript(v Values, s Secrets) ([]byte, error) {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\r\n", args...) }
	b.WriteString("\ufeff") // so that older versions of PowerShell read it as UTF-8
	line("#Requires -RunAsAdministrator")
	line("param([switch]$Undo)")
	line("$ErrorActionPreference = 'Stop'")
	line("$name = %s", quoted(v.Site))
	line("$server = %s", quoted(v.Dial))
	const certificate = "[System.Security.Cryptography.X509Certificates.X509Certificate2]::new("
	var authorities []string
	for _, der := range v.authorities() {
		authorities = append(authorities, base64.StdEncoding.EncodeToString(der))
	}
	line("$certificates = @(foreach ($der in %s) { %s[byte[]][Convert]::FromBase64String($der)) })", list(authorities), certificate)
	if s.Identity != nil {
		line("$own = %s[byte[]][Convert]::FromBase64String(%s), %s, 'MachineKeySet, PersistKeySet')", certificate,
			quoted(base64.StdEncoding.EncodeToString(s.Identity)), quoted(s.IdentityPassword))
	}
	line("# What an earlier run made goes first: the script can run as often as one likes.")
	line("Get-VpnConnection -AllUserConnection -ErrorAction SilentlyContinue | Where-Object { $_.Name -eq $name } | Remove-VpnConnection -AllUserConnection -Force")
	line("Get-DnsClientNrptRule | Where-Object { $_.Comment -eq $name } | Remove-DnsClientNrptRule -Force")
	line("if ($Undo) {")
	line("    $certificates | ForEach-Object { Get-ChildItem ('Cert:\\LocalMachine\\Root\\' + $_.Thumbprint) -ErrorAction SilentlyContinue | Remove-Item }")
	if s.Identity != nil {
		line("    Get-ChildItem ('Cert:\\LocalMachine\\My\\' + $own.Thumbprint) -ErrorAction SilentlyContinue | Remove-Item -DeleteKey")
	}
	line("    Write-Host ('everything of ' + $name + ' is gone from this machine')")
	line("    return")
	line("}")
	line("$store = [System.Security.Cryptography.X509Certificates.X509Store]::new('Root', 'LocalMachine')")
	line("$store.Open('ReadWrite')")
	line("$certificates | ForEach-Object { $store.Add($_) }")
	line("$store.Close()")
	if s.Identity != nil {
		line("$store = [System.Security.Cryptography.X509Certificates.X509Store]::new('My', 'LocalMachine')")
		line("$store.Open('ReadWrite')")
		line("$store.Add($own)")
		line("$store.Close()")
	}
	splits := "$true"
	if v.Full {
		splits = "$false"
	}
	common := "-Name $name -ServerAddress $server -TunnelType Ikev2 -EncryptionLevel Required -AllUserConnection -SplitTunneling:" + splits + " -RememberCredential -Force"
	if len(v.Search) > 0 {
		common += " -DnsSuffix " + quoted(v.Search[0])
	}
	if v.Login == plan.LoginCertificate {
		line("Add-VpnConnection %s -AuthenticationMethod MachineCertificate", common)
	} else {
		line("$eap = (New-EapConfiguration).EapConfigXmlStream # user and password by EAP-MSCHAPv2")
		line("Add-VpnConnection %s -AuthenticationMethod Eap -EapConfigXmlStream $eap", common)
	}
	p := v.Protect
	transform, integrity := windowsTransform[p.Encryption], windowsHash[p.PRF]
	if p.Integrity != "" {
		integrity = windowsHash[p.Integrity]
		transform = map[string]string{"SHA256": "SHA256128", "SHA1": "SHA196"}[integrity] // of traffic
	}
	if transform == "" || integrity == "" || windowsCipher[p.Encryption] == "" || windowsGroup[p.Group] == "" {
		return nil, fmt.Errorf("the system's cmdlets have no words for %s: add HMAC-SHA2-256-128, or AES-256-GCM-16, to tunnel %s", p,
			v.Tunnel)
	}
	pfs := "None"
	if v.PFS {
		pfs = windowsPFS[p.Group]
	}
	line("Set-VpnConnectionIPsecConfiguration -ConnectionName $name -AllUserConnection -AuthenticationTransformConstants %s -CipherTransformConstants %s -EncryptionMethod %s -IntegrityCheckMethod %s -DHGroup %s -PfsGroup %s -Force",
		transform, windowsCipher[p.Encryption], windowsCipher[p.Encryption], integrity, windowsGroup[p.Group], pfs)
	if !v.Full {
		var routes []string
		for _, r := range v.Routes {
			routes = append(routes, r.String())
		}
		line("foreach ($route in %s) {", list(routes))
		line("    Add-VpnConnectionRoute -ConnectionName $name -DestinationPrefix $route -AllUserConnection")
		line("}")
		if len(v.DNS) > 0 && len(v.Domains) > 0 {
			var zones []string
			for _, d := range v.Domains {
				zones = append(zones, "."+strings.TrimPrefix(d, "."))
			}
			line("Add-DnsClientNrptRule -Namespace %s -NameServers %s -Comment $name | Out-Null", list(zones), list(words(v.DNS)))
		}
	}
	line("Write-Host ('connect: Settings, Network & internet, VPN, ' + $name)")
	return []byte(b.String()), nil
}

func windowsSteps(v Values, s Secrets) []string {
	file := fileName(v, "ps1")
	first := "In the window that opens, connect as user " + v.User + " with " + s.password(v) + "."
	if v.Login == plan.LoginCertificate {
		first = "The machine's own certificate is in the script, with its key: delete the script once you are connected, but keep it until then."
	}
	return []string{
		"Save " + file + " on the machine, and open PowerShell as an administrator (right click on Start, Terminal (Admin)).",
		"Run it, if this machine trusts the authority of " + v.Site + " already (as a root and as a publisher): " +
			"powershell -ExecutionPolicy AllSigned -File " + file,
		"Otherwise: powershell -ExecutionPolicy Bypass -File " + file +
			". That does not check who made the file: do it only if you fetched it from your organisation's own page, or had it from its administrator.",
		"Connect: Settings, Network & internet, VPN, " + v.Site + " (type IKEv2, gateway " + v.Dial + ").",
		first,
		"To take everything away again: powershell -ExecutionPolicy Bypass -File " + file + " -Undo",
	}
}
