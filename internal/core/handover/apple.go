package handover

import (
	"crypto/sha256"
	"fmt"
	"net/netip"

	"howett.net/plist"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
)

// The keys are those of Device Management's published schema: TopLevel, VPN (IKEv2 and DNS), CertificateRoot.
type dict map[string]any

// appleAlgorithms are the words of the schema for ours.
var appleAlgorithms = map[string]string{
	"AES-256-GCM-16": "AES-256-GCM", "AES-128-GCM-16": "AES-128-GCM", "ChaCha20-Poly1305": "ChaCha20Poly1305", "AES-256-CBC": "AES-256",
	"AES-128-CBC": "AES-128", "3DES-CBC": "3DES",
	"HMAC-SHA2-256-128": "SHA2-256", "HMAC-SHA2-384-192": "SHA2-384", "HMAC-SHA2-512-256": "SHA2-512", "HMAC-SHA1-96": "SHA1-96",
	"PRF-HMAC-SHA2-256": "SHA2-256", "PRF-HMAC-SHA2-384": "SHA2-384", "PRF-HMAC-SHA2-512": "SHA2-512", "PRF-HMAC-SHA1": "SHA1-160",
}

// appleProfile writes a configuration profile: the authority, and the connection. What it is called by is made of its contents' owner, so
// that a newer one takes the place of the older one.
func appleProfile(v Values, s Secrets) ([]byte, error) {
	encryption, known := appleAlgorithms[v.Protect.Encryption]
	// With an encryption that protects integrity itself the system takes the PRF from here.
	integrity := appleAlgorithms[v.Protect.PRF]
	if v.Protect.Integrity != "" {
		integrity = appleAlgorithms[v.Protect.Integrity]
	}
	group, ok := algorithm.Named(algorithm.Group, v.Protect.Group)
	if !known || !ok || integrity == "" {
		return nil, fmt.Errorf("the profile has no words for %s", v.Protect)
	}
	protects := dict{"EncryptionAlgorithm": encryption, "IntegrityAlgorithm": integrity, "DiffieHellmanGroup": int(group.Number)}
	ike := dict{
		"RemoteAddress": v.Dial, "RemoteIdentifier": v.Identity, "LocalIdentifier": v.User, "AuthenticationMethod": "None",
		"ExtendedAuthEnabled": 1, "AuthName": v.User, "IKESecurityAssociationParameters": protects, "ChildSecurityAssociationParameters": protects,
		"EnablePFS": number(v.PFS), "DeadPeerDetectionRate": "Medium", "DisableMOBIKE": 0, "DisableRedirect": 0,
		"UseConfigurationAttributeInternalIPSubnet": 0, "EnableCertificateRevocationCheck": 0, "MTU": v.MTU, "NATKeepAliveOffloadEnable": 1,
		"NATKeepAliveInterval": max(20, v.Keepalive), // the least that it takes
	}
	if s.Password != "" {
		ike["AuthPassword"] = s.Password
	}
	switch v.Login {
	case plan.LoginSharedKey:
		ike["AuthenticationMethod"], ike["ExtendedAuthEnabled"], ike["SharedSecret"] = "SharedSecret", 0, s.Shared
		delete(ike, "AuthName")
	case plan.LoginCertificate:
		ike["AuthenticationMethod"], ike["ExtendedAuthEnabled"] = "Certificate", 0
		ike["PayloadCertificateUUID"] = v.uuid("identity")
		ike["CertificateType"] = map[string]string{cert.ECDSA: "ECDSA256", cert.RSA: "RSA"}[s.IdentityKind]
		delete(ike, "AuthName")
	}
	v.demands(ike)
	vpn := dict{
		"PayloadType": "com.apple.vpn.managed", "PayloadVersion": 1, "PayloadIdentifier": v.owner("vpn"), "PayloadUUID": v.uuid("vpn"),
		"PayloadDisplayName": v.Site, "UserDefinedName": v.Site, "VPNType": "IKEv2", "IKEv2": ike,
		"IPv4": dict{"OverridePrimary": number(v.Full)},
	}
	if len(v.DNS) > 0 {
		dns := dict{"ServerAddresses": words(v.DNS), "SearchDomains": append([]string{}, v.Search...)}
		if !v.Full {
			dns["SupplementalMatchDomains"] = append([]string{}, v.Domains...)
		}
		vpn["DNS"] = dns
	}
	profile := dict{
		"PayloadType": "Configuration", "PayloadVersion": 1, "PayloadIdentifier": v.owner("profile"), "PayloadUUID": v.uuid("profile"),
		"PayloadDisplayName": v.Site + ": remote access", "PayloadDescription": "Connects " + v.User + " to " + v.Site + ".",
		"PayloadOrganization": v.Site, "PayloadRemovalDisallowed": false,
		"PayloadContent": append(v.appleTrust(s), vpn),
	}
	if v.Banner != "" {
		profile["ConsentText"] = dict{"default": v.Banner}
	}
	return plist.MarshalIndent(profile, plist.XMLFormat, "\t")
}

func number(b bool) int {
	if b {
		return 1
	}
	return 0
}

func words(as []netip.Addr) []string {
	out := []string{}
	for _, a := range as {
		out = append(out, a.String())
	}
	return out
}

// owner names a payload such that a newer profile of the same person and gateway takes its place.
func (v Values) owner(what string) string {
	sum := sha256.Sum256([]byte(v.Identity + "\n" + v.User))
	return fmt.Sprintf("yellow-lantern.%x.%s", sum[:8], what)
}

// uuid is one that the same payload always has (RFC 9562 §5.8).
func (v Values) uuid(what string) string {
	sum := sha256.Sum256([]byte(v.owner(what)))
	sum[6], sum[8] = sum[6]&0x0f|0x80, sum[8]&0x3f|0x80
	return fmt.Sprintf("%X-%X-%X-%X-%X", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}

func appleSteps(v Values, s Secrets) []string {
	asks := "It asks for your password of " + v.Site + " (user " + v.User + "): give it, or leave it empty to be asked each time."
	switch {
	case v.Login == plan.LoginCertificate:
		asks = "It holds this device's own key: delete the file once it is installed, and install it nowhere else."
	case v.Login == plan.LoginSharedKey:
		asks = "It holds your key of " + v.Site + ", which nobody else has: delete the file once it is installed."
	case s.Password != "":
		asks = "It holds your new password of " + v.Site + ": delete the file once it is installed."
	}
	return []string{
		"Open the file " + fileName(v, "mobileconfig") + " on the device: from the page, or by mail to yourself.",
		"iPhone and iPad: Settings, General, VPN & Device Management, the profile of " + v.Site + ", Install. Mac: System Settings, General, Device Management, the profile, Install.",
		asks, "Connect: Settings, VPN, " + v.Site + ". The gateway is " + v.Dial + ".",
	}
}

// demands adds when the device connects by itself.
func (v Values) demands(ike dict) {
	switch {
	case v.OnDemand == plan.OnDemandAlways:
		ike["OnDemandEnabled"], ike["OnDemandRules"] = 1, []dict{{"Action": "Connect"}}
	case v.OnDemand == plan.OnDemandNames && len(v.Domains) > 0:
		ike["OnDemandEnabled"], ike["OnDemandRules"] = 1, []dict{
			{"Action": "EvaluateConnection", "ActionParameters": []dict{{"Domains": append([]string{}, v.Domains...), "DomainAction": "ConnectIfNeeded"}}},
		}
	}
}

// appleTrust are the payloads of authorities and of the device's identity.
func (v Values) appleTrust(s Secrets) (out []dict) {
	for i, der := range v.authorities() {
		what := "authority"
		if i > 0 {
			what = fmt.Sprintf("authority-%d", i+1)
		}
		out = append(out, dict{
			"PayloadType": "com.apple.security.root", "PayloadVersion": 1, "PayloadIdentifier": v.owner(what), "PayloadUUID": v.uuid(what),
			"PayloadDisplayName": v.Site + ": authority", "PayloadCertificateFileName": what + ".cer", "PayloadContent": der,
		})
	}
	if s.Enrol != "" {
		out = append(out, dict{
			"PayloadType": "com.apple.security.scep", "PayloadVersion": 1, "PayloadIdentifier": v.owner("identity"), "PayloadUUID": v.uuid("identity"),
			"PayloadDisplayName": v.Site + ": " + v.User, "PayloadContent": dict{
				"URL": s.Enrol, "Challenge": s.Challenge, "Subject": [][][]string{{{"CN", v.User}}}, "Key Type": "RSA", "Keysize": 2048,
				"Key Usage": 5, // to sign with, and to have answers sealed for
			},
		})
	}
	if s.Identity != nil {
		out = append(out, dict{
			"PayloadType": "com.apple.security.pkcs12", "PayloadVersion": 1, "PayloadIdentifier": v.owner("identity"), "PayloadUUID": v.uuid("identity"),
			"PayloadDisplayName": v.Site + ": " + v.User, "PayloadCertificateFileName": "identity.p12", "PayloadContent": s.Identity,
			"Password": s.IdentityPassword,
		})
	}
	return out
}
