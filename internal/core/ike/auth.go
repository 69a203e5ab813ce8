package ike

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
	cbasn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// Authentication methods (RFC 7296 §3.8, RFC 4754, RFC 7427).
const (
	authRSA       = 1
	authSharedKey = 2
	authECDSA256  = 9
	authSignature = 14
)

const hashSHA256 = 2 // RFC 7427 §7, "Hash Algorithms"

// AlgorithmIdentifiers of RFC 7427 appendix A.
var (
	oidECDSASHA256 = asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}
	oidRSASHA256   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 11}
)

func algorithmIdentifier(oid asn1.ObjectIdentifier) []byte {
	id := pkix.AlgorithmIdentifier{Algorithm: oid}
	if oid.Equal(oidRSASHA256) {
		id.Parameters = asn1.NullRawValue
	}
	der, err := asn1.Marshal(id)
	if err != nil {
		panic(err) // the identifiers are constants
	}
	return der
}

// signedOctets is what AUTH covers (RFC 7296 §2.15): the first message, the other side's nonce, prf(SK_p, ID body), and the additional key
// exchange where there was one (RFC 9242 §3.3.2).
func (k *keys) signedOctets(first, otherNonce, skP, idBody []byte) []byte {
	out := append(append([]byte{}, first...), otherNonce...)
	return append(append(out, k.suite.prf.sum(skP, idBody)...), k.intAuth...)
}

// keyAuth is AUTH by a shared key or by the key that EAP left behind (RFC 7296 §2.15, §2.16).
func (k *keys) keyAuth(key, octets []byte) []byte {
	return k.suite.prf.sum(k.suite.prf.sum(key, []byte("Key Pad for IKEv2")), octets)
}

func authPayload(method uint8, data []byte) payload {
	return payload{kind: plAuth, body: append([]byte{method, 0, 0, 0}, data...)}
}

func parseAuth(body []byte) (method uint8, data []byte, err error) {
	if len(body) < 5 {
		return 0, nil, errMalformed
	}
	return body[0], body[4:], nil
}

// sign writes AUTH with the certificate's key: by RFC 7427 where the peer knows SHA2-256 there, else by the older method
// that the key has.
func sign(rand io.Reader, key crypto.Signer, octets []byte, rfc7427 bool) (payload, error) {
	digest := sha256.Sum256(octets)
	sig, err := key.Sign(rand, digest[:], crypto.SHA256)
	if err != nil {
		return payload{}, err
	}
	switch pub := key.Public().(type) {
	case *ecdsa.PublicKey:
		if rfc7427 {
			return signature(oidECDSASHA256, sig), nil
		}
		if pub.Curve != elliptic.P256() {
			return payload{}, errors.New("ike: the older ECDSA method needs a P-256 key")
		}
		raw, err := rawECDSA(sig)
		return authPayload(authECDSA256, raw), err
	case *rsa.PublicKey:
		if rfc7427 {
			return signature(oidRSASHA256, sig), nil
		}
		return authPayload(authRSA, sig), nil
	}
	return payload{}, errors.New("ike: the certificate's key is neither ECDSA nor RSA")
}

func signature(oid asn1.ObjectIdentifier, sig []byte) payload {
	id := algorithmIdentifier(oid)
	return authPayload(authSignature, append(append([]byte{byte(len(id))}, id...), sig...))
}

// rawECDSA turns an ASN.1 signature into the r and s of RFC 4754 §7.
func rawECDSA(sig []byte) ([]byte, error) {
	s := cryptobyte.String(sig)
	var inner cryptobyte.String
	r, v := new(big.Int), new(big.Int)
	if !s.ReadASN1(&inner, cbasn1.SEQUENCE) || !inner.ReadASN1Integer(r) || !inner.ReadASN1Integer(v) {
		return nil, errors.New("ike: the signature is not an ECDSA one")
	}
	out := make([]byte, 64)
	r.FillBytes(out[:32])
	v.FillBytes(out[32:])
	return out, nil
}

// verify checks AUTH with the public key of the peer's certificate.
func verify(cert *x509.Certificate, method uint8, data, octets []byte) error {
	bad := errors.New("ike: the gateway's signature is wrong")
	digest := sha256.Sum256(octets)
	switch method {
	case authECDSA256:
		pub, ok := cert.PublicKey.(*ecdsa.PublicKey)
		if !ok || len(data) != 64 || !ecdsa.Verify(pub, digest[:], new(big.Int).SetBytes(data[:32]), new(big.Int).SetBytes(data[32:])) {
			return bad
		}
		return nil
	case authSignature:
		if len(data) < 1 || len(data) < 1+int(data[0]) {
			return errMalformed
		}
		n := 1 + int(data[0])
		id, sig := data[1:n], data[n:]
		switch pub := cert.PublicKey.(type) {
		case *ecdsa.PublicKey:
			if bytes.Equal(id, algorithmIdentifier(oidECDSASHA256)) && ecdsa.VerifyASN1(pub, digest[:], sig) {
				return nil
			}
		case *rsa.PublicKey:
			if bytes.Equal(id, algorithmIdentifier(oidRSASHA256)) && rsa.VerifyPKCS1v15(pub, crypto.SHA256, digest[:], sig) == nil {
				return nil
			}
		}
		return bad
	}
	return fmt.Errorf("ike: the gateway authenticates by method %d, which is not accepted", method)
}
