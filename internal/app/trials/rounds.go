package trials

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/enrolled"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
	"yellowlantern/internal/underlay"
)

// ThisNetwork is the network that the service's own machine is on, as a vantage. It is none from outside.
const ThisNetwork = "this-network"

// States of a round.
const (
	RoundRuns    = "running"
	RoundDone    = "done"
	RoundStopped = "stopped" // the service ended before it was over
)

const (
	loginsAtOnce = 8
	RoundTime    = 10 * time.Minute
	lookedBack   = 5   // rounds, for what was seen before
	roundsKept   = 200 // with their reports; of older ones the outcome alone is kept
)

// Round is one trial of every class of people, each by an identity made for it, from chosen vantages.
type Round struct {
	ID       uint          `json:"id"`
	At       time.Time     `json:"at"`
	Ended    time.Time     `json:"ended,omitzero"`
	By       string        `json:"by"`
	Revision int           `json:"revision"`
	Vantages []string      `json:"vantages" nullable:"false"`
	Of       int           `json:"of" doc:"How many logins there are to be."`
	Done     int           `json:"done"`
	State    string        `json:"state" enum:"running,done,stopped"`
	OK       bool          `json:"ok" doc:"Everything was as expected, for everybody and from everywhere."`
	Words    string        `json:"words"`
	Results  []RoundResult `json:"results" nullable:"false" doc:"Left out of lists."`
}

// RoundResult is what one class saw from one vantage.
type RoundResult struct {
	Class     string   `json:"class"`
	Passage   string   `json:"passage,omitempty" doc:"Empty: nobody of them is to get in."`
	Vantage   string   `json:"vantage"`
	Connected bool     `json:"connected"`
	Over      string   `json:"over,omitempty" doc:"UDP or TCP."`
	OK        bool     `json:"ok"`
	Tried     int      `json:"tried"`
	Missed    int      `json:"missed" doc:"Trials that did not see what was expected."`
	Differs   int      `json:"differs" doc:"Trials that did not see what was computed."`
	NotTried  bool     `json:"not-tried,omitempty" doc:"Nothing is known from there: nothing could be tried, or the gateway has no record of it."`
	NotJudged int      `json:"not-judged,omitempty" doc:"Trials of an enrolled probe of which the gateway's record does not say the same."`
	Largest   int      `json:"largest,omitempty" doc:"Largest packet that passes, in octets."`
	Login     string   `json:"login"`
	Causes    []string `json:"causes" nullable:"false"`
}

// Request says what a round is to try.
type Request struct {
	Vantages []string // where to try from; none: the first that there is
	Classes  []string // only classes of people with this name; none: all
}

// Rounds lists the newest rounds, newest first, without what was seen.
func (s *Service) Rounds(ctx context.Context, limit int) ([]Round, error) {
	records, err := s.Store.Rounds(ctx, limit)
	out := []Round{}
	for _, r := range records {
		out = append(out, round(r, nil))
	}
	return out, err
}

// Round is one with what was seen; 0: the newest.
func (s *Service) Round(ctx context.Context, id uint) (Round, error) {
	if id == 0 {
		newest, err := s.Store.Rounds(ctx, 1)
		if err != nil {
			return Round{}, err
		}
		if len(newest) == 0 {
			return Round{}, refusal.Missing("nothing was tried yet: yl probe --everyone")
		}
		id = newest[0].ID
	}
	r, err := s.Store.Round(ctx, id)
	if err != nil {
		return Round{}, refusal.Known(err, "round", fmt.Sprint(id))
	}
	reports, err := s.Seen(ctx, r.ID)
	return round(r, reports), err
}

// Seen gives what a round saw, in the order of classes and vantages.
func (s *Service) Seen(ctx context.Context, id uint) ([]probe.Report, error) {
	records, err := s.Store.ProbeReports(ctx, id, 10000)
	out := []probe.Report{}
	for _, rec := range records {
		var r probe.Report
		if json.Unmarshal([]byte(rec.Report), &r) == nil {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b probe.Report) int {
		return cmp.Or(strings.Compare(a.Class, b.Class), strings.Compare(a.Vantage, b.Vantage))
	})
	return out, err
}

func round(r store.Round, reports []probe.Report) Round {
	out := Round{
		ID: r.ID, At: r.At, Ended: r.Ended, By: r.By, Revision: r.Revision, Vantages: strings.Fields(r.Vantages), Of: r.Of,
		Done: r.Done, State: r.State, OK: r.OK, Words: r.Words, Results: []RoundResult{},
	}
	for _, p := range reports {
		x := RoundResult{
			Class: p.Class, Passage: p.Passage, Vantage: p.Vantage, Connected: p.Connected, OK: p.OK, Tried: p.Tried(),
			Missed: p.Missed, Differs: p.Differs, NotTried: p.NotTried, NotJudged: p.Unconfirmed(), Largest: p.Largest, Login: p.Login, Causes: p.Causes,
		}
		if p.Given != nil {
			x.Over = p.Given.Over
		}
		out.Results = append(out.Results, x)
	}
	return out
}

// everyVantage stands for all of them.
const everyVantage = "every"

// Places are all vantages but the service's own network.
func (s *Service) Places(ctx context.Context) ([]Vantage, error) {
	probes, err := s.enrolledVantages(ctx)
	return append(append([]Vantage{}, s.Vantages...), probes...), err
}

// VantagesFor finds vantages by name. None: the first of the site lab; on a real host its own network, and every enrolled probe that is
// connected.
func (s *Service) VantagesFor(ctx context.Context, names []string) ([]Vantage, error) {
	all, err := s.Places(ctx)
	if err != nil {
		return nil, err
	}
	own := Vantage{Name: ThisNetwork}
	switch {
	case len(names) == 0 && len(s.Vantages) > 0:
		return all[:1], nil
	case len(names) == 0:
		return append([]Vantage{own}, slices.DeleteFunc(all, func(v Vantage) bool { return !v.Connected })...), nil
	case slices.Equal(names, []string{everyVantage}) && len(s.Vantages) > 0: // the lab's own network is none from outside
		return all, nil
	case slices.Equal(names, []string{everyVantage}):
		return append([]Vantage{own}, all...), nil
	}
	all = append(all, own)
	var out []Vantage
	for _, n := range names {
		i := slices.IndexFunc(all, func(v Vantage) bool { return v.Name == n })
		if i < 0 {
			return nil, refusal.Invalid(fmt.Sprintf("there is no vantage %q; there are %s, and every", n,
				strings.Join(namesOf(all), ", ")))
		}
		out = append(out, all[i])
	}
	return out, nil
}

func namesOf(vs []Vantage) []string {
	var out []string
	for _, v := range vs {
		out = append(out, v.Name)
	}
	return out
}

// Start begins a round on the newest revision. The channel is closed when it is over.
func (s *Service) Start(ctx context.Context, by string, in Request) (Round, <-chan struct{}, error) {
	r, done, err := s.start(ctx, by, in)
	return round(r, nil), done, err
}

func (s *Service) start(ctx context.Context, by string, in Request) (store.Round, <-chan struct{}, error) {
	known, number, err := s.Plans.Known(ctx, "")
	if err != nil {
		return store.Round{}, nil, err
	}
	vantages, err := s.VantagesFor(ctx, in.Vantages)
	if err != nil {
		return store.Round{}, nil, err
	}
	classes := slices.Clone(known.Classes)
	if len(in.Classes) > 0 {
		classes = slices.DeleteFunc(classes, func(c reach.Class) bool { return !slices.Contains(in.Classes, c.Name()) })
	}
	if len(classes) == 0 {
		return store.Round{}, nil, refusal.Invalid(
			"there is nobody to try as: add users, or name a class as yl board shows it")
	}
	if !s.underWay.TryLock() {
		return store.Round{}, nil, refusal.Conflict("a round is under way: wait for it, yl probe rounds shows it")
	}
	r := store.Round{
		At: time.Now().UTC(), By: by, Revision: number, Vantages: strings.Join(namesOf(vantages), " "),
		Of: len(classes) * len(vantages), State: RoundRuns,
	}
	if err := s.Store.SaveRound(ctx, &r); err != nil {
		s.underWay.Unlock()
		return r, nil, err
	}
	done := make(chan struct{})
	begun := r
	s.Background.Go("trials.start", func() {
		defer close(done)
		defer s.underWay.Unlock()
		run, cancel := context.WithTimeout(s.Running, RoundTime)
		defer cancel()
		s.run(run, &r, known.Model, classes, vantages)
	})
	return begun, done, nil
}

// run tries everything, some at once, and writes down what was seen as it comes.
func (s *Service) run(ctx context.Context, r *store.Round, m *site.Model, classes []reach.Class, vantages []Vantage) {
	before := s.lastSeen(ctx, r.ID)
	comp := reach.NewComputer(m)
	orders := make([]*probe.Order, len(classes))
	for i, c := range classes {
		orders[i] = OrderFor(m, c, comp.Of(c.Class), "")
		orders[i].Revision = r.Revision
		var err error
		if orders[i].Authority, err = s.Trust.Of(ctx, m, orders[i].Tunnel); err != nil {
			s.Log.Error("whom devices trust", "error", err)
		}
	}
	var mu sync.Mutex
	var reports []probe.Report
	var wait guard.Group
	slots := make(chan struct{}, loginsAtOnce)
	for _, v := range vantages {
		for i := range classes {
			slots <- struct{}{}
			wait.Go("trials.run", func() {
				defer func() { <-slots }()
				p := s.TryClass(ctx, *orders[i], classes[i], v)
				text, _ := json.Marshal(p)
				mu.Lock()
				defer mu.Unlock()
				reports = append(reports, *p)
				r.Done++
				_, err := s.Store.AddProbeReport(ctx,
					store.ProbeReport{
						At: p.At.UTC(), User: p.User, Class: p.Class, Vantage: p.Vantage, Revision: r.Revision, Round: r.ID,
						OK: p.OK, Report: string(text),
					})
				if err = errors.Join(err, s.Store.SaveRound(ctx, r)); err != nil {
					s.Log.Error("round", "error", err)
				}
			})
		}
	}
	wait.Wait()
	r.Ended, r.State = time.Now().UTC(), RoundDone
	if ctx.Err() != nil {
		r.State = RoundStopped
	}
	r.OK, r.Words = verdictOf(r, reports)
	if err := errors.Join(s.Store.SaveRound(context.WithoutCancel(ctx), r),
		s.Store.ThinRounds(context.WithoutCancel(ctx), roundsKept)); err != nil {
		s.Log.Error("round", "error", err)
	}
	if r.State == RoundDone {
		s.tellChanges(r, before, reports)
	}
}

func verdictOf(r *store.Round, reports []probe.Report) (bool, string) {
	bad, missed, differs, tried, out, gone, unjudged := 0, 0, 0, 0, 0, 0, 0
	for _, p := range reports {
		tried += p.Tried()
		if !p.OK {
			bad++
		}
		if p.NotTried {
			gone++
			continue
		}
		unjudged += p.Unconfirmed()
		if !p.Connected && !p.OK { // then nothing was tried
			out++
			continue
		}
		missed, differs = missed+p.Missed, differs+p.Differs
	}
	switch {
	case r.State == RoundStopped:
		return false, fmt.Sprintf("stopped after %d of %d logins", r.Done, r.Of)
	case bad == 0:
		return true, fmt.Sprintf("%d trials by %d logins, all as expected; computed and tried agree", tried, len(reports))
	}
	var words []string
	if gone > 0 {
		words = append(words, fmt.Sprintf("%d of %d logins not tried, or not judged", gone, len(reports)))
	}
	if out > 0 {
		words = append(words, fmt.Sprintf("%d of %d logins failed, so nothing was tried as them", out, len(reports)))
	}
	if bad > out+gone {
		words = append(words, fmt.Sprintf("%d of %d logins saw something else: %d of %d trials not as expected, %d not as computed",
			bad-out-gone, len(reports), missed, tried, differs))
	}
	if unjudged > 0 {
		words = append(words, fmt.Sprintf("%d trials not judged, for the gateway's record does not say the same", unjudged))
	}
	return false, strings.Join(words, "; ")
}

// TryClass tries as one class from one vantage, by an identity that is made for it and gone afterwards.
func (s *Service) TryClass(ctx context.Context, o probe.Order, c reach.Class, v Vantage) *probe.Report {
	t := s.People.Lend(c.Groups)
	defer s.takeBack(t)
	o.User = t.Name
	p, err := s.tryBy(ctx, v, o, t)
	if err != nil {
		p = &probe.Report{
			At: time.Now(), Login: "not tried: " + err.Error(), Causes: []string{err.Error()}, Results: []probe.Result{},
			Checks: []probe.Check{}, NotTried: true,
		}
	}
	p.User, p.Tester, p.Class, p.Vantage, p.Revision, p.Passage = "", true, c.Name(), v.Name, o.Revision, o.Passage
	p.Inside = p.Inside || v.Name == ThisNetwork // the service runs where its gateway does
	return p
}

// tryBy tries by the network that a vantage is.
func (s *Service) tryBy(ctx context.Context, v Vantage, o probe.Order, t *people.Tester) (*probe.Report, error) {
	if v.Enrolled {
		return s.tryFrom(ctx, v.Name, o, t)
	}
	u := underlay.Host()
	if v.Name != ThisNetwork {
		var err error
		if u, err = underlay.Vantage(ctx, v.Link); err != nil {
			return nil, err
		}
	}
	defer u.Close()
	return probe.Run(ctx, u, o, enrolled.OptionsOf(t.Name, t.Password, t.Key, t.Certificate))
}

// takeBack makes a tester worthless, and ends what may be left of its session.
func (s *Service) takeBack(t *people.Tester) {
	s.People.TakeBack(t)
	for _, live := range s.Gateway.Sessions() {
		if id, err := session.ParseID(live.ID); err == nil && live.User == t.Name {
			_ = s.Gateway.End(id, reason.Of(reason.TrialOver, nil))
		}
	}
}

// seen is what the newest earlier report of a class from a vantage saw, by trial.
type seen map[string]bool

// KeyOf tells reports of different classes and vantages apart.
func KeyOf(p probe.Report) string { return p.Class + "\x00" + p.Vantage }

func keyOfTrial(x probe.Result) string { return x.Dst.String() + " " + x.Service + " " + x.Name }

// lastSeen gathers what the round before saw.
func (s *Service) lastSeen(ctx context.Context, id uint) map[string]seen {
	out := map[string]seen{}
	rounds, err := s.Store.Rounds(ctx, lookedBack)
	if err != nil {
		return out
	}
	for _, r := range rounds {
		if r.ID >= id || r.State != RoundDone {
			continue
		}
		reports, err := s.Seen(ctx, r.ID)
		if err != nil {
			return out
		}
		for _, p := range reports {
			if key := KeyOf(p); out[key] == nil && !p.NotTried {
				out[key] = seenBy(p)
			}
		}
	}
	return out
}

func seenBy(p probe.Report) seen {
	out := seen{"": p.Connected}
	for _, x := range p.Results {
		if x.Edge || x.Unconfirmed() {
			continue
		}
		out[keyOfTrial(x)] = p.Connected && x.Answered()
	}
	return out
}

const mostTold = 20 // changes of one round that are told one by one

// tellChanges writes what is no longer reached, and what is reached that was not and must not be, into the journal.
func (s *Service) tellChanges(r *store.Round, before map[string]seen, reports []probe.Report) {
	var told []string
	for _, p := range reports {
		told = append(told, changesOf(p, before[KeyOf(p)])...)
	}
	if more := len(told) - mostTold; more > 0 {
		told = append(told[:mostTold], fmt.Sprintf("and %d more changes: yl probe rounds %d", more, r.ID))
	}
	for _, words := range told {
		s.Journal.Tell(reason.Of(reason.ReachChanged, reason.With{reason.Round: fmt.Sprint(r.ID), reason.Change: words}), "")
	}
}

// changesOf says in words what a report sees otherwise than the one before. Nothing is said of what nobody expects either way.
func changesOf(p probe.Report, was seen) (out []string) {
	if was == nil || p.NotTried {
		return nil
	}
	if was[""] && !p.Connected {
		return []string{fmt.Sprintf("%s no longer get in from %s: %s", p.Class, p.Vantage, p.Login)}
	}
	for _, x := range p.Results {
		before, known := was[keyOfTrial(x)]
		switch now := x.Answered(); {
		case !known || now == before || x.Unconfirmed():
		case x.Want && !now:
			out = append(out, fmt.Sprintf("%s no longer reach %s by %s from %s: %s", p.Class, x.Place, x.Service, p.Vantage,
				cmp.Or(x.Likely, x.Seen.Words)))
		case x.Want:
			out = append(out, fmt.Sprintf("%s reach %s by %s from %s again", p.Class, x.Place, x.Service, p.Vantage))
		case now:
			out = append(out, fmt.Sprintf("%s reach %s by %s from %s, which they must not: %s", p.Class, x.Place, x.Service, p.Vantage,
				x.Seen.Words))
		}
	}
	return out
}

// StopLeft marks rounds that a former run of the service left running.
func (s *Service) StopLeft(ctx context.Context) error {
	rounds, err := s.Store.Rounds(ctx, 20)
	for _, r := range rounds {
		if r.State == RoundRuns {
			r.State, r.Words = RoundStopped, fmt.Sprintf("stopped after %d of %d logins: the service ended", r.Done, r.Of)
			err = errors.Join(err, s.Store.SaveRound(ctx, &r))
		}
	}
	return err
}
