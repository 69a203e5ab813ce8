package httpapi

import (
	"context"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/people"
)

type newUser struct {
	people.User
	Password string `json:"password" maxLength:"256"`
}

// MadePassword is one that was made.
type MadePassword struct {
	Password string `json:"password,omitempty" doc:"Where none was given: it is shown here alone, and counts only until another is chosen."`
}

// UsersTable is people as a table.
type UsersTable struct {
	Table string `json:"table" maxLength:"8388608" lines:"many" doc:"CSV (RFC 4180); the first line names columns: user, full-name, mail, groups, off, until, hours, sessions, tunnels."`
}

// Lifted is how many names from a source need not wait any more.
type Lifted struct {
	Lifted int `json:"lifted"`
}

func (s *Server) peopleRoutes() {
	s.factorCalls()
	m := s.App.Members
	register(s, "GET", "/users", "list-users", "Users by name, a page at a time", func(ctx context.Context, in *struct {
		Filter string `query:"filter" maxLength:"128" doc:"Part of a name, full name, mail address, group, hours or tunnel, or off."`
		After  string `query:"after" maxLength:"64" doc:"The next page after this user."`
		Limit  int    `query:"limit" minimum:"1" maximum:"10000" default:"1000" doc:"How many."`
	},
	) (*body[people.Page], error) {
		return answered(m.Users(ctx, in.Filter, in.After, in.Limit))
	})
	register(s, "GET", "/users/{name}", "user", "One user", func(ctx context.Context, in *Named) (*body[people.User], error) {
		return answered(m.User(ctx, in.Name))
	})
	register(s, "POST", "/users", "add-user", "Add a user", func(ctx context.Context, in *struct{ Body newUser }) (*body[members.Added], error) {
		return answered(m.Add(ctx, in.Body.User, in.Body.Password))
	})
	register(s, "PUT", "/users/{name}", "change-user", "Change everything of a user but the password", func(ctx context.Context, in *struct {
		Named
		Body people.User
	},
	) (*body[people.User], error) {
		in.Body.Name = in.Name
		return answered(m.Change(ctx, in.Body))
	})
	register(s, "PUT", "/users/{name}/password", "set-password", "Give a user a new password", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Password   string `json:"password,omitempty" maxLength:"256" doc:"If none is given, one is made."`
			MustChange bool   `json:"must-change,omitempty" doc:"It counts only until they choose another; one that is made always does."`
			Keep       bool   `json:"keep-sessions,omitempty" doc:"Their live sessions go on; if not given, these end, and devices log in again."`
		}
	},
	) (*body[MadePassword], error) {
		made, err := m.SetPassword(ctx, in.Name, in.Body.Password, in.Body.MustChange, in.Body.Keep)
		return answered(MadePassword{made}, err)
	})
	register(s, "POST", "/users/{name}/password-links", "make-password-link", "A link by which a person chooses a password, once", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Hours int `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"For how long it counts; 48 if not given."`
		}
	},
	) (*body[members.Choice], error) {
		return answered(m.PasswordLink(ctx, in.Name, time.Duration(in.Body.Hours)*time.Hour))
	})
	register(s, "GET", "/users-words", "words-of-users", "Names in the running plan by which users are described", func(ctx context.Context, _ *struct{}) (*body[people.Known], error) {
		return answered(m.Words(ctx))
	})
	register(s, "GET", "/users-table", "export-users", "Everybody as a table (CSV, RFC 4180)", func(ctx context.Context, _ *struct{}) (*body[UsersTable], error) {
		text, err := m.Export(ctx)
		return answered(UsersTable{text}, err)
	})
	register(s, "POST", "/users-table", "import-users", "What becomes of a table of people, line by line; taken where that is asked for and every line will do", func(ctx context.Context, in *struct {
		Body struct {
			UsersTable
			Take     bool `json:"take,omitempty" doc:"Takes it: all of it, or nothing. Otherwise nothing changes."`
			NewWords bool `json:"new-words,omitempty" doc:"Names of groups, hours and tunnels that the running plan does not have are taken too."`
		}
	},
	) (*body[people.Table], error) {
		return answered(m.Import(ctx, in.Body.Table, in.Body.Take, in.Body.NewWords))
	})
	register(s, "DELETE", "/users/{name}", "remove-user", "Remove a user", func(ctx context.Context, in *struct {
		Named
		EvenSo bool `query:"even-so" doc:"Also where the running plan names them."`
	},
	) (*struct{}, error) {
		return nil, m.Remove(ctx, in.Name, in.EvenSo)
	})
	register(s, "POST", "/users/{name}/kits", "make-kit", "What a person needs for a kind of device", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Platform    string `json:"platform" enum:"windows,apple,android,yl-dial" doc:"The kind of device."`
			NewPassword bool   `json:"new-password,omitempty" doc:"Gives the person another password, and puts it into the kit."`
			KeyOnDevice bool   `json:"key-on-device,omitempty" doc:"The device makes its key itself, and has a certificate issued for it by an invitation in the kit (SCEP); for Apple's systems."`
		}
	},
	) (*body[handover.Made], error) {
		wants := handover.Wants{NewPassword: in.Body.NewPassword, KeyOnDevice: in.Body.KeyOnDevice}
		return answered(s.App.Handover.Make(ctx, in.Name, in.Body.Platform, wants))
	})
	register(s, "POST", "/groups/{name}/kits", "make-kits", "What everybody in a group needs for a kind of device, in one file", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Platform      string `json:"platform" enum:"windows,apple,android" doc:"The kind of device."`
			KeysOnDevices bool   `json:"keys-on-devices,omitempty" doc:"Devices make their keys themselves (SCEP); for Apple's systems."`
			NewPasswords  bool   `json:"new-passwords,omitempty" doc:"Gives each person another password, and puts it into their kit."`
		}
	},
	) (*body[handover.Batch], error) {
		wants := handover.Wants{NewPassword: in.Body.NewPasswords, KeyOnDevice: in.Body.KeysOnDevices}
		return answered(s.App.Handover.MakeAll(ctx, in.Name, in.Body.Platform, wants))
	})
	register(s, "POST", "/users/{name}/kit-links", "make-kit-link", "A link by which a person fetches a kit, once", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Platform string `json:"platform" enum:"windows,apple,android" doc:"The kind of device."`
			Hours    int    `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"For how long it counts; 48 if not given."`
		}
	},
	) (*body[handover.NewLink], error) {
		return answered(s.App.Handover.NewLink(ctx, in.Name, in.Body.Platform, time.Duration(in.Body.Hours)*time.Hour))
	})
	register(s, "GET", "/kit-links", "list-kit-links", "Links to kits, the newest first", func(ctx context.Context, in *struct {
		User string `query:"user" doc:"Only this person's."`
	},
	) (*body[[]handover.Link], error) {
		return answered(s.App.Handover.Links(ctx, in.User))
	})
	register(s, "DELETE", "/kit-links/{name}", "withdraw-kit-link", "Make a link worthless", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, s.App.Handover.Withdraw(ctx, in.Name)
	})
	register(s, "GET", "/handover", "handover", "Who has which kit, who came in, and what is to be done next", func(ctx context.Context, in *struct {
		Filter string `query:"filter" doc:"Part of a name, group, platform or next step."`
	},
	) (*body[[]handover.Row], error) {
		return answered(s.App.Handover.Rows(ctx, in.Filter))
	})
	register(s, "GET", "/keys", "list-keys", "Keys by which people prove who they are", func(ctx context.Context, in *struct {
		User string `query:"user" doc:"Only this person's."`
	},
	) (*body[[]people.Key], error) {
		return answered(m.Keys(ctx, in.User))
	})
	register(s, "POST", "/users/{name}/keys", "add-key", "Give a person the key of one of their devices", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Device string `json:"device,omitempty" maxLength:"64" doc:"What the key is on."`
			Public string `json:"public" maxLength:"16384" lines:"many" doc:"A public key, or a signing request (PKCS #10), for which the own authority issues a certificate; PEM."`
		}
	},
	) (*body[people.Key], error) {
		return answered(m.AddKey(ctx, in.Name, in.Body.Device, in.Body.Public))
	})
	register(s, "POST", "/users/{name}/invitations", "invite-device", "Let a device of a person's have a certificate for a key that it makes itself (SCEP, RFC 8894), once", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Device string `json:"device,omitempty" maxLength:"64" doc:"What the key is on."`
			Hours  int    `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"For how long it counts; 48 if not given."`
		}
	},
	) (*body[members.Invitation], error) {
		return answered(m.Invite(ctx, in.Name, in.Body.Device, time.Duration(in.Body.Hours)*time.Hour))
	})
	register(s, "GET", "/invitations", "list-invitations", "Invitations of devices, the newest first", func(ctx context.Context, in *struct {
		User string `query:"user" doc:"Only this person's."`
	},
	) (*body[[]members.Invitation], error) {
		return answered(m.Invitations(ctx, in.User))
	})
	register(s, "DELETE", "/invitations/{name}", "withdraw-invitation", "Take an invitation back", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, m.Uninvite(ctx, in.Name)
	})
	register(s, "GET", "/shared-keys", "list-shared-keys", "Keys that people and the gateway both know", func(ctx context.Context, in *struct {
		User string `query:"user" doc:"Of this person alone."`
	},
	) (*body[[]people.SharedKey], error) {
		return answered(m.SharedKeys(ctx, in.User))
	})
	register(s, "POST", "/users/{name}/shared-keys", "make-shared-key", "Make a person a key that they and the gateway both know", func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body struct {
			Use    string `json:"use" enum:"login,mixed-in"`
			Device string `json:"device,omitempty" maxLength:"64" doc:"What the key is on."`
			Value  string `json:"value,omitempty" maxLength:"256" doc:"One to log in by that a device has already; generated if not given."`
		}
	},
	) (*body[people.SharedKey], error) {
		return answered(m.MakeSharedKey(ctx, people.SharedKey{User: in.Name, Use: in.Body.Use, Device: in.Body.Device}, in.Body.Value))
	})
	register(s, "DELETE", "/shared-keys/{id}", "revoke-shared-key", "Take a shared key back: what came in by it, or with it, ends", func(ctx context.Context, in *struct {
		ID string `path:"id"`
	},
	) (*struct{}, error) {
		return nil, m.RevokeSharedKey(ctx, in.ID)
	})
	register(s, "POST", "/renewals", "renew-certificate", "A newer certificate for the key that signed a request, in the last days of the one before; a device needs no account for it", func(ctx context.Context, in *struct {
		Body struct {
			Request string `json:"request" lines:"many" maxLength:"16384" doc:"A signing request (PKCS #10) by the same key, PEM."`
		}
	},
	) (*body[pemText], error) {
		text, err := m.Renew(ctx, in.Body.Request)
		return answered(pemText{text}, err)
	})
	register(s, "DELETE", "/keys/{fingerprint}", "revoke-key", "Take a key back: what its device has open ends", func(ctx context.Context, in *struct {
		Fingerprint string `path:"fingerprint" maxLength:"128"`
	},
	) (*struct{}, error) {
		return nil, m.RevokeKey(ctx, in.Fingerprint)
	})
	register(s, "GET", "/groups", "list-groups", "The running plan's groups with their members", func(ctx context.Context, _ *struct{}) (*body[[]members.Group], error) {
		return answered(m.Groups(ctx))
	})
	register(s, "GET", "/slowed", "slowed", "Who had wrong passwords in the last hour, and until when no other is looked at", func(ctx context.Context, _ *struct{}) (*body[[]members.Slowed], error) {
		return answer(m.Slowed(coversAdministrators(actor.Of(ctx), "slowed"))), nil
	})
	register(s, "DELETE", "/slowed", "lift-slowed", "Let the next password be looked at at once", func(ctx context.Context, in *struct {
		Name   string `query:"name" doc:"Only this name."`
		Source string `query:"source" doc:"Only what comes from this address, or its /64 of IPv6."`
	},
	) (*body[Lifted], error) {
		n, err := m.Lift(ctx, in.Name, in.Source, coversAdministrators(actor.Of(ctx), "lift-slowed"))
		return answered(Lifted{n}, err)
	})
}
