package httpapi

import (
	"context"

	"yellowlantern/internal/app/authorities"
)

// authorityRoutes are about who, beside the service itself, issues certificates to people.
func (s *Server) authorityRoutes() {
	a := s.App.Authorities
	register(s, "GET", "/authorities", "list-authorities", "Other authorities of people's certificates, and by what it is known which are revoked", func(ctx context.Context, in *Drafted) (*body[[]authorities.OtherAuthority], error) {
		return answered(a.States(ctx, in.Draft))
	})
	register(s, "POST", "/authorities/{name}/fetch", "fetch-lists", "Fetch an authority's revocation lists at once", func(ctx context.Context, in *Named) (*body[authorities.OtherAuthority], error) {
		return answered(a.Fetch(ctx, in.Name))
	})
	register(s, "PUT", "/authorities/{name}/list", "give-list", "Give an authority's revocation list by hand, where the service cannot reach its server", func(ctx context.Context, in *struct {
		Named
		Body struct {
			PEM string `json:"pem" lines:"many" maxLength:"90000000" doc:"The list (RFC 5280), PEM."`
		}
	},
	) (*body[authorities.OtherAuthority], error) {
		return answered(a.Give(ctx, in.Name, in.Body.PEM))
	})
	register(s, "POST", "/authorities/{name}/trial", "try-certificate", "Say what would become of somebody who shows a certificate, without anybody logging in", func(ctx context.Context, in *struct {
		Named
		Drafted
		Body struct {
			PEM string `json:"pem" lines:"many" maxLength:"100000" doc:"The certificate, and those between it and the authority below it, PEM."`
		}
	},
	) (*body[authorities.CertificateTrial], error) {
		return answered(a.Try(ctx, in.Draft, in.Name, in.Body.PEM))
	})
}
