package handover

import (
	"cmp"

	"yellowlantern/internal/core/plan"
)

func androidSteps(v Values, s Secrets) []string {
	const install = "Settings, Security, More security settings, Install from device storage, "
	trust := "Save authority.cer on the device, and install it: " + install + "CA certificate."
	if len(v.Further) > 0 {
		trust = "Save authority.cer and the other authorities on the device, and install each: " + install + "CA certificate."
	}
	steps := []string{trust}
	trusts := " IPSec CA certificate: the one that was installed. IPSec server certificate: (received from server)."
	if v.Login == plan.LoginSharedKey {
		trusts = ""
	}
	kind, login := "IKEv2/IPSec MSCHAPv2", "Username: "+v.User+". Password: "+cmp.Or(s.Password, "yours of "+v.Site)+"."
	if v.Login == plan.LoginSharedKey {
		steps, kind = nil, "IKEv2/IPSec PSK" // whoever has the key is the gateway: there is no authority
		login = "IPSec pre-shared key: " + s.Shared
	}
	if v.Login == plan.LoginCertificate {
		steps = append(steps, "Save "+fileName(v, "p12")+" on the device, and install it: "+install+
			"VPN & app user certificate. Its password: "+s.IdentityPassword+".")
		kind, login = "IKEv2/IPSec RSA", "IPSec user certificate: "+v.User+"."
	}
	steps = append(steps, "Settings, Network & internet, VPN, +. Name: "+v.Site+". Type: "+kind+".",
		"Server address: "+v.Dial+". IPSec identifier: "+v.User+"."+trusts, login, "Save, tap "+v.Site+", Connect.")
	if v.OnDemand == plan.OnDemandAlways {
		steps = append(steps, "So that it connects by itself: the wheel beside "+v.Site+", Always-on VPN.")
	}
	return steps
}
