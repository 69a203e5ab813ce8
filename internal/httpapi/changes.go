package httpapi

import (
	"cmp"
	"context"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/core/reason"
)

// quiet are calls that change nothing that anybody goes by, though they are no mere reading: drafts that are typed, and what is computed.
var quiet = []string{
	"save-draft", "change-draft", "rebase-draft", "check", "read", "uses", "depends", "journeys", "edit", "begin", "diagnose", "add-probe", "sign-out",
	"try-source", // which says more of it itself
}

// things are what calls are about that name no object: in words, or "" for whoever asks.
var things = map[string]string{
	"roll-over": "the own authority", "ask-mirror": "the mirror", "start-round": "everybody", "set-schedule": "the schedule of trials",
	"import-users": "a table of people", "lift-slowed": "everybody", "change-own-password": "", "take-own-factor": "", "forget-own-factor": "",
	"begin-own-factor": "", "begin-own-key": "", "add-own-key": "",
}

// objectKey is under what a request keeps the name of the object that it is about, where its path does not have it.
type objectKey struct{}

// notes keeps that name.
func notes[I any](ctx context.Context, in *I) {
	if to, ok := ctx.Value(objectKey{}).(*string); ok {
		*to = objectIn(reflect.ValueOf(in).Elem())
	}
}

// objectIn is the name of what a body, or a query, is about; empty: it names nothing.
func objectIn(in reflect.Value) string {
	if in.Kind() == reflect.Struct {
		if b := in.FieldByName("Body"); b.IsValid() {
			in = b
		}
	}
	if in = reflect.Indirect(in); in.Kind() != reflect.Struct { // a list, or nothing was sent
		return ""
	}
	for _, name := range []string{"Name", "User", "Source"} {
		f := reflect.Indirect(in.FieldByName(name))
		if f.IsValid() && f.Kind() == reflect.Struct {
			f = f.FieldByName("Name")
		}
		if f.IsValid() && f.Kind() == reflect.String && f.String() != "" {
			return f.String()
		}
	}
	return ""
}

// named panics where a call changes something and the journal could not say what: nothing is served that nobody thought about.
func named(method, path, id string, in reflect.Type) {
	_, thing := things[id]
	if method == http.MethodGet || slices.Contains(quiet, id) || open[id] || thing || strings.Contains(path, "{") {
		return
	}
	if f, ok := in.FieldByName("Body"); ok {
		in = f.Type
	}
	if in.Kind() == reflect.Pointer {
		in = in.Elem()
	}
	if in.Kind() != reflect.Struct {
		panic(method + " " + path + " (" + id + ") names no object, and has no entry in things")
	}
	for _, name := range []string{"Name", "User"} {
		if _, ok := in.FieldByName(name); ok {
			return
		}
	}
	panic(method + " " + path + " (" + id + ") names no object, and has no entry in things")
}

// changed writes into the journal what somebody did by a call: who, from where, by what, and about what. What came of it, where that is
// more, is told by whoever did it.
func (s *Server) changed(ctx huma.Context) {
	op := ctx.Operation()
	who := actor.Of(ctx.Context())
	if op.Method == http.MethodGet || ctx.Status() >= 300 || slices.Contains(quiet, op.OperationID) || who.Name == "" {
		return
	}
	var about []string
	for _, part := range strings.Split(op.Path, "/") {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			about = append(about, ctx.Param(strings.TrimSuffix(name, "}")))
		}
	}
	if to, ok := ctx.Context().Value(objectKey{}).(*string); ok && len(about) == 0 {
		about = append(about, cmp.Or(*to, things[op.OperationID], who.Name))
	}
	user := ""
	if op.OperationID == "add-user" {
		user = about[0]
	}
	if strings.Contains(op.Path, "/users/{name}") {
		user = ctx.Param("name")
	}
	s.App.Journal.Tell(reason.Of(reason.Changed, reason.With{
		reason.Administrator: who.Name, reason.Way: who.By, reason.Source: who.From.String(), reason.Change: op.Summary,
		reason.What: strings.Join(about, ", "),
	}), user)
}
