package linux

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/vishvananda/netlink"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
)

const (
	lookEvery  = 5 * time.Second // at what somebody may have changed
	fightsMost = 5               // mendings within fightTime that are no accident any longer
	fightTime  = 2 * time.Minute
	backOff    = time.Minute
)

// drift is what somebody's hand changed, and how often it had to be mended.
type drift struct {
	told   string // what was told of already
	since  time.Time
	mended map[string][]time.Time // by what it was
	quiet  map[string]time.Time   // it is not mended before then
}

// watch looks at the machine every few seconds, and soon after a link, an address or a route changed.
func (p *Port) watch() {
	changed := make(chan struct{}, 1)
	nudge := func() {
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	links, addresses, ways := make(chan netlink.LinkUpdate, 64), make(chan netlink.AddrUpdate, 64), make(chan netlink.RouteUpdate, 64)
	_ = netlink.LinkSubscribe(links, p.done)
	_ = netlink.AddrSubscribe(addresses, p.done)
	_ = netlink.RouteSubscribe(ways, p.done)
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	soon := time.NewTimer(time.Hour)
	defer soon.Stop()
	for {
		select {
		case <-p.done:
			return
		case l, ok := <-links:
			if links = orNil(links, ok); ok && l.Link.Attrs().Name != p.device {
				p.moved.Store(new(time.Now()))
			}
			nudge()
		case a, ok := <-addresses:
			addresses = orNil(addresses, ok)
			if _, own := p.ours.Load(a.LinkIndex); ok && !own {
				p.moved.Store(new(time.Now()))
			}
			nudge()
		case _, ok := <-ways:
			ways = orNil(ways, ok)
			nudge()
		case <-changed:
			soon.Reset(200 * time.Millisecond)
		case <-soon.C:
			p.lookAgain(time.Now())
		case <-t.C:
			p.lookAgain(time.Now())
		}
	}
}

func orNil[T any](c chan T, ok bool) chan T {
	if ok {
		return c
	}
	return nil
}

// lookAgain holds the machine against what is wanted. What follows from another link or address is made so; what somebody's hand changed is
// told, and mended where the plan says so, less and less often where another tool keeps undoing it.
func (p *Port) lookAgain(now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.want == nil {
		p.reconcile(false)
		return
	}
	drifted := p.reconcile(false)
	if len(drifted) == 0 {
		p.drift.told = ""
		return
	}
	what, kinds := strings.Join(drifted, ", "), kindsOf(drifted)
	if p.follows(drifted, now) {
		p.reconcile(true)
		return
	}
	if !p.want.Mends && !slices.Contains(strings.Fields(kinds), "device") {
		if p.drift.told != what {
			p.drift.told, p.drift.since = what, now
			p.say(reason.Of(reason.Drifted, reason.With{reason.What: what, reason.When: now.Format(time.RFC3339)}))
		}
		p.observed.Problems = append(p.observed.Problems,
			inside.Told(reason.Of(reason.Drifted, reason.With{reason.What: what, reason.When: p.drift.since.Format(time.RFC3339)})))
		return
	}
	fought := func(n int) reason.Reason {
		return reason.Of(reason.DriftFought, reason.With{
			reason.What: what, reason.Count: strconv.Itoa(n), reason.Seconds: strconv.Itoa(int(backOff.Seconds())),
		})
	}
	if now.Before(p.drift.quiet[kinds]) {
		p.observed.Problems = append(p.observed.Problems, inside.Told(fought(len(p.drift.mended[kinds]))))
		return
	}
	p.reconcile(true)
	if n := p.drift.again(kinds, now); n >= fightsMost {
		p.drift.quiet[kinds] = now.Add(backOff)
		p.say(fought(n))
		return
	}
	p.say(reason.Of(reason.DriftMended, reason.With{reason.What: what}))
}

// kindsOf is what kinds of things differ, without which of them.
func kindsOf(drifted []string) string {
	var out []string
	for _, what := range drifted {
		kind, _, _ := strings.Cut(what, " ")
		out = append(out, kind)
	}
	return strings.Join(out, " ")
}

// again counts a mending, and gives how many there were of the same lately.
func (d *drift) again(what string, now time.Time) int {
	if d.mended == nil {
		d.mended, d.quiet = map[string][]time.Time{}, map[string]time.Time{}
	}
	lately := slices.DeleteFunc(d.mended[what], func(t time.Time) bool { return now.Sub(t) > fightTime })
	d.mended[what] = append(lately, now)
	return len(d.mended[what])
}

// follows tells whether something differs because links or addresses are others now, and not because somebody touched what is ours.
func (p *Port) follows(drifted []string, now time.Time) bool {
	for _, what := range drifted {
		switch {
		case what == "rules ("+followsLinks+")":
		case strings.HasPrefix(what, "routes ") && p.movedLately(now):
		default:
			return false
		}
	}
	return true
}

func (p *Port) movedLately(now time.Time) bool {
	at := p.moved.Load()
	return at != nil && now.Sub(*at) <= 2*lookEvery
}

func (p *Port) say(why reason.Reason) {
	p.log.Warn(why.Words())
	if p.tell != nil {
		p.tell(why)
	}
}
