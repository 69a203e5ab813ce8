// Package password holds what a password is held against: what is kept in its place, which ones will not do, and how one is made that will.
// Whose it is, and what follows from a wrong one, is left to others.
package password

import (
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"io"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Cost is what it costs to try a password: argon2id's passes, memory in KiB and lanes (RFC 9106 §3.1).
type Cost struct {
	Passes, Memory uint32
	Lanes          uint8
}

// Recommended is the second recommended option of RFC 9106 §4.
var Recommended = Cost{Passes: 3, Memory: 64 << 10, Lanes: 4}

// Often is for passwords that are tried at every login of many people (RFC 9106 §4 leaves the choice; an eighth of Recommended's work).
var Often = Cost{Passes: 2, Memory: 16 << 10, Lanes: 1}

// Light is for passwords that were made at random and that nobody guesses, in a demonstration that runs by itself or a test.
var Light = Cost{Passes: 1, Memory: 64, Lanes: 1}

// most bounds what a kept hash may ask for: whoever can write one must not stop the service with it.
var most = Cost{Passes: 16, Memory: 1 << 20, Lanes: 16}

const (
	saltLen = 16
	hashLen = 32
)

// Hash is what is kept in place of a password; it holds its own cost. An error is the randomness'.
func (c Cost) Hash(password string, random io.Reader) (string, error) {
	salt := make([]byte, saltLen)
	if _, err := io.ReadFull(random, salt); err != nil {
		return "", err
	}
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", c.Memory, c.Passes, c.Lanes, enc.EncodeToString(salt),
		enc.EncodeToString(c.derive(password, salt))), nil
}

func (c Cost) derive(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, c.Passes, c.Memory, c.Lanes, hashLen)
}

// Matches tells whether a password is that of a kept hash. Where there is none, or none that can be read, it takes as long as if there was.
func Matches(hash, password string) bool {
	c, salt, want, ok := read(hash)
	if !ok {
		Recommended.derive(password, make([]byte, saltLen))
		return false
	}
	return subtle.ConstantTimeCompare(c.derive(password, salt), want) == 1
}

func read(hash string) (c Cost, salt, want []byte, ok bool) {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[0] != "" || parts[1] != "argon2id" || parts[2] != "v=19" {
		return c, nil, nil, false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &c.Memory, &c.Passes, &c.Lanes); err != nil {
		return c, nil, nil, false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	ok = err1 == nil && err2 == nil && len(salt) == saltLen && len(want) == hashLen && c.Memory >= 8 && c.Memory <= most.Memory &&
		c.Passes >= 1 && c.Passes <= most.Passes && c.Lanes >= 1 && c.Lanes <= most.Lanes
	return c, salt, want, ok
}
