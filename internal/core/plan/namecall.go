package plan

import (
	"net/netip"
	"net/url"
	"regexp"
	"strings"
)

// NameCall is an HTTP call that tells whoever publishes the dialled name which addresses the gateway has.
type NameCall struct {
	Name    string   `json:"name" eg:"registrar" doc:"Its name."`
	Method  string   `json:"method,omitempty" enum:"get,post,put,patch" doc:"post if not given."`
	URL     string   `json:"url" eg:"https://names.tern.example/{name}/{ipv4}" doc:"The address of the page. {name} stands for the dialled name, {ipv4} and {ipv6} for the gateway's address of that family, or for nothing where it has none. Without an address there or in the body, whoever is called must take the one that the call comes from."`
	Body    string   `json:"body,omitempty" eg:"{\"a\": \"{ipv4}\"}" doc:"What is sent, with the same places."`
	Type    string   `json:"type,omitempty" eg:"application/json" doc:"The body's media type."`
	User    string   `json:"user,omitempty" eg:"jetty" doc:"Whom the secret is the password of (RFC 7617)."`
	Secret  string   `json:"secret,omitempty" kept:"secret" eg:"registrar" doc:"Name of a secret that is kept beside the plan. Without a user or header it is sent as a bearer token (RFC 6750)."`
	Header  string   `json:"header,omitempty" eg:"X-Token" doc:"The header field that the secret is sent in, in place of that."`
	Answers []string `json:"answers,omitempty" nullable:"false" eg:"good" doc:"What the answer must hold, one of them; none: any answer in the 200s is success."`
	Every   Duration `json:"every,omitempty" eg:"1m" doc:"How often the addresses are looked at, 10s to 1h; 1m if not given. A call is made when they changed, and after a failure, less and less often up to once an hour."`
	Again   Duration `json:"again,omitempty" eg:"168h" doc:"After so long the call is made although nothing changed, 1m to 720h; never if not given."`
}

var place = regexp.MustCompile(`\{([a-z0-9]+)\}`)

// Places of a call.
const (
	placeName = "{name}"
	placeIPv4 = "{ipv4}"
	placeIPv6 = "{ipv6}"
)

// Unknown gives the places in url and body that stand for nothing.
func (c NameCall) Unknown() (out []string) {
	for _, p := range place.FindAllString(c.URL+c.Body, -1) {
		if p != placeName && p != placeIPv4 && p != placeIPv6 {
			out = append(out, p)
		}
	}
	return out
}

// Tells tells whether the call itself says an address.
func (c NameCall) Tells() bool {
	all := c.URL + c.Body
	return strings.Contains(all, placeIPv4) || strings.Contains(all, placeIPv6)
}

// Expand puts a name and addresses into the places of url or body. In a url they are escaped.
func (c NameCall) Expand(text, name string, addrs []netip.Addr) string {
	escape := func(s string) string { return s }
	if text == c.URL {
		escape = url.QueryEscape
	}
	first := func(v4 bool) string {
		for _, a := range addrs {
			if a.Is4() == v4 {
				return a.String()
			}
		}
		return ""
	}
	return strings.NewReplacer(placeName, escape(name), placeIPv4, escape(first(true)), placeIPv6, escape(first(false))).Replace(text)
}
