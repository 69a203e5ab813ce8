package eap

import (
	"crypto/des" //nolint:staticcheck // RFC 2759 is made of it
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf16"

	//lint:ignore SA1019 RFC 2759 is made of it
	"golang.org/x/crypto/md4"

	"yellowlantern/internal/core/reason"
)

// NTHashLen is the length of a password's NT hash in octets.
const NTHashLen = 16

// NTHash is NtPasswordHash (RFC 2759 §8.3): what MS-CHAPv2 needs in place of the password, and as good as one.
func NTHash(password string) [NTHashLen]byte {
	h := md4.New()
	for _, u := range utf16.Encode([]rune(password)) {
		h.Write([]byte{byte(u), byte(u >> 8)})
	}
	return [NTHashLen]byte(h.Sum(nil))
}

// WithoutDomain leaves out the domain that some devices put before a name, as in TERN\rory.
func WithoutDomain(name string) string { return name[strings.LastIndexByte(name, '\\')+1:] }

// challengeHash is ChallengeHash (RFC 2759 §8.2). The name goes in without a domain in front of it.
func challengeHash(peer, auth [16]byte, name string) []byte {
	name = WithoutDomain(name)
	h := sha1.New()
	h.Write(peer[:])
	h.Write(auth[:])
	h.Write([]byte(name))
	return h.Sum(nil)[:8]
}

// ntResponse is GenerateNTResponse (RFC 2759 §8.1).
func ntResponse(auth, peer [16]byte, name string, hash [NTHashLen]byte) (out [24]byte) {
	challenge := challengeHash(peer, auth, name)
	var keys [21]byte
	copy(keys[:], hash[:])
	for i := range 3 {
		block, err := des.NewCipher(withParity(keys[i*7 : i*7+7]))
		if err != nil {
			panic(err) // the key has 8 octets
		}
		block.Encrypt(out[i*8:], challenge)
	}
	return out
}

// withParity spreads 56 key bits over 8 octets (RFC 2759 §8.6); DES ignores the parity bits.
func withParity(k []byte) []byte {
	var out [8]byte
	var bits uint64
	for _, b := range k {
		bits = bits<<8 | uint64(b)
	}
	for i := range out {
		out[i] = byte(bits>>(49-7*i)) << 1
	}
	return out[:]
}

// authenticatorResponse is GenerateAuthenticatorResponse (RFC 2759 §8.7): by it the server proves that it knows the hash.
func authenticatorResponse(hash [NTHashLen]byte, nt [24]byte, auth, peer [16]byte, name string) string {
	hashHash := md4.New()
	hashHash.Write(hash[:])
	h := sha1.New()
	h.Write(hashHash.Sum(nil))
	h.Write(nt[:])
	h.Write([]byte("Magic server to client signing constant"))
	digest := h.Sum(nil)
	h.Reset()
	h.Write(digest)
	h.Write(challengeHash(peer, auth, name))
	h.Write([]byte("Pad to make it do more than one iteration"))
	return "S=" + strings.ToUpper(hex.EncodeToString(h.Sum(nil)))
}

// sessionKey gives the MSK: the server's receive key, its send key (RFC 3079 §3.3, 128 bits each), zeros up to 64 octets.
func sessionKey(hash [NTHashLen]byte, nt [24]byte) []byte {
	hashHash := md4.New()
	hashHash.Write(hash[:])
	h := sha1.New()
	h.Write(hashHash.Sum(nil))
	h.Write(nt[:])
	h.Write([]byte("This is the MPPE Master Key"))
	master := h.Sum(nil)[:16]
	msk := make([]byte, 64)
	copy(msk, startKey(master, "On the client side, this is the send key; on the server side, it is the receive key."))
	copy(msk[16:], startKey(master, "On the client side, this is the receive key; on the server side, it is the send key."))
	return msk
}

// startKey is GetAsymmetricStartKey (RFC 3079 §3.4).
func startKey(master []byte, magic string) []byte {
	h := sha1.New()
	h.Write(master)
	h.Write(make([]byte, 40))
	h.Write([]byte(magic))
	for range 40 {
		h.Write([]byte{0xf2})
	}
	return h.Sum(nil)[:16]
}

// Check is one round of a login, to be judged by whoever keeps the passwords.
type Check struct {
	User      string // as the person's device gave it in the method itself, not a claimed identity
	Challenge [16]byte
	Peer      [16]byte
	Response  [24]byte
	Change    *Change // the answer is by this new password; nil: by the one that counts
}

// Verdict is the answer to a Check.
type Verdict struct {
	OK      bool
	Proof   string        // the authenticator response, "S=…"
	MSK     []byte        // 64 octets
	Refusal reason.Reason // why not, for the journal
	Known   bool          // the name is somebody's
	// MustChange is that the password is right, and counts only to choose another with (RFC 2759 §6, error 648).
	MustChange bool
	// Unfit is that the new password will not do (error 709).
	Unfit bool
	// Barred is that the password is right, and that its person may not come in all the same.
	Barred bool
	// Later is that nobody who could judge answers: the device is told nothing, for it would ask for another password.
	Later bool
}

// Judge compares a check with the NT hash of the person's password.
func (c Check) Judge(hash [NTHashLen]byte) Verdict {
	want := ntResponse(c.Challenge, c.Peer, c.User, hash)
	if want != c.Response { // a response is worth nothing once its challenge is used: timing tells nothing
		return Verdict{Refusal: reason.Of(reason.WrongPassword, nil), Known: true}
	}
	return Verdict{
		OK: true, Known: true, Proof: authenticatorResponse(hash, want, c.Challenge, c.Peer, c.User),
		MSK: sessionKey(hash, want),
	}
}

// Operation codes of EAP-MSCHAPv2.
const (
	opChallenge = 1
	opResponse  = 2
	opSuccess   = 3
	opFailure   = 4
	opChange    = 7
)

// mschapMessage writes an EAP-MSCHAPv2 message with its own header: operation, identifier, length.
func mschapMessage(op, id byte, body []byte) []byte {
	n := 4 + len(body)
	return append([]byte{op, id, byte(n >> 8), byte(n)}, body...)
}

// failureText is what a device is told (RFC 2759 §6).
func (v Verdict) failureText(challenge [16]byte) []byte {
	code, words := 691, "Login failed"
	switch {
	case v.MustChange:
		code, words = 648, "Another password must be chosen"
	case v.Unfit:
		code, words = 709, "The new password will not do"
	}
	return fmt.Appendf(nil, "E=%d R=0 C=%X V=3 M=%s", code, challenge, words)
}
