// Package reason holds why things happened: every cause that is journalled, that ended or refused something, or that a trial saw, is a code
// with parameters. Whoever decides by a cause decides by its code; the words for people are made of it here, and nowhere else.
package reason

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Code names a cause. The words of all codes are in this package.
type Code string

// Param names a parameter of a cause.
type Param string

// Parameters.
const (
	Address       Param = "address"
	Addresses     Param = "addresses"
	Authority     Param = "authority"
	Administrator Param = "administrator"
	Back          Param = "back" // a revision that is gone back to
	By            Param = "by"   // who said it
	Certificate   Param = "certificate"
	Change        Param = "change"
	Claimed       Param = "claimed" // who a device says that it is, where nobody knows
	Count         Param = "count"
	Destination   Param = "destination"
	EAP           Param = "eap" // a type of EAP (RFC 3748 §5)
	Error         Param = "error"
	Gone          Param = "gone" // packets that were lost
	Groups        Param = "groups"
	Hours         Param = "hours"
	In            Param = "in" // packets that came
	LeftOut       Param = "left-out"
	Limit         Param = "limit"
	Link          Param = "link"
	Message       Param = "message"
	More          Param = "more" // how many others like it, until Until
	Name          Param = "name"
	Names         Param = "names"
	Network       Param = "network"
	Notify        Param = "notify"  // the notification that was sent or came (RFC 7296 §3.10.1)
	Offered       Param = "offered" // by the device
	Out           Param = "out"     // packets that went
	Page          Param = "page"
	Passage       Param = "passage"
	Payload       Param = "payload"
	Peer          Param = "peer" // a side of a session: the device, the gateway
	Planned       Param = "planned"
	Pool          Param = "pool"
	Revision      Param = "revision"
	Round         Param = "round"
	Rule          Param = "rule"
	Said          Param = "said" // by a router
	Seconds       Param = "seconds"
	Service       Param = "service"
	Setting       Param = "setting"
	Source        Param = "source"
	Equipment     Param = "equipment"
	Suite         Param = "suite"
	Server        Param = "server"
	ProvedBy      Param = "proved-by"
	TLS           Param = "tls"
	Took          Param = "took"
	Tunnel        Param = "tunnel"
	Tunnels       Param = "tunnels"
	Until         Param = "until"
	Value         Param = "value"
	Via           Param = "via"
	Wanted        Param = "wanted" // by the plan
	Way           Param = "way"
	What          Param = "what"
	When          Param = "when"
	Who           Param = "who"
)

// With is the parameters of a cause.
type With map[Param]string

// Reason is a cause. The zero value is none.
type Reason struct {
	Code Code `json:"code,omitempty" doc:"What it is, by the codes of docs/reasons.md."`
	With With `json:"with,omitempty" doc:"What it is about: passage, tunnel, pool, offered, wanted and so on."`
}

// Of makes a reason.
func Of(code Code, with With) Reason { return Reason{code, with} }

// Among tells whether it is a cause of one of the codes.
func (r Reason) Among(codes ...Code) bool { return slices.Contains(codes, r.Code) }

// None tells whether there is no reason.
func (r Reason) None() bool { return r.Code == "" }

// And gives the reason with more parameters; those that are empty are left out.
func (r Reason) And(more With) Reason {
	with := maps.Clone(r.With)
	if with == nil {
		with = With{}
	}
	for k, v := range more {
		if v != "" {
			with[k] = v
		}
	}
	return Reason{r.Code, with}
}

// Key is the same for reasons that are the same.
func (r Reason) Key() string {
	var b strings.Builder
	b.WriteString(string(r.Code))
	for _, k := range slices.Sorted(maps.Keys(r.With)) {
		fmt.Fprintf(&b, "\x00%s\x00%s", k, r.With[k])
	}
	return b.String()
}

// Words says it to people. A code that is not known, of a newer version perhaps, is told as it is.
func (r Reason) Words() string {
	if r.None() {
		return ""
	}
	m, ok := meanings[r.Code]
	if !ok {
		return string(r.Code)
	}
	words := r.fill(m.words)
	for _, f := range frames {
		if r.With[f.has] != "" {
			words = strings.ReplaceAll(r.fill(f.words), "…", words)
		}
	}
	return words
}

// Error lets a reason be returned as one.
func (r Reason) Error() string { return r.Words() }

// KindOf is under which heading of the journal a code is written.
func KindOf(c Code) string { return meanings[c].kind }

// frames are put around the words of any cause that has their parameter; … is where those stand.
var frames = []struct {
	has   Param
	words string
}{
	{Claimed, `… (it claimed to be "{claimed}")`},
	{ProvedBy, "…, proved by {proved-by}"},
	{In, "…; {in} packets came, {out} went, {gone} were lost"},
	{More, "{more} more like this until {until}: …"},
	{LeftOut, "… ({left-out} lines of this kind before it were left out: too many in a second)"},
}

// fill puts parameters where a text has {name}. What stands in [ ] is left out where a parameter in it is not known.
func (r Reason) fill(text string) string {
	var out strings.Builder
	for text != "" {
		i := strings.IndexAny(text, "{[")
		if i < 0 {
			out.WriteString(text)
			break
		}
		out.WriteString(text[:i])
		closing := map[byte]string{'{': "}", '[': "]"}[text[i]]
		end := i + strings.Index(text[i:], closing)
		inner := text[i+1 : end]
		if text[i] == '{' {
			out.WriteString(r.With[Param(inner)])
		} else if !slices.ContainsFunc(paramsIn(inner), func(p Param) bool { return r.With[p] == "" }) {
			out.WriteString(r.fill(inner))
		}
		text = text[end+1:]
	}
	return out.String()
}

// paramsIn lists the parameters that a text names.
func paramsIn(text string) (out []Param) {
	for {
		_, rest, found := strings.Cut(text, "{")
		if !found {
			return out
		}
		name, after, _ := strings.Cut(rest, "}")
		out, text = append(out, Param(name)), after
	}
}
