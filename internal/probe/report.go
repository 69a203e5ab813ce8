package probe

import (
	"context"
	"crypto"
	"crypto/x509"
	"errors"
	"io"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/underlay"
)

const (
	loginTime  = 20 * time.Second
	wantTime   = 3 * time.Second // to reach what must be reached
	refuseTime = 1200 * time.Millisecond
	edgeTime   = 700 * time.Millisecond
	beforeTime = 800 * time.Millisecond
	atOnce     = 24
)

// Order is what a probe needs to know to try one person's expectations.
type Order struct {
	User       string         `json:"user"`
	Class      string         `json:"class"`
	Revision   int            `json:"revision"`
	Dial       string         `json:"dial" doc:"The name or address that leads to the gateway."`
	Identity   string         `json:"identity" doc:"What the gateway calls itself, by which its tunnel is asked for."`
	Tunnel     string         `json:"tunnel" doc:"The tunnel that is tried: the first that the person may use."`
	Kind       string         `json:"kind,omitempty" doc:"Of that tunnel; ikev2 if not given."`
	TCPPort    int            `json:"tcp-port,omitempty" doc:"Where the gateway also answers over TCP; 0: nowhere."`
	MTU        int            `json:"mtu,omitempty" doc:"Of the tunnel, inside, in octets."`
	Proof      string         `json:"proof,omitempty" enum:"certificate,public-key,pre-shared-key,certificate-and-eap-mschapv2" doc:"What the tunnel wants in place of a password, or before it."`
	Service    string         `json:"service,omitempty" doc:"Where a device has its certificate renewed, where the tunnel wants one."`
	MixedIn    string         `json:"mixed-in-key,omitempty" enum:"accept,demand" doc:"Whether a key is mixed into those for traffic."`
	Keepalive  int            `json:"keepalive" doc:"Seconds between signs of life that keep a translation open."`
	Authority  string         `json:"authority" doc:"The authority's certificate, PEM."`
	Algorithms algorithm.Set  `json:"algorithms"`
	Routes     []string       `json:"routes" nullable:"false" doc:"What the plan sends into the tunnel."`
	Permitted  []netip.Prefix `json:"permitted,omitempty" doc:"What may go into the tunnel, as prefixes; a device takes no other routes from its gateway. A full tunnel has none."`
	Pool       []string       `json:"pool" nullable:"false" doc:"Prefixes that the person's addresses come from."`
	DNS        []netip.Addr   `json:"dns" nullable:"false"`
	Domains    []string       `json:"domains" nullable:"false"`
	Outside    []netip.Addr   `json:"outside" nullable:"false" doc:"The addresses by which a full tunnel is seen on the internet."`
	Passage    string         `json:"passage,omitempty"`
	Own        []netip.Addr   `json:"own" nullable:"false" doc:"The gateway's own inside addresses, by which it says that it refuses something."`
	Trouble    []string       `json:"trouble" nullable:"false" doc:"What does not run, or carries nothing, at the gateway itself."`
	Inside     []netip.Prefix `json:"inside" nullable:"false" doc:"The gateway's own networks: a trial from there is none from outside."`
	Full       bool           `json:"full"`
	CodePage   string         `json:"code-page,omitempty" doc:"Where the person gives their second factor once they are connected; empty: none is asked for."`
	Strict     bool           `json:"strict,omitempty" doc:"A connection that stays lets nothing of what belongs into the tunnel leave in clear while there is none."`
	Admitted   bool           `json:"admitted" doc:"Whether a passage takes this person."`
	Trials     []reach.Trial  `json:"trials" nullable:"false"`

	fromGateway bool // it is tried from the gateway host itself
}

// Given is what the gateway gave the device.
type Given struct {
	Addresses []netip.Addr `json:"addresses" nullable:"false"`
	DNS       []netip.Addr `json:"dns" nullable:"false"`
	Domains   []string     `json:"domains" nullable:"false"`
	Routes    []string     `json:"routes" nullable:"false"`
	Full      bool         `json:"full"`
	Suite     string       `json:"suite"`
	Over      string       `json:"over" enum:"UDP,TCP" doc:"What carries the tunnel."`
	Behind    bool         `json:"behind" doc:"The device is behind a translation."`
}

// Result is one trial with what was seen.
type Result struct {
	reach.Trial
	Before *Seen `json:"before,omitempty" doc:"Without the tunnel."`
	Seen   Seen  `json:"seen"`
	OK     bool  `json:"ok" doc:"Seen is what was expected."`
	// Untried says that nothing is known of it but Before: the person did not get in, and should have, or nobody there was found.
	Untried bool   `json:"untried,omitempty" doc:"Nothing is known of it: the login failed, and should not have; or nobody is named there and nobody answered."`
	Likely  string `json:"likely,omitempty" doc:"Where it most likely goes wrong."`
	// Home is the device's own network, where it hides the destination from the tunnel.
	Home string `json:"home,omitempty" doc:"The network that the device is on, which holds the destination too and hides it."`
}

// Report is everything that one probe saw.
type Report struct {
	At        time.Time    `json:"at"`
	User      string       `json:"user"`
	Class     string       `json:"class"`
	Tester    bool         `json:"tester,omitempty" doc:"It was an identity made for the trial, not a person."`
	Vantage   string       `json:"vantage"`
	Handed    bool         `json:"handed-in,omitempty" doc:"It was made elsewhere and handed in: nothing vouches for what it says, and it counts nowhere as tried."`
	By        string       `json:"handed-in-by,omitempty" doc:"Who handed it in."`
	Passage   string       `json:"passage,omitempty"`
	Revision  int          `json:"revision"`
	Inside    bool         `json:"inside,omitempty" doc:"It ran on the gateway's own network or machine: no trial from outside."`
	AtGateway bool         `json:"at-gateway,omitempty" doc:"It ran on the gateway host itself: everything was sent by the tunnel, also what the host reaches without one, and nothing is said of the way in from outside."`
	NotTried  bool         `json:"not-tried,omitempty" doc:"Nothing is known from there: nothing could be tried, or the gateway has no record of it."`
	Connected bool         `json:"connected"`
	Login     string       `json:"login" doc:"How the login went."`
	Fault     reason.Code  `json:"fault,omitempty" enum:"silent-500,silent-4500,silent-tcp,stopped-answering,certificate,refused,name,other" doc:"Why there is no session, where there should be one."`
	Dialled   []netip.Addr `json:"dialled" nullable:"false" doc:"Where the dialled name leads, as it is seen from there."`
	Given     *Given       `json:"given,omitempty"`
	Checks    []Check      `json:"checks" nullable:"false" doc:"What the device was given, and what its tunnel carries."`
	Largest   int          `json:"largest,omitempty" doc:"Largest packet that passes through the tunnel and back, in octets; 0: not known."`
	Results   []Result     `json:"results" nullable:"false"`
	OK        bool         `json:"ok" doc:"Everything was as expected."`
	Missed    int          `json:"missed" doc:"Trials that did not see what was expected."`
	Differs   int          `json:"differs" doc:"Trials that did not see what was computed: plan and site differ."`
	Causes    []string     `json:"causes" nullable:"false" doc:"Where plan and site most likely differ."`

	own []netip.Addr // the gateway's
}

// Tried counts what was tried.
func (r *Report) Tried() (n int) {
	for _, x := range r.Results {
		if !x.Untried {
			n++
		}
	}
	return n
}

// Options of a probe beside the order.
type Options struct {
	Password     string
	NextPassword string // to choose where the gateway wants another; empty: the login ends there
	// Key is what the device proves itself with in place of the password, by tunnels that want one, with its certificate, DER.
	Key         crypto.Signer
	Certificate []byte
	Above       [][]byte // those between it and its authority, where it is not the gateway's own that issued it
	SharedKey   []byte   // in place of both, by tunnels that want one
	MixedIn     []byte   // the key that goes into those for traffic, by tunnels that mix one in, and what it is called; nil: none
	MixedInID   string
	Addresses   int    // of each family that are asked for; 0: one
	Code        string // of the second factor, given on the code page once the session stands
	Tester      bool   // the user is an identity made for the trial
	KeyLog      io.Writer
	Progress    func(done, of int)
	// Ports are in place of the kind's own, by the names that it has for them.
	Ports map[string]uint16
}

// Run logs in as the person and tries everything, before connecting and after.
func Run(ctx context.Context, u underlay.Underlay, o Order, opt Options) (*Report, error) {
	if at := atGateway(u, o); at.IsValid() {
		o.Dial, o.fromGateway = at.String(), true
	}
	login, err := o.Login(opt)
	if err != nil {
		return nil, err
	}
	r := &Report{
		At: time.Now(), User: o.User, Class: o.Class, Vantage: u.Name(), Passage: o.Passage, Tester: opt.Tester,
		Inside: fromInside(u, o), AtGateway: o.fromGateway, own: o.Own, Revision: o.Revision, Results: make([]Result, len(o.Trials)), Checks: []Check{}, Dialled: dialled(ctx, u, o), Causes: []string{},
	}
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
	tunnel, err := Connect(bounded, u, o.Kind, login)
	cancel()
	if err != nil {
		r.notConnected(o, err)
		r.trouble(o)
		return r, nil
	}
	defer tunnel.Close()
	r.connected(tunnel)
	if o.CodePage != "" && !opt.Tester {
		r.giveCode(ctx, tunnel, o, opt.Code)
	}
	var pace pace
	for _, wanted := range []bool{true, false} { // what shall answer first: it tells how long an answer takes here
		each(len(r.Results), func(i int) {
			if r.Results[i].awaited() == wanted {
				r.after(ctx, tunnel, u, i, &pace)
				step()
			}
		})
	}
	r.check(ctx, tunnel, o)
	r.judge()
	r.trouble(o)
	return r, nil
}

// trouble says first what is wrong with the gateway itself: nothing that was seen is then the plan's fault.
func (r *Report) trouble(o Order) {
	if len(o.Trouble) > 0 {
		r.OK = false
		r.Causes = append(slices.Clone(o.Trouble), r.Causes...)
	}
}

// dialled looks up where people would go.
func dialled(ctx context.Context, u underlay.Underlay, o Order) []netip.Addr {
	bounded, cancel := context.WithTimeout(ctx, wantTime)
	defer cancel()
	found, err := dial.Addresses(bounded, u, o.Dial)
	if err != nil {
		return []netip.Addr{}
	}
	return found
}

// each runs f for 0 to n-1, some at once.
func each(n int, f func(i int)) {
	var wg guard.Group
	slots := make(chan struct{}, atOnce)
	for i := range n {
		slots <- struct{}{}
		wg.Go("probe.each", func() {
			defer func() { <-slots }()
			f(i)
		})
	}
	wg.Wait()
}

// awaited says that an answer is waited for because somebody needs it.
func (r Result) awaited() bool { return r.Want && !r.Edge }

// pace is how long answers take on a path: silence is believed only after several times as long as an answer took, or a slow path
// would seem to keep out what it merely brings late.
type pace struct {
	mu      sync.Mutex
	slowest time.Duration
}

func (p *pace) answered(took time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.slowest = max(p.slowest, took)
}

func (p *pace) wait(least time.Duration) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return max(least, min(3*p.slowest, 3*wantTime))
}

func point(service string) netset.Point {
	set, _ := netset.ParseServices(service)
	p, _ := set.Example()
	return p
}

// before tries what must be reached inside without the tunnel: if that works, the trial says nothing about the tunnel.
func (r *Report) before(ctx context.Context, u underlay.Underlay, i int) {
	t := r.Results[i]
	if !t.Want || t.Network == "" || r.AtGateway || !u.Address(t.Dst).IsValid() {
		return
	}
	bounded, cancel := context.WithTimeout(ctx, beforeTime)
	defer cancel()
	seen := attempt(bounded, u, t.Dst, point(t.Service), nil)
	r.Results[i].Before = &seen
}

func (r *Report) connected(t *Tunnel) {
	g := t.Given
	r.Connected = true
	r.Login = "logged in with " + g.Algorithms
	if g.Over == session.OverTCP {
		r.Login += " over TCP, for UDP is not answered from here"
	}
	r.Given = &Given{
		Addresses: g.Addresses, DNS: append([]netip.Addr{}, g.DNS...), Domains: append([]string{}, g.Domains...),
		Routes: []string{}, Full: g.Full, Suite: g.Algorithms, Over: g.Over, Behind: g.Behind,
	}
	for _, s := range g.Routes {
		r.Given.Routes = append(r.Given.Routes, s.String())
	}
	if g.Full {
		r.Given.Routes = []string{"everything"}
	}
}

// after tries through the tunnel. What must be reached goes the way that the device's routes say; what must not goes into the tunnel
// whatever they say, for a person controls their device.
func (r *Report) after(ctx context.Context, tunnel *Tunnel, u underlay.Underlay, i int, pace *pace) {
	res := &r.Results[i]
	limit := pace.wait(refuseTime)
	if res.Edge {
		limit = pace.wait(edgeTime)
	} else if res.Want {
		limit = wantTime
		defer func(begun time.Time) {
			if res.Seen.Reached {
				pace.answered(time.Since(begun))
			}
		}(time.Now())
	}
	bounded, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	dst := res.Dst
	if res.Name != "" {
		found, err := underlay.Resolve(bounded, tunnelPath{tunnel}.DialUDP, tunnel.Given.DNS, res.Name)
		if err != nil {
			res.Seen = unresolved(res.Name, err)
			return
		}
		if !slices.Contains(found, dst) {
			res.Seen = saw(reason.NameElsewhere,
				reason.With{reason.Name: res.Name, reason.Addresses: addrList(found), reason.Planned: dst.String()})
			return
		}
	}
	var way path = tunnelPath{tunnel}
	if r.AtGateway { // its own networks hide nothing: they are what is behind the tunnel
		if res.Want && !tunnel.Given.Routes.Contains(dst) {
			res.Seen = saw(reason.NotRouted, nil)
			return
		}
	} else if home := u.OnLink(dst); res.Want && home.IsValid() && tunnel.Given.Routes.Covers(netset.OfPrefixes(home)) {
		way, res.Home = u, home.String() // the device prefers its own network to a route that is no more specific
	} else if res.Want && !tunnel.Given.Routes.Contains(dst) {
		way = u
		if !u.Address(dst).IsValid() {
			res.Seen = saw(reason.NotRouted, nil)
			return
		}
	}
	res.Seen = attempt(bounded, way, dst, point(res.Service), tunnel.Given.Domains)
	if res.Name != "" {
		res.Seen = res.Seen.with(reason.With{reason.Name: res.Name})
	}
}

// unresolved says that a name led nowhere.
func unresolved(name string, err error) Seen {
	var why reason.Reason
	if errors.As(err, &why) {
		return saw(why.Code, why.With)
	}
	return saw(reason.NameUnresolved, reason.With{reason.Name: name, reason.Error: err.Error()})
}

func addrList(as []netip.Addr) string {
	words := make([]string, len(as))
	for i, a := range as {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

// Open only logs in, as an order says.
func Open(ctx context.Context, u underlay.Underlay, o Order, opt Options) (*Tunnel, error) {
	login, err := o.Login(opt)
	if err != nil {
		return nil, err
	}
	bounded, cancel := context.WithTimeout(ctx, loginTime)
	defer cancel()
	return Connect(bounded, u, o.Kind, login)
}

// Login is what a device needs to connect as an order says.
func (o Order) Login(opt Options) (dial.Login, error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(o.Authority)) {
		return dial.Login{}, errors.New("the authority's certificate cannot be read")
	}
	var chain [][]byte
	both, inside := o.Proof == plan.LoginBoth, o.Proof == plan.LoginEAPTLS
	if opt.Key != nil && (o.Proof == plan.LoginCertificate || both || inside) {
		chain = append([][]byte{opt.Certificate}, opt.Above...)
	}
	if o.Proof != plan.LoginCertificate && o.Proof != plan.LoginPublicKey && !both && !inside {
		opt.Key = nil
	}
	if o.Proof != plan.LoginSharedKey {
		opt.SharedKey = nil
	}
	var mixedIn *dial.MixedIn
	if o.MixedIn != "" && opt.MixedIn != nil { // the plan that made the order mixes it in: nobody may take that away on the way
		mixedIn = &dial.MixedIn{ID: opt.MixedInID, Secret: opt.MixedIn, Demand: true}
	}
	return dial.Login{
		Key: opt.Key, Chain: chain, Both: both, InEAP: inside, SharedKey: opt.SharedKey, MixedIn: mixedIn, Dial: o.Dial, Identity: o.Identity, Keepalive: time.Duration(o.Keepalive) * time.Second, User: o.User, Password: opt.Password, NextPassword: opt.NextPassword, Roots: roots,
		Algorithms: o.Algorithms, KeyLog: opt.KeyLog, TCPPort: uint16(o.TCPPort), MTU: o.MTU, Ports: opt.Ports, Addresses: opt.Addresses,
	}, nil
}
