package trust

import (
	"context"
	"crypto/rand"
	"time"

	"github.com/smallstep/pkcs7"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/scriptsign"
	"yellowlantern/internal/store"
)

// signerName is what the certificate is called that kits are signed with.
const signerName = "of kits"

// signer is a certificate of the own authority for one file, whose key is forgotten after it.
func (s *Service) signer(ctx context.Context) (ca, pair *cert.Pair, err error) {
	if ca, err = s.Store.Certificate(ctx, store.AuthorityName); err != nil {
		return nil, nil, err
	}
	ca.List = s.listURL(ca)
	if pair, err = ca.NewSigner(rand.Reader, time.Now(), "Yellow Lantern kits"); err != nil {
		return nil, nil, err
	}
	return ca, pair, s.Store.NoteIssued(ctx, signerName, pair.Leaf)
}

// Sign signs a file by the own authority (CMS, RFC 5652), so that a device that trusts it sees who made the file.
func (s *Service) Sign(ctx context.Context, data []byte) ([]byte, error) {
	return s.sign(ctx, data, func(*pkcs7.SignedData) {})
}

// SignApart does the same, and gives the signature without the file in it.
func (s *Service) SignApart(ctx context.Context, data []byte) ([]byte, error) {
	return s.sign(ctx, data, (*pkcs7.SignedData).Detach)
}

func (s *Service) sign(ctx context.Context, data []byte, finish func(*pkcs7.SignedData)) ([]byte, error) {
	ca, pair, err := s.signer(ctx)
	if err != nil {
		return nil, err
	}
	signed, err := pkcs7.NewSignedData(data)
	if err != nil {
		return nil, err
	}
	signed.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := signed.AddSigner(pair.Leaf, pair.Key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, err
	}
	signed.AddCertificate(ca.Leaf)
	finish(signed)
	return signed.Finish()
}

// SignScript signs a script for Windows by the own authority.
func (s *Service) SignScript(ctx context.Context, script []byte) ([]byte, error) {
	ca, pair, err := s.signer(ctx)
	if err != nil {
		return nil, err
	}
	return scriptsign.Sign(rand.Reader, script, pair.Key, pair.Leaf, ca.Leaf)
}

// Signing are the fingerprints of the authorities that sign kits, now and after a change of the own authority that is under way.
func (s *Service) Signing(ctx context.Context) ([]string, error) {
	c, err := s.change(ctx)
	if err != nil {
		return nil, err
	}
	out := []string{cert.Fingerprint(c.present.DER)}
	if c.next != nil {
		out = append(out, cert.Fingerprint(c.next.DER))
	}
	return out, nil
}

// Authorities are the certificates of the own authority, now and after a change of it that is under way: PEM.
func (s *Service) Authorities(ctx context.Context) (string, error) {
	c, err := s.change(ctx)
	if err != nil {
		return "", err
	}
	out := string(c.present.PEM())
	if c.next != nil {
		out += string(c.next.PEM())
	}
	return out, nil
}
