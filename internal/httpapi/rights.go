package httpapi

import (
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/people"
)

var (
	anybody  = access.Roles
	tends    = []string{access.RoleAdministrator, access.RoleHelpDesk}
	operates = []string{access.RoleAdministrator, access.RoleOperator}
	both     = []string{access.RoleAdministrator, access.RoleOperator, access.RoleHelpDesk}
	whole    = []string{access.RoleAdministrator}
	audits   = []string{access.RoleAdministrator, access.RoleAuditor}
)

// right is which roles may make a call, and about what.
type right struct {
	roles []string
	// person is that the call is about a person: by what is kept for administrators under a person's name nobody may make it.
	person bool
	// drafts are the roles that may make it about a draft; nil: all of roles.
	drafts []string
	// administrators are the roles for which it covers what is kept of administrators as well; nil: it never does.
	administrators []string
}

// rights are what every call of the API is for. A call that is not named here does not exist: the service does not start with it.
var rights = map[string]right{
	// Without signing in.
	"start-status": {}, "start": {}, "sign-in": {}, "ask-key": {}, "renew-certificate": {}, "enrol-probe": {}, "call-of-probe": {},
	// One's own.
	"change-own-password": {roles: anybody}, "own-sessions": {roles: anybody}, "end-own-session": {roles: anybody}, "sign-out": {roles: anybody},
	"me": {roles: anybody}, "make-token": {roles: anybody}, "remove-token": {roles: anybody}, "begin-own-factor": {roles: anybody},
	"take-own-factor": {roles: anybody}, "begin-own-key": {roles: anybody}, "add-own-key": {roles: anybody}, "forget-own-factor": {roles: anybody},
	// What computes and changes nothing.
	"check": {roles: anybody}, "read": {roles: anybody}, "uses": {roles: anybody}, "depends": {roles: anybody}, "edit": {roles: anybody},
	"begin": {roles: anybody}, "forms": {roles: anybody}, "steps": {roles: anybody}, "next": {roles: anybody},
	// The plan and its revisions.
	"list-drafts": {roles: anybody}, "show-draft": {roles: anybody}, "review-draft": {roles: anybody}, "difference": {roles: anybody},
	"dependences": {roles: anybody}, "approvals": {roles: anybody}, "list-revisions": {roles: anybody}, "show-revision": {roles: anybody},
	"plan-size": {roles: anybody}, "preview-machine": {roles: anybody},
	"save-draft": {roles: whole}, "delete-draft": {roles: whole}, "change-draft": {roles: whole}, "rebase-draft": {roles: whole},
	"approve-draft": {roles: whole}, "commit-draft": {roles: whole}, "keep-revision": {roles: whole},
	// Reach: computed, tried, reported.
	"board": {roles: anybody}, "prove": {roles: anybody}, "surplus": {roles: anybody}, "journey": {roles: anybody}, "journeys": {roles: anybody}, "reach": {roles: anybody}, "report": {roles: anybody},
	"report-as": {roles: anybody}, "list-probes": {roles: anybody}, "probe-order": {roles: anybody}, "list-rounds": {roles: anybody},
	"round": {roles: anybody}, "schedule": {roles: anybody}, "trial": {roles: anybody}, "list-vantages": {roles: anybody},
	"list-computing": {roles: anybody}, "stop-computing": {roles: operates}, "start-round": {roles: operates}, "add-probe": {roles: both},
	"list-enrolled-probes": {roles: anybody}, "invite-probe": {roles: whole}, "revoke-probe": {roles: whole},
	"set-schedule": {roles: whole}, "diagnose": {roles: both}, "bundle": {roles: both},
	// People.
	"list-users": {roles: anybody}, "user": {roles: anybody, person: true}, "export-users": {roles: anybody}, "words-of-users": {roles: anybody},
	"list-groups": {roles: anybody}, "people-elsewhere": {roles: anybody}, "odd-people": {roles: anybody},
	"explain-person": {roles: anybody, person: true}, "handover": {roles: anybody}, "list-keys": {roles: anybody, person: true},
	"list-shared-keys": {roles: anybody, person: true}, "list-invitations": {roles: anybody}, "list-kit-links": {roles: anybody},
	"list-second-factors": {roles: anybody, person: true},
	"add-user":            {roles: tends}, "change-user": {roles: tends, person: true}, "set-password": {roles: tends, person: true},
	"remove-user": {roles: tends, person: true}, "forget-person": {roles: tends, person: true}, "import-users": {roles: tends}, "make-password-link": {roles: tends, person: true},
	"make-kit": {roles: tends, person: true}, "make-kits": {roles: tends}, "make-probe-kit": {roles: tends, person: true}, "make-kit-link": {roles: tends, person: true},
	"withdraw-kit-link": {roles: tends}, "invite-device": {roles: tends, person: true}, "withdraw-invitation": {roles: tends},
	"add-key": {roles: tends, person: true}, "revoke-key": {roles: tends}, "make-shared-key": {roles: tends, person: true},
	"revoke-shared-key": {roles: tends}, "add-second-factor": {roles: tends, person: true},
	"forget-second-factors":   {roles: tends, person: true},
	"make-second-factor-link": {roles: tends, person: true}, "lost-device": {roles: tends, person: true},
	"slowed": {roles: anybody, administrators: audits}, "lift-slowed": {roles: tends, administrators: whole},
	"try-source": {roles: both, person: true, drafts: whole},
	// Watching.
	"list-sessions": {roles: anybody}, "past-sessions": {roles: anybody}, "flows": {roles: anybody}, "watch": {roles: anybody},
	"list-pools": {roles: anybody}, "status": {roles: anybody}, "standing": {roles: anybody}, "metrics": {roles: anybody},
	"outside": {roles: anybody}, "journal": {roles: anybody}, "journal-head": {roles: anybody}, "journal-lines": {roles: anybody},
	"end-session": {roles: operates}, "end-sessions": {roles: operates}, "ask-mirror": {roles: operates}, "record-session": {roles: whole},
	// Certificates and secrets.
	"authority": {roles: anybody}, "issued": {roles: anybody}, "revocation-list": {roles: anybody}, "rollover": {roles: anybody},
	"list-certificates": {roles: anybody}, "list-authorities": {roles: anybody}, "list-secrets": {roles: anybody},
	"try-certificate": {roles: both}, "make-certificate": {roles: whole}, "import-certificate": {roles: whole},
	"remove-certificate": {roles: whole}, "request-certificate": {roles: whole}, "revoke-certificate": {roles: whole},
	"revoke-serial": {roles: whole}, "roll-over": {roles: whole}, "fetch-lists": {roles: whole}, "give-list": {roles: whole},
	"make-secret": {roles: whole}, "remove-secret": {roles: whole},
	// Administrators.
	"list-administrators": {roles: anybody}, "list-tokens": {roles: anybody}, "add-administrator": {roles: whole},
	"remove-administrator": {roles: whole}, "make-administrator-password": {roles: whole}, "change-role": {roles: whole},
	"end-administrator-sessions": {roles: whole},
	"list-requests":              {roles: anybody}, "show-request": {roles: anybody}, "approve-request": {roles: whole}, "withdraw-request": {roles: both},
}

// complete panics where a call has no entry, or an entry no call: nothing is served that nobody thought about.
func complete(doc *huma.OpenAPI) {
	left := map[string]bool{}
	for id := range rights {
		left[id] = true
	}
	for path, item := range doc.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete, item.Patch, item.Head, item.Options} {
			if op == nil {
				continue
			}
			if _, named := rights[op.OperationID]; !named {
				panic(fmt.Sprintf("%s %s (%s) has no entry in rights", op.Method, path, op.OperationID))
			}
			if open[op.OperationID] != (rights[op.OperationID].roles == nil) {
				panic(op.OperationID + " needs signing in or needs none: open and rights differ")
			}
			delete(left, op.OperationID)
		}
	}
	for id := range left {
		panic("rights has an entry for " + id + ", which is no call")
	}
}

// asked is what a call is about, as far as rights differ by it.
type asked struct {
	draft bool
	name  string // of the person
}

// has tells whether each role of somebody, theirs and the narrower one of a token, is among some.
func has(who actor.Actor, some []string) bool {
	return slices.Contains(some, who.Role) && (who.Narrowed == "" || slices.Contains(some, who.Narrowed))
}

// beforeChoosing is what somebody may do whose password was made for them.
var beforeChoosing = []string{"change-own-password", "me", "sign-out"}

// denied tells why somebody may not make a call about something; empty: they may.
func denied(who actor.Actor, op *huma.Operation, about asked) string {
	r := rights[op.OperationID]
	may, what := r.roles, ""
	if about.draft && r.drafts != nil {
		may, what = r.drafts, ", of a draft,"
	}
	switch {
	case who.MustChange && !slices.Contains(beforeChoosing, op.OperationID):
		return "your password was made for you: choose one of your own first (yl own password, or the console's first page)"
	case !has(who, may):
		return fmt.Sprintf("%q%s is not for you (%s): it is for %s", strings.ToLower(op.Summary[:1])+op.Summary[1:], what, who.Rights(),
			strings.Join(may, ", "))
	case r.person && about.name != "" && !people.IsPerson(about.name):
		return fmt.Sprintf("%q is no person's name: what belongs to an administrator is changed by the calls for administrators", about.name)
	}
	return ""
}

// coversAdministrators tells whether a call covers, for somebody, what is kept of administrators.
func coversAdministrators(who actor.Actor, call string) bool {
	return has(who, rights[call].administrators)
}

// about finds what a request is about.
func about(ctx huma.Context) asked {
	name := ctx.Param("name")
	if name == "" {
		name = ctx.Query("user")
	}
	return asked{draft: ctx.Query("draft") != "", name: name}
}
