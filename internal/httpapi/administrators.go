package httpapi

import (
	"context"

	"github.com/skip2/go-qrcode"

	"yellowlantern/internal/app/access"
)

// RolePart is a role.
type RolePart struct {
	Role string `json:"role" enum:"administrator,operator,help-desk,auditor" doc:"administrator: everything. operator: watches, tries, and ends sessions. help-desk: looks after people. auditor: reads."`
}

func (s *Server) administratorRoutes() {
	a := s.App.Access
	s.requestRoutes()
	register(s, "GET", "/administrators", "list-administrators", "Who may use the service, and as what", func(ctx context.Context, _ *struct{}) (*body[[]access.Administrator], error) {
		return answered(a.Administrators(ctx))
	})
	register(s, "POST", "/administrators", "add-administrator", "Add an administrator, with a password that is made for them", func(ctx context.Context, in *struct {
		Body struct {
			RolePart
			Name string `json:"name" maxLength:"64"`
		}
	},
	) (*body[access.NewAdministrator], error) {
		return answered(a.AddAdministrator(ctx, in.Body.Name, in.Body.Role))
	})
	register(s, "PUT", "/administrators/{name}/role", "change-role", "Give an administrator another role", func(ctx context.Context, in *struct {
		Named
		Body RolePart
	},
	) (*struct{}, error) {
		return nil, a.ChangeRole(ctx, in.Name, in.Body.Role)
	})
	register(s, "DELETE", "/administrators/{name}", "remove-administrator", "Remove an administrator; what they have open ends", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, a.RemoveAdministrator(ctx, in.Name)
	})
	register(s, "POST", "/administrators/{name}/password", "make-administrator-password", "Make an administrator another password; what they have open ends", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Forget bool `json:"forget-second-factor,omitempty" doc:"Forgets their second factor too."`
		}
	},
	) (*body[MadePassword], error) {
		made, err := a.MakePassword(ctx, in.Name, in.Body.Forget)
		return answered(MadePassword{made}, err)
	})
	register(s, "DELETE", "/administrators/{name}/sessions", "end-administrator-sessions", "Sign an administrator out everywhere", func(ctx context.Context, in *Named) (*body[Ended], error) {
		n, err := a.EndSessions(ctx, in.Name)
		return answered(Ended{n}, err)
	})
	register(s, "GET", "/me/second-factor", "begin-own-factor", "A secret for one's own second factor: nothing is kept until a code of it comes with it", func(ctx context.Context, _ *struct{}) (*body[access.OwnEnrolling], error) {
		e, err := a.BeginFactor(ctx)
		if err == nil {
			e.Picture, err = qrcode.Encode(e.URI, qrcode.Medium, 240)
		}
		return answered(e, err)
	})
	register(s, "PUT", "/me/second-factor", "take-own-factor", "Have a second factor, with a code that it made", func(ctx context.Context, in *struct {
		Body struct {
			Password string `json:"password" maxLength:"256" lines:"many"`
			Secret   string `json:"secret" maxLength:"256"`
			Code     string `json:"code" maxLength:"32"`
		}
	},
	) (*body[RecoveryCodes], error) {
		codes, err := a.TakeFactor(ctx, in.Body.Password, in.Body.Secret, in.Body.Code)
		return answered(RecoveryCodes{codes}, err)
	})
	register(s, "GET", "/me/security-key", "begin-own-key", "What a security key is to answer that becomes one's own second factor", func(ctx context.Context, _ *struct{}) (*body[access.KeyAsked], error) {
		return answered(a.BeginKey(ctx))
	})
	register(s, "PUT", "/me/security-key", "add-own-key", "Have a security key as second factor, with what it answered", func(ctx context.Context, in *struct {
		Body struct {
			Password string `json:"password" maxLength:"256" lines:"many"`
			Code     string `json:"code,omitempty" maxLength:"32" doc:"Of the second factor that one has already."`
			Name     string `json:"name" minLength:"1" maxLength:"64" doc:"What the key is called."`
			Key      string `json:"key" maxLength:"16384" doc:"What it answered: JSON, as browsers write it."`
		}
	},
	) (*body[RecoveryCodes], error) {
		codes, err := a.AddKey(ctx, access.Credentials{Password: in.Body.Password, Code: in.Body.Code, Key: in.Body.Key}, in.Body.Name)
		return answered(RecoveryCodes{codes}, err)
	})
	register(s, "POST", "/me/second-factor/forget", "forget-own-factor", "Forget one's own second factor, with the password and a code", func(ctx context.Context, in *struct {
		Body struct {
			Password string `json:"password" maxLength:"256" lines:"many"`
			Code     string `json:"code" maxLength:"32"`
		}
	},
	) (*struct{}, error) {
		return nil, a.ForgetFactor(ctx, access.Credentials{Password: in.Body.Password, Code: in.Body.Code})
	})
}
