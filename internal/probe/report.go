package probe

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reach"
)

const (
	loginTime  = 20 * time.Second
	wantTime   = 3 * time.Second // to reach what must be reached
	refuseTime = 1200 * time.Millisecond
	beforeTime = 800 * time.Millisecond
	atOnce     = 24
)

// Order is what a probe needs to know to try one person's expectations.
type Order struct {
	User      string        `json:"user"`
	Class     string        `json:"class"`
	Revision  int           `json:"revision"`
	Dial      string        `json:"dial" doc:"The name or address that leads to the gateway."`
	Identity  string        `json:"identity" doc:"What the gateway calls itself, by which its tunnel is asked for."`
	Tunnel    string        `json:"tunnel" doc:"The tunnel that is tried: the first that the person may use."`
	Keepalive int           `json:"keepalive" doc:"Seconds between signs of life that keep a translation open."`
	Authority string        `json:"authority" doc:"The authority's certificate, PEM."`
	Suites    []string      `json:"suites" nullable:"false"`
	Routes    []string      `json:"routes" nullable:"false" doc:"What the plan sends into the tunnel."`
	DNS       []netip.Addr  `json:"dns" nullable:"false"`
	Full      bool          `json:"full"`
	Admitted  bool          `json:"admitted" doc:"Whether a passage takes this person."`
	Trials    []reach.Trial `json:"trials" nullable:"false"`
}

// Given is what the gateway gave the device.
type Given struct {
	Addresses []netip.Addr `json:"addresses" nullable:"false"`
	DNS       []netip.Addr `json:"dns" nullable:"false"`
	Domains   []string     `json:"domains" nullable:"false"`
	Routes    []string     `json:"routes" nullable:"false"`
	Full      bool         `json:"full"`
	Suite     string       `json:"suite"`
	Behind    bool         `json:"behind" doc:"The device is behind a translation."`
}

// Result is one trial with what was seen.
type Result struct {
	reach.Trial
	Before *Seen  `json:"before,omitempty" doc:"Without the tunnel."`
	Seen   Seen   `json:"seen"`
	OK     bool   `json:"ok" doc:"Seen is what was expected."`
	Likely string `json:"likely,omitempty" doc:"Where it most likely goes wrong."`
}

// Report is everything that one probe saw.
type Report struct {
	At        time.Time `json:"at"`
	User      string    `json:"user"`
	Class     string    `json:"class"`
	Vantage   string    `json:"vantage"`
	Revision  int       `json:"revision"`
	Connected bool      `json:"connected"`
	Login     string    `json:"login" doc:"How the login went."`
	Given     *Given    `json:"given,omitempty"`
	Results   []Result  `json:"results" nullable:"false"`
	OK        bool      `json:"ok" doc:"Everything was as expected."`
	Missed    int       `json:"missed" doc:"Trials that did not see what was expected."`
	Differs   int       `json:"differs" doc:"Trials that did not see what was computed: plan and site differ."`
	Causes    []string  `json:"causes" nullable:"false" doc:"Where plan and site most likely differ."`
}

// Options of a probe beside the order.
type Options struct {
	Password string
	KeyLog   io.Writer
	Progress func(done, of int)
	// IKEPort and NATTPort are 500 and 4500 if not given.
	IKEPort, NATTPort uint16
}

// Run logs in as the person and tries everything, before connecting and after.
func Run(ctx context.Context, u Underlay, o Order, opt Options) (*Report, error) {
	login, err := o.login(opt)
	if err != nil {
		return nil, err
	}
	r := &Report{At: time.Now(), User: o.User, Class: o.Class, Vantage: u.Name(), Revision: o.Revision, Results: make([]Result, len(o.Trials)), Causes: []string{}}
	for i, t := range o.Trials {
		r.Results[i].Trial = t
	}
	done, total := 0, 2*len(o.Trials)
	var mu sync.Mutex
	step := func() {
		mu.Lock()
		defer mu.Unlock()
		if done++; opt.Progress != nil {
			opt.Progress(done, total)
		}
	}
	each(len(r.Results), func(i int) {
		r.before(ctx, u, i)
		step()
	})
	bounded, cancel := context.WithTimeout(ctx, loginTime)
	tunnel, err := Connect(bounded, u, login)
	cancel()
	if err != nil {
		r.notConnected(o, err)
		return r, nil
	}
	defer tunnel.Close()
	r.connected(tunnel)
	each(len(r.Results), func(i int) {
		r.after(ctx, tunnel, u, i)
		step()
	})
	r.judge()
	return r, nil
}

// each runs f for 0 to n-1, some at once.
func each(n int, f func(i int)) {
	var wg sync.WaitGroup
	slots := make(chan struct{}, atOnce)
	for i := range n {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			f(i)
		})
	}
	wg.Wait()
}

func point(service string) netset.Point {
	set, _ := netset.ParseServices(service)
	p, _ := set.Example()
	return p
}

// before tries what must be reached inside without the tunnel: if that works, the trial says nothing about the tunnel.
func (r *Report) before(ctx context.Context, u Underlay, i int) {
	t := r.Results[i]
	if !t.Want || t.Network == "" || !u.Address(t.Dst).IsValid() {
		return
	}
	bounded, cancel := context.WithTimeout(ctx, beforeTime)
	defer cancel()
	seen := attempt(bounded, u, t.Dst, point(t.Service))
	r.Results[i].Before = &seen
}

func (r *Report) connected(t *Tunnel) {
	g := t.Given
	r.Connected = true
	r.Login = "logged in with " + g.Suite
	r.Given = &Given{Addresses: g.Addresses, DNS: append([]netip.Addr{}, g.DNS...), Domains: append([]string{}, g.Domains...), Routes: []string{}, Full: g.Full, Suite: g.Suite, Behind: g.Behind}
	for _, s := range g.Routes {
		r.Given.Routes = append(r.Given.Routes, s.String())
	}
	if g.Full {
		r.Given.Routes = []string{"everything"}
	}
}

// after tries through the tunnel. What must be reached goes the way that the device's routes say; what must not goes into the tunnel
// whatever they say, for a person controls their device.
func (r *Report) after(ctx context.Context, tunnel *Tunnel, u Underlay, i int) {
	res := &r.Results[i]
	limit := refuseTime
	if res.Want {
		limit = wantTime
	}
	bounded, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	dst := res.Dst
	if res.Name != "" {
		found, err := resolve(bounded, tunnelPath{tunnel}.DialUDP, tunnel.Given.DNS, res.Name)
		if err != nil {
			res.Seen = Seen{Words: "the name " + res.Name + " does not resolve: " + err.Error()}
			return
		}
		if !slices.Contains(found, dst) {
			res.Seen = Seen{Words: fmt.Sprintf("the name %s resolves to %s, the plan says %s", res.Name, addrList(found), dst)}
			return
		}
	}
	var way path = tunnelPath{tunnel}
	if res.Want && !tunnel.Given.Routes.Contains(dst) {
		way = u
		if !u.Address(dst).IsValid() {
			res.Seen = Seen{Words: "the device does not send it into the tunnel, and its own network has no such address family"}
			return
		}
	}
	res.Seen = attempt(bounded, way, dst, point(res.Service))
	if res.Name != "" {
		res.Seen.Words += ", by name " + res.Name
	}
}

func addrList(as []netip.Addr) string {
	words := make([]string, len(as))
	for i, a := range as {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

func (r *Report) notConnected(o Order, err error) {
	r.Login = err.Error()
	for i := range r.Results {
		res := &r.Results[i]
		res.Seen = Seen{Words: "not connected"}
		res.OK = !res.Want
		if !res.OK {
			r.Missed++
		}
	}
	if !o.Admitted {
		r.OK = r.Missed == 0
		return
	}
	r.Differs++
	r.Causes = append(r.Causes, cause(err))
}

// cause says at which station before the gateway's rules a login was lost.
func cause(err error) string {
	var refused ike.RefusedError
	switch {
	case errors.Is(err, ErrSilent4500):
		return "station outside: the plan says that UDP 4500 arrives at the gateway; the site loses it on the way. Look at the router and the provider in front of the gateway: it must pass UDP 500 and 4500 (gateways/…/outside)"
	case errors.Is(err, ErrSilent500):
		return "station outside: nothing answers where the plan says the gateway is. Look at the address that the public name resolves to, and at the router in front of the gateway (gateways/…/outside)"
	case errors.Is(err, ike.ErrCertificate):
		return "station login: the device does not accept the gateway's certificate (tunnels/…/certificate): " + err.Error()
	case errors.As(err, &refused):
		return "station login: " + err.Error() + "; the journal says why"
	}
	return "station login: " + err.Error()
}

// Answered tells whether what was seen counts as reached: what must be reached must serve, unless a whole network is meant.
func (r Result) Answered() bool {
	if r.Want && !r.AnyAnswer {
		return r.Seen.Served
	}
	return r.Seen.Reached
}

// judge compares what was seen with what was expected and computed, and works out where a difference most likely lies.
func (r *Report) judge() {
	for i := range r.Results {
		res := &r.Results[i]
		got := res.Answered()
		res.OK = got == res.Want
		if res.Before != nil && res.Before.Reached {
			res.OK = false
			res.Likely = "it answers without the tunnel too: this vantage says nothing about the tunnel"
		}
		if !res.OK {
			r.Missed++
		}
		if got != res.Computed && res.Before.unreached() {
			r.Differs++
		}
	}
	for i := range r.Results {
		res := &r.Results[i]
		if res.OK || res.Likely != "" {
			continue
		}
		switch {
		case !res.Want && res.Seen.Reached && res.Computed:
			res.Likely = "station rules: the plan permits it"
		case !res.Want:
			res.Likely = "the plan does not permit it, yet it is reached: the gateway's forwarding is at fault, please report it"
		case !res.Computed:
			res.Likely = fmt.Sprintf("the plan does not let it through: yl journey --from %s --to %s --service %s shows where", r.User, res.Dst, res.Service)
		default:
			res.Likely = r.surroundings(res)
			if !slices.Contains(r.Causes, res.Likely) {
				r.Causes = append(r.Causes, res.Likely)
			}
		}
	}
	r.OK = r.Missed == 0 && r.Differs == 0
}

func (s *Seen) unreached() bool { return s == nil || !s.Reached }

// surroundings says what most likely differs where the plan lets a packet through and nothing comes of it.
func (r *Report) surroundings(res *Result) string {
	if strings.Contains(res.Seen.Words, "does not resolve") || strings.Contains(res.Seen.Words, "resolves to") {
		return fmt.Sprintf("station names: %s (hosts/%s/dns, the name server)", res.Seen.Words, res.Place)
	}
	if res.Seen.Reached {
		return fmt.Sprintf("station host: %s is reached, but does not listen on %s (hosts/%s): start the service there, or correct the plan", res.Place, res.Service, res.Place)
	}
	hostAlive, networkAlive := false, false
	for _, other := range r.Results {
		if other.Want && other.Seen.Reached && other.Network == res.Network && other.Dst.Is4() == res.Dst.Is4() {
			networkAlive = true
			hostAlive = hostAlive || other.Dst == res.Dst
		}
	}
	switch {
	case strings.Contains(res.Seen.Words, "said by"):
		return fmt.Sprintf("station onward: a router on the way to %s gives it up: %s", res.Place, res.Seen.Words)
	case hostAlive:
		return fmt.Sprintf("station host: %s answers other services but not %s: a packet filter on the host, or the service (hosts/%s)", res.Place, res.Service, res.Place)
	case networkAlive:
		return fmt.Sprintf("station host: others on network %s answer, %s does not: it is down, or has another address (hosts/%s)", res.Network, res.Place, res.Place)
	case res.Network == "":
		return "station translation: the gateway sends it to the internet and nothing comes back: its way out, or the translation to its outside address"
	}
	return fmt.Sprintf("station return: nothing on network %s answers, though the plan says its router knows the way back to the pool: look at that router's routes (networks/%s/router)", res.Network, res.Network)
}

// Open only logs in, as an order says.
func Open(ctx context.Context, u Underlay, o Order, opt Options) (*Tunnel, error) {
	login, err := o.login(opt)
	if err != nil {
		return nil, err
	}
	bounded, cancel := context.WithTimeout(ctx, loginTime)
	defer cancel()
	return Connect(bounded, u, login)
}

func (o Order) login(opt Options) (Login, error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(o.Authority)) {
		return Login{}, errors.New("the authority's certificate cannot be read")
	}
	login := Login{Dial: o.Dial, Identity: o.Identity, Keepalive: time.Duration(o.Keepalive) * time.Second, User: o.User, Password: opt.Password, Roots: roots, KeyLog: opt.KeyLog,
		IKEPort: cmp.Or(opt.IKEPort, 500), NATTPort: cmp.Or(opt.NATTPort, 4500)}
	for _, name := range o.Suites {
		if s, ok := ike.SuiteNamed(name); ok {
			login.Suites = append(login.Suites, s)
		}
	}
	return login, nil
}
