package handover

func androidSteps(v Values) []string {
	return []string{
		"Save authority.cer on the device, and install it: Settings, Security, More security settings, Install from device storage, CA certificate.",
		"Settings, Network & internet, VPN, +. Name: " + v.Site + ". Type: IKEv2/IPSec MSCHAPv2.",
		"Server address: " + v.Dial + ". IPSec identifier: " + v.User + ". IPSec CA certificate: the one that was installed. IPSec server certificate: (received from server).",
		"Username: " + v.User + ". Password: yours of " + v.Site + ".",
		"Save, tap " + v.Site + ", Connect.",
	}
}
