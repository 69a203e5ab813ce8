package access

import (
	"slices"

	"yellowlantern/internal/app/actor"
)

// Roles say what an administrator may do. Whoever looks after people may read what there is; nobody is shown a secret twice.
const (
	RoleAdministrator = "administrator" // everything
	RoleOperator      = "operator"      // watches, tries, and ends sessions
	RoleHelpDesk      = "help-desk"     // looks after people: their passwords, keys, kits and second factors
	RoleAuditor       = "auditor"       // reads
)

// Roles are all of them, the widest first.
var Roles = []string{RoleAdministrator, RoleOperator, RoleHelpDesk, RoleAuditor}

// IsRole tells whether there is such a role.
func IsRole(role string) bool { return slices.Contains(Roles, role) }

// whole tells whether somebody may do everything.
func whole(who actor.Actor) bool {
	return who.Role == RoleAdministrator && (who.Narrowed == "" || who.Narrowed == RoleAdministrator)
}

// within tells whether somebody of one role may hand out another: their own, or the one that only reads.
func within(own, wanted string) bool {
	return own == RoleAdministrator || own == wanted || wanted == RoleAuditor
}
