package plan

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"strings"
	"time"
)

// oneLine is what is told of a text that has several lines: of certificates whose they are, until when, and by what they are told apart; of
// others how they begin.
func oneLine(text string) string {
	if !strings.Contains(strings.TrimRight(text, "\n"), "\n") {
		return text
	}
	var certificates []string
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			continue
		}
		certificates = append(certificates, told(c))
	}
	if len(certificates) > 0 {
		return strings.Join(certificates, ", ")
	}
	first, _, _ := strings.Cut(text, "\n")
	return first + " …"
}

func told(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return fmt.Sprintf("the certificate of %s until %s (SHA-256 %X…)", c.Subject, c.NotAfter.Format(time.DateOnly), sum[:6])
}
