package probe

import (
	"bytes"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
)

// Versions of the file.
const (
	kitFormat  = 2
	joinedKits = 1 // which name algorithms by joined words
)

// Kit is a file by which a machine that has no access to the service can probe. It holds nothing secret: the person brings the password.
type Kit struct {
	Format int `json:"format"`
	Order
	// Suites are the algorithms of kits of versions before 0.11.
	Suites []string `json:"suites,omitempty"`
}

// WriteKit writes an order as a file.
func WriteKit(o Order) ([]byte, error) {
	b, err := json.MarshalIndent(Kit{Format: kitFormat, Order: o}, "", "  ")
	return append(b, '\n'), err
}

// ReadKit reads one. Errors say what is wrong with the file.
func ReadKit(b []byte) (Kit, error) {
	var k Kit
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&k); err != nil {
		return k, fmt.Errorf("this is no kit for a probe: %w", err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return k, errors.New("there is more in the file than a kit")
	}
	if k.Format == joinedKits {
		k.Format, k.Algorithms, k.Suites = kitFormat, plan.OfSuites(k.Suites), nil
	}
	switch {
	case k.Format != kitFormat:
		return k, fmt.Errorf("the kit is of format %d, this program knows %d: make it anew with yl probe kit", k.Format, kitFormat)
	case k.User == "" || k.Dial == "" || k.Algorithms.Empty():
		return k, errors.New("the kit lacks user, dial or algorithms: make it anew with yl probe kit")
	}
	return k, nil
}

// Fingerprint is that of the authority which the kit believes.
func (k Kit) Fingerprint() (string, error) {
	block, _ := pem.Decode([]byte(k.Authority))
	if block == nil {
		return "", errors.New("the authority's certificate cannot be read")
	}
	return cert.Fingerprint(block.Bytes), nil
}
