package ike

import (
	"crypto/mlkem"
	"errors"
	"io"
)

// Key encapsulation (FIPS 203) as an additional key exchange: the identifiers of IANA's registry of key exchange methods.
const (
	kemMLKEM768  = 36
	kemMLKEM1024 = 37
)

// tADDKE1 is the transform type of the first additional key exchange, and those behind it of the others (RFC 9370 §2.2.1).
const (
	tADDKE1 = 6
	tADDKE7 = 12
)

// kem is the device's half of an encapsulation.
type kem struct {
	method uint16
	public []byte
	open   func(ciphertext []byte) ([]byte, error)
}

var errKEM = errors.New("ike: the additional key exchange is none of the method")

const kemSeed = 64 // octets that a key is made of

// newKEM makes keys from the reader's octets.
func newKEM(method uint16, rand io.Reader) (kem, error) {
	seed := make([]byte, kemSeed)
	if _, err := io.ReadFull(rand, seed); err != nil {
		return kem{}, err
	}
	switch method {
	case kemMLKEM768:
		k, err := mlkem.NewDecapsulationKey768(seed)
		if err != nil {
			return kem{}, err
		}
		return kem{method, k.EncapsulationKey().Bytes(), k.Decapsulate}, nil
	case kemMLKEM1024:
		k, err := mlkem.NewDecapsulationKey1024(seed)
		if err != nil {
			return kem{}, err
		}
		return kem{method, k.EncapsulationKey().Bytes(), k.Decapsulate}, nil
	}
	return kem{}, errKEM
}

// encapsulate is the gateway's half: a ciphertext for the device's key, and the secret. A key that is none is an error (FIPS 203 §7.2).
func encapsulate(method uint16, public []byte) (ciphertext, shared []byte, err error) {
	switch method {
	case kemMLKEM768:
		k, err := mlkem.NewEncapsulationKey768(public)
		if err != nil {
			return nil, nil, errKEM
		}
		shared, ciphertext = k.Encapsulate()
		return ciphertext, shared, nil
	case kemMLKEM1024:
		k, err := mlkem.NewEncapsulationKey1024(public)
		if err != nil {
			return nil, nil, errKEM
		}
		shared, ciphertext = k.Encapsulate()
		return ciphertext, shared, nil
	}
	return nil, nil, errKEM
}
