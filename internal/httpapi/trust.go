package httpapi

import (
	"context"
	"encoding/pem"
	"errors"
	"net/http"

	"github.com/go-chi/chi/v5"

	"yellowlantern/internal/app/trust"
)

type pemText struct {
	PEM string `json:"pem"`
}

type forNames struct {
	For []string `json:"for" minItems:"1" nullable:"false" doc:"Names and addresses that people dial."`
	Key string   `json:"key,omitempty" enum:"ecdsa,rsa" doc:"Of what kind its key is; ecdsa if not given."`
}

// Replacing puts something in the place of what is in use.
type Replacing struct {
	Replace bool `query:"replace" doc:"Also where people could no longer connect by it."`
}

// removal forgets something that revisions refer to by name.
type removal struct {
	Named
	EvenSo bool `query:"even-so" doc:"Also where earlier revisions need it: nobody can go back to those."`
}

func (s *Server) trustRoutes() {
	t := s.App.Trust
	register(s, "GET", "/certificates", "list-certificates", "All certificates and signing requests", func(ctx context.Context, _ *struct{}) (*body[[]trust.Certificate], error) {
		return answered(t.Certificates(ctx))
	})
	register(s, "POST", "/certificates/{name}", "make-certificate", "Make a certificate by the service's own authority, in place of an older one", func(ctx context.Context, in *struct {
		Named
		Replacing
		Body forNames
	},
	) (*body[trust.Certificate], error) {
		return answered(t.MakeWith(ctx, in.Body.Key, in.Name, in.Replace, in.Body.For...))
	})
	register(s, "PUT", "/certificates/{name}", "import-certificate", "Keep a certificate of another authority with those above it and its key", func(ctx context.Context, in *struct {
		Named
		Replacing
		Body struct {
			Chain string `json:"chain" lines:"many" maxLength:"100000" doc:"The certificate and those above it, PEM, in any order; the key may be among them."`
			Key   string `json:"key,omitempty" lines:"many" maxLength:"20000" doc:"Its private key, PEM; not needed where a signing request was made here."`
		}
	},
	) (*body[trust.Certificate], error) {
		return answered(t.Import(ctx, in.Name, in.Body.Chain, in.Body.Key, in.Replace))
	})
	register(s, "POST", "/certificates/{name}/request", "request-certificate", "Make a key and a signing request (PKCS #10) for another authority", func(ctx context.Context, in *struct {
		Named
		Body forNames
	},
	) (*body[pemText], error) {
		text, err := t.Request(ctx, in.Body.Key, in.Name, in.Body.For...)
		return answered(pemText{text}, err)
	})
	register(s, "POST", "/certificates/{name}/revoke", "revoke-certificate", "Put a certificate of the own authority on the revocation list", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Reason string `json:"reason" maxLength:"200" doc:"Why, for the record."`
		}
	},
	) (*struct{}, error) {
		return nil, t.Revoke(ctx, in.Name, in.Body.Reason)
	})
	register(s, "DELETE", "/certificates/{name}", "remove-certificate", "Forget a certificate with its key, or a signing request", func(ctx context.Context, in *removal) (*struct{}, error) {
		return nil, t.Remove(ctx, in.Name, in.EvenSo)
	})
	register(s, "GET", "/authority", "authority", "The authority's certificate, PEM, for people's devices", func(ctx context.Context, _ *struct{}) (*body[pemText], error) {
		text, err := t.Authority(ctx)
		return answered(pemText{text}, err)
	})
	register(s, "GET", "/authority/rollover", "rollover", "How far the change of the own authority is", func(ctx context.Context, _ *struct{}) (*body[trust.Rollover], error) {
		return answered(t.Rollover(ctx))
	})
	register(s, "POST", "/authority/rollover", "roll-over", "Take a step in the change of the own authority", func(ctx context.Context, in *struct {
		Body struct {
			Step   string `json:"step" enum:"announce,sign,finish,cancel" doc:"announce: make the next one, which kits hold from then on. sign: it signs, and what the older one signed for gateways is signed anew. finish: forget the older one. cancel: forget the next one."`
			EvenSo bool   `json:"even-so,omitempty" doc:"Finish although people have certificates of the older one."`
		}
	},
	) (*body[trust.Rollover], error) {
		return answered(t.RollOver(ctx, in.Body.Step, in.Body.EvenSo))
	})
	register(s, "GET", "/authority/issued", "issued", "Every certificate that the own authority signed, kept still or not, newest first", func(ctx context.Context, _ *struct{}) (*body[[]trust.Issued], error) {
		return answered(t.Issued(ctx))
	})
	register(s, "POST", "/authority/issued/{serial}/revoke", "revoke-serial", "Put a certificate on the revocation list by its serial, also one that was replaced", func(ctx context.Context, in *struct {
		Serial string `path:"serial" maxLength:"40" pattern:"^[0-9a-fA-F]+$"`
		Body   struct {
			Reason string `json:"reason" maxLength:"200" doc:"Why, for the record."`
		}
	},
	) (*struct{}, error) {
		return nil, t.RevokeSerial(ctx, in.Serial, in.Body.Reason)
	})
	register(s, "GET", "/authority/revoked", "revocation-list", "The authority's revocation list (RFC 5280), PEM", func(ctx context.Context, _ *struct{}) (*body[pemText], error) {
		der, err := t.RevocationList(ctx)
		return answered(pemText{string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}))}, err)
	})
	register(s, "GET", "/secrets", "list-secrets", "All shared secrets, without their values", func(ctx context.Context, _ *struct{}) (*body[[]trust.SharedSecret], error) {
		return answered(t.Secrets(ctx))
	})
	register(s, "POST", "/secrets/{name}", "make-secret", "Generate a shared secret and tell it once, or keep one that is given", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Kind  string `json:"kind" enum:"tsig,shared-key,password"`
			Value string `json:"value,omitempty" lines:"many" maxLength:"512" doc:"Not given: one is generated."`
			Again bool   `json:"again,omitempty" doc:"In place of one that is kept under that name."`
		}
	},
	) (*body[trust.SharedSecret], error) {
		return answered(t.MakeSecret(ctx, in.Name, in.Body.Kind, in.Body.Value, in.Body.Again))
	})
	register(s, "DELETE", "/secrets/{name}", "remove-secret", "Forget a shared secret", func(ctx context.Context, in *removal) (*struct{}, error) {
		return nil, t.RemoveSecret(ctx, in.Name, in.EvenSo)
	})
}

// openList gives the revocation list to whoever asks (RFC 5280 §4.2.1.13, RFC 2585 §4.2): it says nothing that is not in certificates which
// were shown to everybody.
func (s *Server) openList(w http.ResponseWriter, r *http.Request) {
	der, err := s.App.Trust.RevocationListNamed(r.Context(), chi.URLParam(r, "id"))
	if errors.Is(err, trust.ErrNoList) {
		http.NotFound(w, r)
		return
	}
	if err != nil {
		http.Error(w, "the list cannot be made just now", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "application/pkix-crl")
	w.Header().Set("Cache-Control", "max-age=600")
	_, _ = w.Write(der)
}
