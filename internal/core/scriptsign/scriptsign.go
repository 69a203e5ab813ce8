// Package scriptsign signs scripts for Windows as its PowerShell checks them: a CMS message (RFC 5652) of the kind that its maker documents
// as Authenticode, in comments at the script's end.
package scriptsign

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io"
	"math/big"
	"slices"
	"strings"
	"unicode/utf16"
)

// Object identifiers of PKCS #9 (RFC 2985), of algorithms (RFC 5754, RFC 5758), and of the format.
var (
	oidSigned      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	oidContentType = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}
	oidDigest      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}
	oidSHA256      = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
	oidECDSASHA256 = asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}
	oidIndirect    = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 4}
	oidStatement   = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 11}
	oidAbout       = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 12}
	oidIndividual  = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 21}
	oidSubject     = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 30}
)

// scripts is the GUID of what digests scripts there, {603BCC1F-4B59-4E08-B724-D2C6297EF351}, as it is stored.
var scripts = []byte{0x1f, 0xcc, 0x3b, 0x60, 0x59, 0x4b, 0x08, 0x4e, 0xb7, 0x24, 0xd2, 0xc6, 0x29, 0x7e, 0xf3, 0x51}

const subjectVersion = 0x10000

type subject struct {
	Version       int
	GUID          []byte
	B, C, D, E, F int
}

type indirect struct {
	Data struct {
		Type  asn1.ObjectIdentifier
		Value subject
	}
	Digest struct {
		Algorithm pkix.AlgorithmIdentifier
		Digest    []byte
	}
}

type contentInfo struct {
	Type    asn1.ObjectIdentifier
	Content asn1.RawValue
}

type attribute struct {
	Type   asn1.ObjectIdentifier
	Values asn1.RawValue
}

type signerInfo struct {
	Version int
	Issuer  struct {
		Name   asn1.RawValue
		Serial *big.Int
	}
	Digest     pkix.AlgorithmIdentifier
	Attributes asn1.RawValue
	Algorithm  pkix.AlgorithmIdentifier
	Signature  []byte
}

type signedData struct {
	Version      int
	Digests      []pkix.AlgorithmIdentifier `asn1:"set"`
	Content      contentInfo
	Certificates asn1.RawValue
	Signers      []signerInfo `asn1:"set"`
}

var sha256Algorithm = pkix.AlgorithmIdentifier{Algorithm: oidSHA256, Parameters: asn1.NullRawValue}

// Sign gives a script with its signature behind it. The key is one on a NIST curve; chain is its certificate and those above it.
func Sign(rand io.Reader, script []byte, key crypto.Signer, chain ...*x509.Certificate) ([]byte, error) {
	if len(chain) == 0 || chain[0].PublicKeyAlgorithm != x509.ECDSA {
		return nil, errors.New("scripts are signed with an ECDSA key that has a certificate")
	}
	sum := sha256.Sum256(wide(script))
	var of indirect
	of.Data.Type, of.Data.Value = oidSubject, subject{Version: subjectVersion, GUID: scripts}
	of.Digest.Algorithm, of.Digest.Digest = sha256Algorithm, sum[:]
	content, err := asn1.Marshal(of)
	if err != nil {
		return nil, err
	}
	signer, err := sign(rand, content, key, chain[0])
	if err != nil {
		return nil, err
	}
	var certificates []byte
	for _, c := range chain {
		certificates = append(certificates, c.Raw...)
	}
	der, err := asn1.Marshal(signedData{
		Version: 1, Digests: []pkix.AlgorithmIdentifier{sha256Algorithm}, Content: contentInfo{oidIndirect, tagged(0, content)},
		Certificates: tagged(0, certificates), Signers: []signerInfo{signer},
	})
	if err != nil {
		return nil, err
	}
	if der, err = asn1.Marshal(contentInfo{oidSigned, tagged(0, der)}); err != nil {
		return nil, err
	}
	return append(slices.Clone(script), block(der)...), nil
}

func sign(rand io.Reader, content []byte, key crypto.Signer, leaf *x509.Certificate) (s signerInfo, err error) {
	var inner asn1.RawValue
	if _, err := asn1.Unmarshal(content, &inner); err != nil {
		return s, err
	}
	sum := sha256.Sum256(inner.Bytes) // without its tag and length
	attributes, err := set([]value{
		{oidContentType, oidIndirect}, {oidDigest, sum[:]}, {oidAbout, struct{}{}}, {oidStatement, []asn1.ObjectIdentifier{oidIndividual}},
	})
	if err != nil {
		return s, err
	}
	whole, err := asn1.Marshal(asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: attributes})
	if err != nil {
		return s, err
	}
	sum = sha256.Sum256(whole)
	s = signerInfo{
		Version: 1, Digest: sha256Algorithm, Attributes: tagged(0, attributes),
		Algorithm: pkix.AlgorithmIdentifier{Algorithm: oidECDSASHA256},
	}
	s.Issuer.Name, s.Issuer.Serial = asn1.RawValue{FullBytes: leaf.RawIssuer}, leaf.SerialNumber
	s.Signature, err = key.Sign(rand, sum[:], crypto.SHA256)
	return s, err
}

type value struct {
	of asn1.ObjectIdentifier
	is any
}

// set encodes attributes in the order of DER (X.690 §11.6), without the set's own tag.
func set(values []value) ([]byte, error) {
	all := make([][]byte, len(values))
	for i, v := range values {
		b, err := asn1.Marshal(v.is)
		if err != nil {
			return nil, err
		}
		if all[i], err = asn1.Marshal(attribute{v.of, asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: b}}); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(all, bytes.Compare)
	return bytes.Join(all, nil), nil
}

func tagged(tag int, b []byte) asn1.RawValue {
	return asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: tag, IsCompound: true, Bytes: b}
}

// wide is a script as it is digested: UTF-16, the lower octet first.
func wide(script []byte) (out []byte) {
	for _, u := range utf16.Encode([]rune(string(script))) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

const (
	begins     = "# SIG # Begin signature block"
	ends       = "# SIG # End signature block"
	lineLength = 64
)

func block(der []byte) string {
	var b strings.Builder
	b.WriteString("\r\n" + begins + "\r\n")
	for line := range slices.Chunk([]byte(base64.StdEncoding.EncodeToString(der)), lineLength) {
		b.WriteString("# " + string(line) + "\r\n")
	}
	b.WriteString(ends + "\r\n")
	return b.String()
}
