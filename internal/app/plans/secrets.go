package plans

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/outline"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// SecretElsewhere is the code of the finding that a plan sends a secret to where it was not stored for.
const SecretElsewhere = "secret-sent-elsewhere"

// SecretMay tells why a secret may not be sent where a plan that was not committed says; empty: it may. It may where the plan that runs
// sends it already, and where nothing has sent it so far and whoever asks gave it: they know it. A secret that is not kept is nobody's.
func (s *Service) SecretMay(ctx context.Context, u plan.SecretUse) (why string, err error) {
	x, err := s.Store.SharedRecord(ctx, u.Secret)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return "", nil
	case err != nil:
		return "", err
	case slices.Contains(strings.Fields(x.For), u.Digest()), x.For == "" && x.By != "" && x.By == actor.Name(ctx):
		return "", nil
	case x.For == "":
		by := x.By
		if by == "" {
			by = "an earlier version"
		}
		return fmt.Sprintf("secret %s was given by %s, and no revision sends it anywhere yet", u.Secret, by), nil
	}
	return fmt.Sprintf("secret %s was stored for other servers, or another authority, than %s", u.Secret, u.Servers()), nil
}

// secretFindings are about secrets that would be sent to where they were not stored for.
func (s *Service) secretFindings(ctx context.Context, doc *plan.Document) (out []check.Finding, err error) {
	for _, u := range doc.Plan.SecretUses() {
		why, err := s.SecretMay(ctx, u)
		if err != nil {
			return nil, err
		}
		if why != "" {
			out = append(out, check.Finding{
				Severity: check.Stop, Code: SecretElsewhere, Path: u.Path, Step: outline.StepOf(u.Path), Line: doc.Place(u.Path).Line,
				Problem: why, Fix: fmt.Sprintf("give it again (yl secret keep %s --again --kind password --from-file FILE), or have another administrator approve the draft", u.Secret),
			})
		}
	}
	return out, nil
}

// BindSecrets notes that secrets are sent from now on where a plan that runs says, and nowhere else.
func (s *Service) BindSecrets(ctx context.Context, p *plan.Plan) error {
	to := map[string]string{}
	for _, u := range p.SecretUses() {
		to[u.Secret] = strings.TrimSpace(to[u.Secret] + " " + u.Digest())
	}
	return s.Store.BindShared(ctx, to)
}

// Digest stands for a draft's text and for what it is to take the place of: what an approval is for.
func Digest(d store.Draft) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s", d.Base, d.Text))
	return hex.EncodeToString(sum[:])
}
