package httpapi

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/actor"
)

var (
	anybody  = access.Roles
	tends    = []string{access.RoleAdministrator, access.RoleHelpDesk}
	operates = []string{access.RoleAdministrator, access.RoleOperator}
	both     = []string{access.RoleAdministrator, access.RoleOperator, access.RoleHelpDesk}
	whole    = []string{access.RoleAdministrator}
)

// rights are the roles that may call what is not only read, by the operation; what is not named here only administrators may. What is
// read anybody may, but for what is named here.
var rights = map[string][]string{
	// One's own.
	"change-own-password": anybody, "end-own-session": anybody, "sign-out": anybody, "make-token": anybody, "remove-token": anybody,
	"begin-own-factor": anybody, "take-own-factor": anybody, "begin-own-key": anybody, "add-own-key": anybody, "forget-own-factor": anybody,
	// What changes nothing.
	"check": anybody, "read": anybody, "uses": anybody, "depends": anybody, "edit": anybody, "begin": anybody,
	// People.
	"add-user": tends, "change-user": tends, "set-password": tends, "remove-user": tends, "import-users": tends, "make-password-link": tends,
	"make-kit": tends, "make-kits": tends, "make-kit-link": tends, "withdraw-kit-link": tends, "invite-device": tends, "withdraw-invitation": tends,
	"add-key": tends, "revoke-key": tends, "make-shared-key": tends, "revoke-shared-key": tends, "lift-slowed": tends,
	"add-second-factor": tends, "forget-second-factors": tends, "make-second-factor-link": tends, "lost-device": tends,
	// Watching.
	"stop-computing": operates, "end-session": operates, "end-sessions": operates, "start-round": operates, "ask-mirror": operates,
	"diagnose": both, "bundle": both, "add-probe": both, "try-source": both, "try-certificate": both,
	// Read, and more than that.
	"record-session": whole,
}

// mayCall tells whether a role may.
func mayCall(role string, op *huma.Operation) bool {
	if named, ok := rights[op.OperationID]; ok {
		return slices.Contains(named, role)
	}
	return op.Method == http.MethodGet || role == access.RoleAdministrator
}

// beforeChoosing is what somebody may do whose password was made for them.
var beforeChoosing = []string{"change-own-password", "me", "sign-out"}

// denied tells why somebody may not call; empty: they may.
func denied(who actor.Actor, op *huma.Operation) string {
	switch {
	case who.MustChange && !slices.Contains(beforeChoosing, op.OperationID):
		return "your password was made for you: choose one of your own first (yl own password, or the console's first page)"
	case !mayCall(who.Role, op), who.Narrowed != "" && !mayCall(who.Narrowed, op):
		may := rights[op.OperationID]
		if may == nil {
			may = whole
		}
		return fmt.Sprintf("%q is not for you (%s): it is for %s", strings.ToLower(op.Summary[:1])+op.Summary[1:], who.Rights(),
			strings.Join(may, ", "))
	}
	return ""
}
