package ike

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/big"

	"golang.org/x/crypto/cryptobyte"
	cbasn1 "golang.org/x/crypto/cryptobyte/asn1"

	"yellowlantern/internal/core/cert"
)

// hashes are the hash algorithms that a side takes signatures by, a bit for each of RFC 7427 §7, "IKEv2 Hash Algorithms".
type hashes uint32

const (
	hashSHA256   = 2
	hashSHA384   = 3
	hashSHA512   = 4
	hashIdentity = 5 // the signature's own: Ed25519 (RFC 8420 §2)
)

// ourHashes are those that we take.
const ourHashes hashes = 1<<hashSHA256 | 1<<hashSHA384 | 1<<hashSHA512 | 1<<hashIdentity

func (h hashes) has(n uint) bool { return h&(1<<n) != 0 }

// payload announces them (RFC 7427 §4).
func (h hashes) payload() payload {
	var data []byte
	for n := range uint(32) {
		if h.has(n) {
			data = binary.BigEndian.AppendUint16(data, uint16(n))
		}
	}
	return notify{kind: nSignatureHashes, data: data}.payload()
}

// hashesIn reads what the other side announces; none: it knows only the older methods.
func hashesIn(m *message) (h hashes) {
	data, _ := m.notified(nSignatureHashes)
	for i := 0; i+1 < len(data); i += 2 {
		if n := binary.BigEndian.Uint16(data[i:]); n < 32 {
			h |= 1 << n
		}
	}
	return h
}

// signing is one way to sign: its AlgorithmIdentifier (RFC 7427 appendix A, RFC 8420 appendix A), and how.
type signing struct {
	hash uint
	id   []byte
	pss  bool
}

var (
	oidRSAPSS  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 10}
	oidEd25519 = asn1.ObjectIdentifier{1, 3, 101, 112}
	oidMGF1    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 8}

	ofHash = map[uint]crypto.Hash{hashSHA256: crypto.SHA256, hashSHA384: crypto.SHA384, hashSHA512: crypto.SHA512}

	ecdsaSignings = []signing{
		{hash: hashSHA256, id: identifier(asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}, false)},
		{hash: hashSHA384, id: identifier(asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 3}, false)},
		{hash: hashSHA512, id: identifier(asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 4}, false)},
	}
	rsaSignings = []signing{
		{hash: hashSHA256, id: identifier(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 11}, true)},
		{hash: hashSHA384, id: identifier(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 12}, true)},
		{hash: hashSHA512, id: identifier(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 13}, true)},
		{hash: hashSHA256, id: pssIdentifier(asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}, 32), pss: true},
		{hash: hashSHA384, id: pssIdentifier(asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 2}, 48), pss: true},
		{hash: hashSHA512, id: pssIdentifier(asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 3}, 64), pss: true},
	}
	ed25519Signing = signing{hash: hashIdentity, id: identifier(oidEd25519, false)}
)

func identifier(oid asn1.ObjectIdentifier, null bool) []byte {
	id := pkix.AlgorithmIdentifier{Algorithm: oid}
	if null {
		id.Parameters = asn1.NullRawValue
	}
	return mustMarshal(id)
}

func mustMarshal(v any) []byte {
	der, err := asn1.Marshal(v)
	if err != nil {
		panic(err) // of constants
	}
	return der
}

// pssIdentifier is RSASSA-PSS with a hash, MGF1 with the same, and a salt of its length (RFC 7427 appendix A.4).
func pssIdentifier(hash asn1.ObjectIdentifier, salt int) []byte {
	of := pkix.AlgorithmIdentifier{Algorithm: hash, Parameters: asn1.NullRawValue}
	params := struct {
		Hash pkix.AlgorithmIdentifier `asn1:"explicit,tag:0"`
		MGF  pkix.AlgorithmIdentifier `asn1:"explicit,tag:1"`
		Salt int                      `asn1:"explicit,tag:2"`
	}{of, pkix.AlgorithmIdentifier{Algorithm: oidMGF1, Parameters: asn1.RawValue{FullBytes: mustMarshal(of)}}, salt}
	return mustMarshal(pkix.AlgorithmIdentifier{Algorithm: oidRSAPSS, Parameters: asn1.RawValue{FullBytes: mustMarshal(params)}})
}

// sign writes AUTH with a private key: by RFC 7427 with a hash that the other side takes, else by the older method that the key has.
func sign(rand io.Reader, key crypto.Signer, octets []byte, theirs hashes) (payload, error) {
	switch pub := key.Public().(type) {
	case *ecdsa.PublicKey:
		// The hash that is as strong as the curve, or the strongest of the others.
		order := map[int][]int{256: {0, 1, 2}, 384: {1, 2, 0}, 521: {2, 1, 0}}[pub.Curve.Params().BitSize]
		for _, n := range order {
			if way := ecdsaSignings[n]; theirs.has(way.hash) {
				return way.by(rand, key, octets)
			}
		}
		return olderECDSA(rand, key, pub, octets)
	case *rsa.PublicKey:
		for _, way := range rsaSignings {
			if theirs.has(way.hash) {
				return way.by(rand, key, octets)
			}
		}
		sig, err := signDigest(rand, key, crypto.SHA256, octets)
		return authPayload(authRSA, sig), err
	case ed25519.PublicKey:
		if !theirs.has(hashIdentity) {
			return payload{}, errors.New("ike: the other side takes no signature by Ed25519")
		}
		return ed25519Signing.by(rand, key, octets)
	}
	return payload{}, errors.New("ike: the key is neither ECDSA, RSA nor Ed25519")
}

func (w signing) by(rand io.Reader, key crypto.Signer, octets []byte) (payload, error) {
	var sig []byte
	var err error
	if w.hash == hashIdentity {
		sig, err = key.Sign(rand, octets, crypto.Hash(0))
	} else {
		sig, err = signDigest(rand, key, ofHash[w.hash], octets)
	}
	return authPayload(authSignature, append(append([]byte{byte(len(w.id))}, w.id...), sig...)), err
}

func signDigest(rand io.Reader, key crypto.Signer, hash crypto.Hash, octets []byte) ([]byte, error) {
	return key.Sign(rand, digest(hash, octets), hash)
}

func digest(hash crypto.Hash, octets []byte) []byte {
	h := hash.New()
	h.Write(octets)
	return h.Sum(nil)
}

// olderWays are the older methods of ECDSA (RFC 4754 §7): each has its curve and its hash.
var olderWays = map[uint8]struct {
	curve elliptic.Curve
	hash  crypto.Hash
	size  int // of each half, in octets
}{
	authECDSA256: {elliptic.P256(), crypto.SHA256, 32}, authECDSA384: {elliptic.P384(), crypto.SHA384, 48},
	authECDSA521: {elliptic.P521(), crypto.SHA512, 66},
}

func olderECDSA(rand io.Reader, key crypto.Signer, pub *ecdsa.PublicKey, octets []byte) (payload, error) {
	for method, way := range olderWays {
		if way.curve != pub.Curve {
			continue
		}
		sig, err := signDigest(rand, key, way.hash, octets)
		if err != nil {
			return payload{}, err
		}
		raw, err := rawECDSA(sig, way.size)
		return authPayload(method, raw), err
	}
	return payload{}, errors.New("ike: the older methods have no such curve")
}

// rawECDSA turns an ASN.1 signature into the r and s of RFC 4754 §7.
func rawECDSA(sig []byte, size int) ([]byte, error) {
	s := cryptobyte.String(sig)
	var inner cryptobyte.String
	r, v := new(big.Int), new(big.Int)
	if !s.ReadASN1(&inner, cbasn1.SEQUENCE) || !inner.ReadASN1Integer(r) || !inner.ReadASN1Integer(v) {
		return nil, errors.New("ike: the signature is not an ECDSA one")
	}
	out := make([]byte, 2*size)
	r.FillBytes(out[:size])
	v.FillBytes(out[size:])
	return out, nil
}

var errSignature = errors.New("ike: the signature is wrong")

// verify checks AUTH with the other side's public key.
func verify(key crypto.PublicKey, method uint8, data, octets []byte) error {
	if way, older := olderWays[method]; older {
		pub, ok := key.(*ecdsa.PublicKey)
		n := way.size
		if !ok || pub.Curve != way.curve || len(data) != 2*n ||
			!ecdsa.Verify(pub, digest(way.hash, octets), new(big.Int).SetBytes(data[:n]), new(big.Int).SetBytes(data[n:])) {
			return errSignature
		}
		return nil
	}
	if method == authRSA {
		return verifyRSA(key, data, octets, crypto.SHA256, crypto.SHA384, crypto.SHA512)
	}
	if method != authSignature {
		return fmt.Errorf("ike: the other side authenticates by method %d, which is not accepted", method)
	}
	if len(data) < 1 || len(data) < 1+int(data[0]) {
		return errMalformed
	}
	id, sig := data[1:1+int(data[0])], data[1+int(data[0]):]
	named := func(w signing) bool { return bytes.Equal(id, w.id) }
	switch pub := key.(type) {
	case *ecdsa.PublicKey:
		for _, w := range ecdsaSignings {
			if named(w) && ecdsa.VerifyASN1(pub, digest(ofHash[w.hash], octets), sig) {
				return nil
			}
		}
	case *rsa.PublicKey:
		if err := cert.GoodRSA(pub); err != nil { // before anything is worked out with it
			return err
		}
		for _, w := range rsaSignings {
			if !named(w) {
				continue
			}
			hash := ofHash[w.hash]
			if w.pss && rsa.VerifyPSS(pub, hash, digest(hash, octets), sig, &rsa.PSSOptions{SaltLength: hash.Size(), Hash: hash}) == nil ||
				!w.pss && rsa.VerifyPKCS1v15(pub, hash, digest(hash, octets), sig) == nil {
				return nil
			}
		}
	case ed25519.PublicKey:
		if named(ed25519Signing) && ed25519.Verify(pub, octets, sig) {
			return nil
		}
	}
	return errSignature
}

// verifyRSA checks method 1, by PKCS #1 with one of the hashes, which the signature names (RFC 7296 §3.8). Systems that announce no hashes
// have no other with RSA.
func verifyRSA(key crypto.PublicKey, sig, octets []byte, hashes ...crypto.Hash) error {
	pub, ok := key.(*rsa.PublicKey)
	if !ok {
		return errSignature
	}
	if err := cert.GoodRSA(pub); err != nil {
		return err
	}
	for _, h := range hashes {
		if rsa.VerifyPKCS1v15(pub, h, digest(h, octets), sig) == nil {
			return nil
		}
	}
	return errSignature
}
