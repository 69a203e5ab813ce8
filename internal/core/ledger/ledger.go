// Package ledger chains lines of a journal by hashes, so that whoever changes, adds or takes away one in between is noticed by whoever
// looks, and says what a signed head is: with one kept elsewhere, a chain that was rewritten whole, or cut at its end, is noticed too.
// Where lines are kept is left to others.
package ledger

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Hash stands for a line and all lines before it.
type Hash [sha256.Size]byte

// MarshalText writes it in hexadecimal.
func (h Hash) MarshalText() ([]byte, error) { return []byte(hex.EncodeToString(h[:])), nil }

// UnmarshalText reads that.
func (h *Hash) UnmarshalText(text []byte) error {
	b, err := hex.DecodeString(string(text))
	if err != nil || len(b) != len(h) {
		return errors.New("a hash is written as 64 hexadecimal digits")
	}
	*h = Hash(b)
	return nil
}

// Line is one line of a journal as it is chained and exported. Its time counts to the millisecond.
type Line struct {
	ID      uint64          `json:"id" doc:"Its number: each line's is one more than that of the line before it."`
	At      time.Time       `json:"at"`
	Kind    string          `json:"kind"`
	Gateway string          `json:"gateway,omitempty"`
	User    string          `json:"user,omitempty"`
	From    string          `json:"from,omitempty"`
	Code    string          `json:"code,omitempty" doc:"Why, by the codes of docs/reasons.md."`
	With    json.RawMessage `json:"with,omitempty" doc:"The reason's parameters."`
	Words   string          `json:"words"`
	Hash    Hash            `json:"hash" doc:"SHA-256 of the hash of the line before it and of this line."`
}

// After is the line's hash, after a line with another.
func (l Line) After(before Hash) (h Hash) {
	d := sha256.New()
	d.Write(before[:])
	number := func(n uint64) { d.Write(binary.BigEndian.AppendUint64(nil, n)) }
	number(l.ID)
	number(uint64(l.At.UnixMilli()))
	for _, field := range []string{l.Kind, l.Gateway, l.User, l.From, l.Code, string(l.With), l.Words} {
		number(uint64(len(field))) // so that nothing can move from one field to the next
		d.Write([]byte(field))
	}
	return Hash(d.Sum(nil))
}

// Head is the newest line at a moment, signed.
type Head struct {
	ID        uint64    `json:"id"`
	Hash      Hash      `json:"hash"`
	At        time.Time `json:"at"`
	Key       string    `json:"key" doc:"The public key (Ed25519, RFC 8032), base64."`
	Signature string    `json:"signature" doc:"Base64."`
}

func (h Head) signed() []byte {
	b := binary.BigEndian.AppendUint64([]byte("yellow lantern journal head\x00"), h.ID)
	b = binary.BigEndian.AppendUint64(b, uint64(h.At.UnixMilli()))
	return append(b, h.Hash[:]...)
}

// Sign makes a head.
func Sign(key ed25519.PrivateKey, id uint64, hash Hash, now time.Time) Head {
	h := Head{
		ID: id, Hash: hash, At: now.UTC().Truncate(time.Millisecond),
		Key: base64.StdEncoding.EncodeToString(key.Public().(ed25519.PublicKey)),
	}
	h.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, h.signed()))
	return h
}

// Check tells what is wrong with a head by itself; nil: its own key signed it.
func (h Head) Check() error {
	key, err := base64.StdEncoding.DecodeString(h.Key)
	signature, bad := base64.StdEncoding.DecodeString(h.Signature)
	switch {
	case err != nil || bad != nil || len(key) != ed25519.PublicKeySize:
		return fmt.Errorf("head %d: key or signature cannot be read", h.ID)
	case !ed25519.Verify(key, h.signed(), signature):
		return fmt.Errorf("head %d is not signed by its key: it was changed", h.ID)
	}
	return nil
}

// Start is where a chain that is looked at begins: after a line that was let go; the zero value: with the first line there was.
type Start struct {
	ID   uint64 `json:"id" doc:"Of the last line that was let go."`
	Hash Hash   `json:"hash"`
	// Signed is that line's head, made when older lines were removed; nil where none were.
	Signed *Head `json:"signed,omitempty" doc:"That line's head, signed when the lines up to it were removed."`
}

// check tells whether the service let the chain begin there: with the first line, or after one that it signed when it removed the lines up
// to it.
func (s Start) check(heads []Head) error {
	signed := s.Signed
	for i := range heads {
		if heads[i].ID == s.ID && heads[i].Hash == s.Hash {
			signed = &heads[i] // kept elsewhere it is worth no less
		}
	}
	switch {
	case s.Hash == Hash{}: // nothing was removed, or what was had no chain yet
		return nil
	case signed == nil:
		return fmt.Errorf("the journal begins after line %d, and that start is not signed: the service did not remove the lines before it; "+
			"compare it with an older export or backup", s.ID)
	case signed.ID != s.ID || signed.Hash != s.Hash:
		return fmt.Errorf("the journal begins after line %d, and another start is signed: lines were removed, or the journal was rewritten",
			s.ID)
	case len(heads) > 0 && signed.Key != heads[0].Key:
		return fmt.Errorf("the start after line %d and the heads are signed by different keys: one of them is not this service's", s.ID)
	}
	return signed.Check()
}

// Checker holds lines against each other and against heads, one after another.
type Checker struct {
	last  Start
	heads map[uint64]Head
	left  int // heads that were not met yet
	Lines int
	// Unmatched are heads, by their lines, of which no line is there any more: lines before the start were removed.
	Unmatched []uint64
}

// NewChecker begins to check a chain, from where it begins now, against heads that were kept elsewhere. A head that is not signed by its
// key, or by another key than the others, is an error, and so is one from before the start that is not the start's. Where the newest of
// them is from before the start, nothing that is there was ever signed: that is an error too, for a journal forged whole looks like that.
func NewChecker(from Start, heads []Head) (*Checker, error) {
	c := &Checker{last: from, heads: map[uint64]Head{}}
	for _, h := range heads {
		if err := h.Check(); err != nil {
			return nil, err
		}
		if h.Key != heads[0].Key {
			return nil, fmt.Errorf("heads %d and %d are signed by different keys: one of them is not this service's", heads[0].ID, h.ID)
		}
		switch {
		case h.ID == from.ID && h.Hash != from.Hash:
			return nil, fmt.Errorf("line %d was another when its head was signed on %s: the journal was rewritten", h.ID,
				h.At.Format(time.DateTime))
		case h.ID > from.ID:
			if other, twice := c.heads[h.ID]; twice && other.Hash != h.Hash {
				return nil, fmt.Errorf("two heads of line %d differ: the journal was rewritten between %s and %s", h.ID,
					other.At.Format(time.DateTime),
					h.At.Format(time.DateTime))
			}
			c.heads[h.ID] = h
		case h.ID < from.ID:
			c.Unmatched = append(c.Unmatched, h.ID)
		}
	}
	c.left = len(c.heads)
	slices.Sort(c.Unmatched)
	if met := slices.ContainsFunc(heads, func(h Head) bool { return h.ID >= from.ID }); len(heads) > 0 && !met {
		return nil, fmt.Errorf("the newest head is of line %d, and the journal begins after line %d: no head matches a line that is there, so it may be "+
			"another journal; give a newer head (yl journal head)", c.Unmatched[len(c.Unmatched)-1], from.ID)
	}
	if err := from.check(heads); err != nil {
		return nil, err
	}
	return c, nil
}

// Next looks at the next line.
func (c *Checker) Next(l Line) error {
	switch {
	case l.ID <= c.last.ID:
		return fmt.Errorf("line %d comes after line %d: lines were put in, or their order changed", l.ID, c.last.ID)
	case l.ID != c.last.ID+1:
		return fmt.Errorf("after line %d comes line %d: %d lines were taken away", c.last.ID, l.ID, l.ID-c.last.ID-1)
	case l.After(c.last.Hash) != l.Hash:
		return fmt.Errorf("line %d (%s) was changed after it was written, or the one before it was", l.ID, l.At.Format(time.DateTime))
	}
	c.last = Start{ID: l.ID, Hash: l.Hash}
	c.Lines++
	if h, there := c.heads[l.ID]; there {
		c.left--
		if h.Hash != l.Hash {
			return fmt.Errorf("line %d was another when its head was signed on %s: the journal was rewritten from there, or before", l.ID,
				h.At.Format(time.DateTime))
		}
	}
	return nil
}

// End tells what is wrong once there are no more lines; nil: nothing is.
func (c *Checker) End() error {
	if c.left == 0 {
		return nil
	}
	var newest uint64
	for id := range c.heads {
		newest = max(newest, id)
	}
	return fmt.Errorf("a head of line %d was signed, and the journal ends with line %d: its end was cut off", newest, c.last.ID)
}

// Last is the last line that was looked at.
func (c *Checker) Last() Start { return c.last }
