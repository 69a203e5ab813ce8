package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/capture"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/algorithm"
	systems "yellowlantern/internal/core/devices"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
)

func deviceCommand(p *printer) *cli.Command {
	return &cli.Command{Name: "device", Usage: "what people's devices offer", Commands: []*cli.Command{{
		Name: "offer", Usage: "read a device's first message from a recording, and say whether it would be answered", ArgsUsage: "FILE",
		Description: "FILE is what any packet analyser wrote (PCAP, PCAPNG), at the device, at the gateway or on the way.\n" +
			"It is held against the tunnels of the running plan, of a draft, or against a level, which needs no service.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "draft", Usage: "a draft in place of the running plan"}, &cli.StringFlag{Name: "level", Usage: "hold it against this level of algorithms: strict, broad or legacy"}, filterFlag(),
		},
		Action: p.deviceOffer,
	}}}
}

// Held is what a tunnel would make of an offer.
type Held struct {
	Tunnel   string        `json:"tunnel"`
	Answered bool          `json:"answered"`
	Suite    string        `json:"suite,omitempty"`
	Again    bool          `json:"again,omitempty" doc:"It is first asked to begin with another group."`
	Add      algorithm.Set `json:"add,omitzero" doc:"The smallest addition by which it would be."`
	Edits    []plan.Edit   `json:"edits,omitempty"`
	SetUp    string        `json:"set-up,omitempty" doc:"By what the device can be set up so that it would be."`
}

// Offered is a device's first message, and what would become of it.
type Offered struct {
	At   time.Time `json:"at"`
	From string    `json:"from"`
	To   string    `json:"to"`
	ike.Offer
	Like []string `json:"like" nullable:"false" doc:"Which systems' own clients offer just that, by their makers' documents."`
	Held []Held   `json:"held" nullable:"false"`
}

func (p *printer) deviceOffer(ctx context.Context, c *cli.Command) error {
	path, err := argument(c, "file")
	if err != nil {
		return err
	}
	tunnels, err := offeredTo(ctx, c)
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return Failing(ExitUsage, "%w", err)
	}
	defer f.Close()
	out, seen, unread := []Offered{}, map[string]bool{}, ""
	err = capture.IKE(f, func(m capture.Message) error {
		o, err := ike.ReadOffer(m.Data)
		if errors.Is(err, ike.ErrNoOffer) {
			return nil
		}
		if err != nil {
			unread = fmt.Sprintf("%s, from %s at %s", err, m.From, m.At.Local().Format(time.TimeOnly))
			return nil
		}
		key := o.SPI + m.From.String() + o.Group
		if seen[key] { // sent again
			return nil
		}
		seen[key] = true
		x := Offered{At: m.At, From: m.From.String(), To: m.To.String(), Offer: o, Like: like(o), Held: []Held{}}
		for _, t := range tunnels {
			x.Held = append(x.Held, heldTo(t, o))
		}
		if matches(c.String("filter"), x.From, x.To, strings.Join(x.Like, " ")) {
			out = append(out, x)
		}
		return nil
	})
	switch {
	case err != nil:
		return Failing(ExitUsage, "%s: %w", path, err)
	case len(out) == 0 && unread != "":
		return Failing(ExitNot, "%s holds a first message that cannot be read: %s", path, unread)
	case len(out) == 0:
		return Failing(ExitNot, "%s holds no first message of a device (IKE_SA_INIT, UDP 500 or 4500, or TCP): begin to record before it connects", path)
	}
	if printed, err := p.value(out); printed {
		return err
	}
	for i, x := range out {
		if i > 0 {
			p.say("")
		}
		p.offer(x)
	}
	return nil
}

// offeredTo are the tunnels that an offer is held against.
func offeredTo(ctx context.Context, c *cli.Command) ([]plan.Tunnel, error) {
	if level := c.String("level"); level != "" {
		if !slices.Contains([]string{algorithm.Strict, algorithm.Broad, algorithm.Legacy}, level) {
			return nil, Failing(ExitUsage, "--level takes strict, broad or legacy, not %q", level)
		}
		own := &plan.IKEv2{Algorithms: &plan.Algorithms{Level: level}}
		return []plan.Tunnel{{Name: "of level " + level, Kind: plan.KindIKEv2, Own: own}}, nil
	}
	var out []plan.Tunnel
	return out, call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
		var text string
		if name := c.String("draft"); name != "" {
			d, err := client.Get[plans.Draft](ctx, cl, "/drafts/"+name)
			if err != nil {
				return err
			}
			text = d.Text
		} else {
			r, err := client.Get[plans.Revision](ctx, cl, "/revisions/0")
			if err != nil {
				return err
			}
			text = r.Text
		}
		doc, err := plan.Read(text)
		if err != nil {
			return err
		}
		for _, t := range doc.Plan.Tunnels {
			if !t.Off && t.Kind == plan.KindIKEv2 {
				out = append(out, t)
			}
		}
		if len(out) == 0 {
			return Failing(ExitNot, "the plan has no tunnel of kind ikev2 that is on: hold it against a level (--level broad)")
		}
		return nil
	})(ctx, c)
}

// like names the systems whose own clients offer just what a message does.
func like(o ike.Offer) []string {
	out := []string{}
	for _, d := range alike(o) {
		if d.Tried {
			out = append(out, d.Name)
		} else {
			out = append(out, d.Name+", not set up, by what its maker writes")
		}
	}
	return out
}

func alike(o ike.Offer) (out []systems.Platform) {
	var all algorithm.Set
	for _, s := range o.Proposals {
		for _, k := range algorithm.Kinds {
			list := all.Kind(k)
			for _, w := range *s.Kind(k) {
				if !slices.Contains(*list, w) {
					*list = append(*list, w)
				}
			}
		}
	}
	for _, d := range systems.Platforms {
		if sameWords(all, d.Default) {
			out = append(out, d)
		}
	}
	return out
}

func sameWords(a, b algorithm.Set) bool {
	for _, k := range algorithm.Kinds {
		x, y := slices.Sorted(slices.Values(*a.Kind(k))), slices.Sorted(slices.Values(*b.Kind(k)))
		if !slices.Equal(x, y) {
			return false
		}
	}
	return true
}

func heldTo(t plan.Tunnel, o ike.Offer) Held {
	h := Held{Tunnel: t.Name}
	set := t.IKEv2().Set()
	policy, err := ike.PolicyOf(set)
	if a := t.IKEv2().Algorithms; a != nil && a.Demand {
		policy = policy.Demanding()
	}
	if err == nil {
		if h.Suite, h.Again, h.Answered = policy.Answered(o); h.Answered {
			return h
		}
	}
	if add, ok := set.Least(o.Proposals); ok {
		if h.Add = add; t.Gateway != "" { // of a plan
			h.Edits = t.Adding(add)
		}
	}
	for _, d := range alike(o) {
		if set.Lacks(d.Able).None() && d.Setting != "" {
			h.SetUp = d.Setting
		}
	}
	return h
}

func (p *printer) offer(x Offered) {
	yes := map[bool]string{true: "yes", false: "no"}
	p.say("first message of %s, from %s to %s", x.At.Local().Format("2006-01-02 15:04:05"), x.From, x.To)
	for i, s := range x.Proposals {
		p.say("  offers       %s", s)
		if i == 7 && len(x.Proposals) > 8 {
			p.say("               and %d more proposals", len(x.Proposals)-8)
			break
		}
	}
	if len(x.Unknown) > 0 {
		p.say("  and          %s, which %s not carried out here", strings.Join(x.Unknown, ", "), map[bool]string{true: "is", false: "are"}[len(x.Unknown) == 1])
	}
	p.say("  begins with  %s%s", x.Group, map[bool]string{true: ", after a cookie"}[x.Cookie])
	hashes := strings.Join(x.Hashes, ", ")
	if hashes == "" {
		hashes = "by the older methods alone"
	}
	p.say("  takes        messages in parts: %s; signatures: %s; additional key exchanges: %s; being sent on: %s", yes[x.Parts], hashes,
		yes[x.Further], yes[x.Follows])
	if len(x.Like) > 0 {
		p.say("  looks like   %s", strings.Join(x.Like, ", or "))
	} else {
		p.say("  looks like   no system's own client as it comes; it may have been set up")
	}
	for _, h := range x.Held {
		switch {
		case h.Answered && h.Again:
			p.say("✓ tunnel %s: answered with %s, once it begins anew with that group, as it is asked to", h.Tunnel, h.Suite)
		case h.Answered:
			p.say("✓ tunnel %s: answered with %s", h.Tunnel, h.Suite)
		case h.Add.None():
			p.say("✗ tunnel %s: refused (NO_PROPOSAL_CHOSEN): it demands an additional key exchange, or names no algorithms", h.Tunnel)
		default:
			p.say("✗ tunnel %s: refused (NO_PROPOSAL_CHOSEN); the smallest addition: %s%s", h.Tunnel, h.Add, map[bool]string{true: ", which no longer withstands attacks"}[h.Add.Weak()])
			for _, e := range h.Edits {
				p.say("    yl plan %s %s %s", e.Op, e.Path, quotedValue(e.Value))
			}
			if h.SetUp != "" {
				p.say("  or the device is set up for what the tunnel has: %s", h.SetUp)
			}
		}
	}
	p.say("not seen in a first message: who it is and which tunnel it asks for, how it logs in, what it asks for, whether it moves")
}

// quotedValue writes an edit's value for a shell.
func quotedValue(v string) string {
	if strings.ContainsAny(v, " []{}") {
		return "'" + v + "'"
	}
	return v
}
