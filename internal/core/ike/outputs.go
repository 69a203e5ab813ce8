package ike

import (
	"fmt"
	"net/netip"
	"time"

	"yellowlantern/internal/core/esp"
	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// Peer is where a message came from or goes to.
type Peer struct {
	Addr netip.AddrPort
	NATT bool // IKE has four zero octets in front, as on UDP 4500 (RFC 3948 §2.2) and over TCP; adding them is left to the sockets
	TCP  bool // by a TCP connection from there (RFC 9329)
	// Local is which of our addresses it came to, and is answered from; not valid where the socket has one only.
	Local netip.Addr
}

// ID names one IKE SA of a gateway: its own SPI.
type ID uint64

// Output is what a state machine wants done. It is one of the types below.
type Output interface{ isOutput() }

// Send is a datagram to send.
type Send struct {
	To   Peer
	Data []byte
}

// Work is a computation that takes long: a key exchange, a signature. Do touches nothing of the machine and may run anywhere; what it gives
// goes to Listener.Finish.
type Work struct {
	Do func() Finish
	// Needed is that something that stands waits for it: it must be done, however much there is to do.
	Needed bool
}

// Finish is the rest of a Work.
type Finish func(now time.Time)

// AskLogin asks whoever carries on the login for the next step; the answer goes to Listener.Told.
type AskLogin struct {
	ID      ID
	Talk    conversation.Conversation // that goes on; nil: one is to be begun
	Message []byte                    // from the device; nil begins
	Server  string                    // what the gateway calls itself
	Tunnel  string                    // ID of the tunnel that the device asked for
	From    Peer
}

// TalkOver says that a login goes no further: what carries it on is to free what it holds.
type TalkOver struct{ Talk conversation.Conversation }

// AskKey asks whose key it is that somebody has; the answer goes to Listener.Owner.
type AskKey struct {
	ID     ID
	Tunnel string // by its ID
	Shown  Shown
}

// AskShared asks for a key that a person and the gateway share: by its name one that is mixed in, or by who the device claims to be one
// that proves it. The answer goes to Listener.Shared.
type AskShared struct {
	ID       ID
	MixedIn  bool
	Identity string
	From     Peer
}

// AskLease asks for addresses and configuration for somebody who has logged in; the answer goes to Listener.Granted.
type AskLease struct {
	ID     ID
	User   string
	Groups []string
	Limits conversation.Limits
	Tunnel string // ID of the tunnel that the device asked for
	Suite  string // algorithms that were agreed on
	From   Peer
	Device string // what the device calls itself: nobody is admitted by it
	Alone  bool   // it says that it has no other session (RFC 7296 §2.4, INITIAL_CONTACT)
	Stamp  string // for what they logged in with
	Coded  bool   // their second factor was given with it
	// ProvedBy names the key that they proved themselves with, for the record; empty: something else, or nobody said.
	ProvedBy string
	Key      []byte // the public key that they proved themselves with; nil: something else
	// SharedKeys are the IDs of shared keys that went in.
	SharedKeys []string
	// SafeLogin and SafeTraffic are that neither can be read later by somebody who recorded it and has a quantum computer then.
	SafeLogin, SafeTraffic bool

	Back []byte // what was remembered of somebody who came back by it
	// Want4 and Want6 are how many addresses of each family the device asks for.
	Want4, Want6 int
}

// AskBack asks who it is whom the gateway remembered; the answer goes to Listener.Back.
type AskBack struct {
	ID       ID
	Remember []byte
}

// Grant is the answer to AskLease.
type Grant struct {
	Configuration
	OnePlace bool          // the session ends when its device turns up elsewhere
	Patience time.Duration // for how long it may stay without an answer; 0: as the tunnel says
	// Remember is by what the device may come back until Until, where it asks for that; nil: it may not.
	Remember  []byte
	Until     time.Time
	Refusal   reason.Reason // why not, for the journal; none: they may
	Exhausted bool          // with Refusal: there is no address left, rather than no permission
	Later     bool          // with Refusal: nobody decides at the moment. The device is told nothing
}

// Child is one pair of ESP associations.
type Child struct {
	In, Out       uint32 // SPIs: ours, for what arrives; the peer's, for what we send
	Algorithm     esp.Algorithm
	Most          esp.Volume // that either direction may protect
	InKey, OutKey []byte     // its keying material
	Local, Remote netset.Addrs
}

// Up says that a session stands.
type Up struct {
	ID       ID
	User     string
	Peer     Peer
	Child    Child
	Suite    string
	Tunnel   string
	NAT      bool // the caller is behind a translation
	Identity string
	OnePlace bool // the session ends when the caller turns up elsewhere
	Unproved bool // the caller logged in from elsewhere than where it began: little may go there until Proved follows
	Configuration
}

// Arrived says that the gateway has heard where this device is now.
type Arrived struct{}

// Moved says that the peer was heard, authentically, from another address (RFC 7296 §2.23). Little may go there until Proved follows.
type Moved struct {
	ID   ID
	Peer Peer
}

// Proved says that the peer receives what goes to where it is.
type Proved struct {
	ID   ID
	Peer Peer
}

// Renewed says that a Child SA was added to a session to replace an older one, which stays until it is deleted.
type Renewed struct {
	ID    ID
	Child Child
	// Asked tells whether the exchange was ours: then the other side is ready for what is sent with it. Otherwise that is known only
	// once something comes by it, or the older one is deleted, and until then the older one is sent with (RFC 7296 §2.8).
	Asked bool
}

// Expected says that by an SPI of ours packets may come soon: the other side was asked for a Child SA with it, and may send by it before
// its answer has been handled here. Renewed follows, or Unexpected.
type Expected struct {
	ID ID
	In uint32
}

// Unexpected says that nothing came of it.
type Unexpected struct{ In uint32 }

// Preferred says which Child SA of a session, by our SPI, is to be sent with from now on: where both sides renewed at once it is not the
// one that was added last.
type Preferred struct {
	ID ID
	In uint32
}

// Dropped says that an older Child SA of a session is no longer used.
type Dropped struct {
	ID ID
	In uint32
}

// Down says that a session has ended.
type Down struct {
	ID     ID
	User   string
	Reason reason.Reason
}

// Note is for the journal: what a caller tried and what became of it, in plain words.
type Note struct {
	Peer   Peer
	User   string // authenticated, or the one that a login was about
	Known  bool   // it is about a person who exists; otherwise a stranger, of whom there may be any number
	Reason reason.Reason
}

// KeyRow is a row of the packet analyser's key tables; only written where keys are to be logged.
type KeyRow struct {
	Table string // ikev2_decryption_table or esp_sa
	Row   string
}

func (Send) isOutput()       {}
func (AskLogin) isOutput()   {}
func (TalkOver) isOutput()   {}
func (Work) isOutput()       {}
func (AskLease) isOutput()   {}
func (AskBack) isOutput()    {}
func (AskShared) isOutput()  {}
func (AskKey) isOutput()     {}
func (Up) isOutput()         {}
func (Moved) isOutput()      {}
func (Proved) isOutput()     {}
func (Arrived) isOutput()    {}
func (Renewed) isOutput()    {}
func (Preferred) isOutput()  {}
func (Expected) isOutput()   {}
func (Unexpected) isOutput() {}
func (Dropped) isOutput()    {}
func (Down) isOutput()       {}
func (Note) isOutput()       {}
func (KeyRow) isOutput()     {}

// The names that the analyser has for algorithms in its two tables. It knows no ChaCha20-Poly1305: such rows name it all the same, for
// whoever reads them.
var (
	analyserEncryptions = map[esp.Encryption][2]string{
		esp.EncrAES256GCM:        {"AES-GCM-256 with 16 octet ICV [RFC5282]", "AES-GCM with 16 octet ICV [RFC4106]"},
		esp.EncrAES128GCM:        {"AES-GCM-128 with 16 octet ICV [RFC5282]", "AES-GCM with 16 octet ICV [RFC4106]"},
		esp.EncrChaCha20Poly1305: {"ChaCha20-Poly1305 [RFC7634]", "ChaCha20-Poly1305 [RFC7634]"},
		esp.EncrAES256CBC:        {"AES-CBC-256 [RFC3602]", "AES-CBC [RFC3602]"},
		esp.EncrAES128CBC:        {"AES-CBC-128 [RFC3602]", "AES-CBC [RFC3602]"},
		esp.Encr3DES:             {"3DES [RFC2451]", "TripleDES-CBC [RFC2451]"},
	}
	analyserIntegrities = map[esp.Integrity][2]string{
		0:              {"NONE [RFC4306]", "NULL"},
		esp.HMACSHA256: {"HMAC_SHA2_256_128 [RFC4868]", "HMAC-SHA-256-128 [RFC4868]"},
		esp.HMACSHA384: {"HMAC_SHA2_384_192 [RFC4868]", "HMAC-SHA-384-192 [RFC4868]"},
		esp.HMACSHA512: {"HMAC_SHA2_512_256 [RFC4868]", "HMAC-SHA-512-256 [RFC4868]"},
		esp.HMACSHA1:   {"HMAC_SHA1_96 [RFC2404]", "HMAC-SHA-1-96 [RFC2404]"},
	}
)

// ikeKeyRow writes an IKE SA for the analyser (its table of IKEv2 keys: hex, bare).
func ikeKeyRow(spiI, spiR uint64, k *keys) KeyRow {
	a := k.suite.encr
	return KeyRow{"ikev2_decryption_table", fmt.Sprintf(`%016x,%016x,%x,%x,"%s",%x,%x,"%s"`, spiI, spiR, k.ei, k.er,
		analyserEncryptions[a.Encryption][0], k.ai, k.ar, analyserIntegrities[a.Integrity][0])}
}

// espKeyRow writes one direction of a Child SA for the analyser (its table of ESP associations).
func espKeyRow(spi uint32, a esp.Algorithm, key []byte) KeyRow {
	encr, integ := key[:a.EncryptionLen()], ""
	if n := a.IntegrityLen(); n > 0 {
		integ = fmt.Sprintf("0x%x", key[len(key)-n:])
	}
	return KeyRow{"esp_sa", fmt.Sprintf(`"IPv4","*","*","0x%08x","%s","0x%x","%s","%s"`, spi, analyserEncryptions[a.Encryption][1], encr,
		analyserIntegrities[a.Integrity][1], integ)}
}
