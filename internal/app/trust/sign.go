package trust

import (
	"context"
	"crypto/rand"
	"time"

	"github.com/smallstep/pkcs7"

	"yellowlantern/internal/store"
)

// signerName is what the certificate is called that kits are signed with.
const signerName = "of kits"

// Sign signs a file by the own authority (CMS, RFC 5652), so that a device that trusts it sees who made the file. The key is made for this
// one file, and forgotten.
func (s *Service) Sign(ctx context.Context, data []byte) ([]byte, error) {
	ca, err := s.Store.Certificate(ctx, store.AuthorityName)
	if err != nil {
		return nil, err
	}
	ca.List = s.listURL(ca)
	pair, err := ca.NewSigner(rand.Reader, time.Now(), "Yellow Lantern kits")
	if err != nil {
		return nil, err
	}
	if err := s.Store.NoteIssued(ctx, signerName, pair.Leaf); err != nil {
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
	return signed.Finish()
}
