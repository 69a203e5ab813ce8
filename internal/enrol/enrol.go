// Package enrol reads and writes the messages by which a device has a certificate issued for a key that it made itself (SCEP, RFC 8894):
// what is asked, by whom it is signed, and the answer. Whether it is granted is for others to say.
package enrol

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"slices"

	"github.com/smallstep/pkcs7"
)

// Kinds of messages that are granted (RFC 8894 §3.2.1.2).
const (
	First   = "19" // PKCSReq
	Renewal = "17" // RenewalReq
	answer  = "3"  // CertRep
)

// Reasons for which a request is refused (RFC 8894 §3.2.1.4.5).
const (
	BadMessage = "1" // badMessageCheck
	BadRequest = "2"
	BadSigner  = "4" // badCertId
)

const (
	granted = "0" // pkiStatus
	refused = "2"
)

// The attributes of messages (RFC 8894 §3.2.1).
var (
	messageType    = attribute(2)
	pkiStatus      = attribute(3)
	failInfo       = attribute(4)
	senderNonce    = attribute(5)
	recipientNonce = attribute(6)
	transaction    = attribute(7)

	challengePassword = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7} // RFC 2985 §5.4.1
)

func attribute(n int) asn1.ObjectIdentifier {
	return asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, n}
}

// Capabilities are what devices are told that they may do (RFC 8894 §3.5.2).
const Capabilities = "AES\nPOSTPKIOperation\nRenewal\nSHA-256\nSHA-512\nSCEPStandard\n"

// MostMessage is the longest message that is read, in octets.
const MostMessage = 64 << 10

func init() { pkcs7.ContentEncryptionAlgorithm = pkcs7.EncryptionAlgorithmAES256CBC } // as RFC 8894 §2.9 wants at least AES

// Recipient is who reads requests and signs answers: an RSA key, whatever kind the authority's is.
type Recipient struct {
	Certificate *x509.Certificate
	Key         crypto.PrivateKey
}

// Message is a request.
type Message struct {
	Type      string
	Signer    *x509.Certificate // of the key that it is for, or of the one before it
	Public    []byte            // the key that a certificate is asked for, SubjectPublicKeyInfo
	Request   []byte            // PKCS #10, DER; its signature is right
	Challenge string            // what the device was told beforehand

	transaction string
	nonce       []byte
}

var errSealed = errors.New("what is sealed in it cannot be read: it is for another authority, or damaged") // always the same

// Read reads a request. Where the message itself can be read and what is in it cannot, there is a Message to refuse beside the error.
func Read(b []byte, to Recipient) (*Message, error) {
	outer, err := parse(b)
	if err != nil {
		return nil, err
	}
	m := &Message{Signer: outer.GetOnlySigner()}
	if m.Signer != nil && slow(m.Signer.PublicKey) {
		return nil, errors.New("the device's key is larger than those that are taken")
	}
	if m.Signer == nil || outer.Verify() != nil {
		return nil, errors.New("it is not signed by one who shows a certificate")
	}
	if outer.UnmarshalSignedAttribute(messageType, &m.Type) != nil || outer.UnmarshalSignedAttribute(transaction, &m.transaction) != nil ||
		outer.UnmarshalSignedAttribute(senderNonce, &m.nonce) != nil || len(m.transaction) > 256 || len(m.nonce) > 64 {
		return nil, errors.New("it lacks its kind, its transaction or its nonce")
	}
	if m.Type != First && m.Type != Renewal {
		return m, fmt.Errorf("messages of kind %s are not answered here", m.Type)
	}
	if _, ok := m.Signer.PublicKey.(*rsa.PublicKey); !ok {
		return m, errors.New("the device's key is not RSA, for which alone answers can be sealed")
	}
	sealed, err := parse(outer.Content)
	if err != nil {
		return m, errSealed
	}
	der, err := sealed.Decrypt(to.Certificate, to.Key)
	if err != nil {
		return m, errSealed
	}
	if measure(der) != nil {
		return m, errors.New("there is no signing request in it")
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil || slow(r.PublicKey) || r.CheckSignature() != nil {
		return m, errors.New("there is no signing request in it")
	}
	if m.Type == First && !bytes.Equal(r.RawSubjectPublicKeyInfo, m.Signer.RawSubjectPublicKeyInfo) {
		return m, errors.New("it is signed by another key than the one that it is for")
	}
	m.Public, m.Request = r.RawSubjectPublicKeyInfo, der
	m.Challenge = challengeIn(r)
	return m, nil
}

// slow tells whether a signature by a key takes long to judge: a stranger chooses the key.
func slow(key crypto.PublicKey) bool {
	k, isRSA := key.(*rsa.PublicKey)
	return isRSA && (k.N.BitLen() > 8192 || k.E >= 1<<31)
}

// parse reads a CMS message. The parser of what others wrote is held: what it stumbles over is an error.
func parse(b []byte) (p *pkcs7.PKCS7, err error) {
	defer func() {
		if r := recover(); r != nil {
			p, err = nil, errors.New("it is no CMS message")
		}
	}()
	if err := measure(b); err != nil {
		return nil, err
	}
	if p, err = pkcs7.Parse(b); err != nil {
		return nil, errors.New("it is no CMS message")
	}
	return p, nil
}

// challengeIn is what a request holds for whoever grants it.
func challengeIn(r *x509.CertificateRequest) (out string) {
	var info struct {
		Raw        asn1.RawContent
		Version    int
		Subject    asn1.RawValue
		Key        asn1.RawValue
		Attributes []asn1.RawValue `asn1:"tag:0"`
	}
	if _, err := asn1.Unmarshal(r.RawTBSCertificateRequest, &info); err != nil {
		return ""
	}
	for _, raw := range info.Attributes {
		var a struct {
			ID     asn1.ObjectIdentifier
			Values []asn1.RawValue `asn1:"set"`
		}
		if _, err := asn1.Unmarshal(raw.FullBytes, &a); err != nil || !a.ID.Equal(challengePassword) || len(a.Values) != 1 {
			continue
		}
		if strings := []int{asn1.TagPrintableString, asn1.TagUTF8String, asn1.TagIA5String}; slices.Contains(strings, a.Values[0].Tag) {
			out = string(a.Values[0].Bytes)
		}
	}
	return out
}

// Granted answers with a certificate, sealed for who signed the request (RFC 8894 §3.3.2).
func (m *Message) Granted(by Recipient, leaf, authority *x509.Certificate) ([]byte, error) {
	bag, err := Bag(leaf, authority)
	if err != nil {
		return nil, err
	}
	sealed, err := pkcs7.Encrypt(bag, []*x509.Certificate{m.Signer})
	if err != nil {
		return nil, err
	}
	return m.answer(by, sealed, pkcs7.Attribute{Type: pkiStatus, Value: granted})
}

// Refused answers with a reason.
func (m *Message) Refused(by Recipient, why string) ([]byte, error) {
	return m.answer(by, nil, pkcs7.Attribute{Type: pkiStatus, Value: refused}, pkcs7.Attribute{Type: failInfo, Value: why})
}

func (m *Message) answer(by Recipient, content []byte, more ...pkcs7.Attribute) ([]byte, error) {
	signed, err := pkcs7.NewSignedData(content)
	if err != nil {
		return nil, err
	}
	signed.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	attributes := append([]pkcs7.Attribute{
		{Type: messageType, Value: answer},
		{Type: transaction, Value: m.transaction},
		{Type: recipientNonce, Value: m.nonce},
		{Type: senderNonce, Value: m.nonce}, // RFC 8894 §3.2.1.5: of whom it answers, and one of its own, which nobody looks at
	}, more...)
	if err := signed.AddSigner(by.Certificate, by.Key, pkcs7.SignerInfoConfig{ExtraSignedAttributes: attributes}); err != nil {
		return nil, err
	}
	return signed.Finish()
}

// Bag holds certificates and nothing else (RFC 8894 §3.4).
func Bag(all ...*x509.Certificate) ([]byte, error) {
	var der []byte
	for _, c := range all {
		der = append(der, c.Raw...)
	}
	return pkcs7.DegenerateCertificate(der)
}
