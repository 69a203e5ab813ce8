// Package diagnose goes from a complaint to its likely causes: it looks at what is known of a person (the journal of their attempts, the
// plan and what is computed from it, live counters, what trials saw) and ranks what explains the complaint, each with its evidence, the
// setting that decides and the change that mends it. It looks at evidence only; gathering it is left to the service.
package diagnose

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// Complaints.
const (
	CannotConnect  = "cannot-connect"
	ReachesNothing = "reaches-nothing"
	ReachesSome    = "reaches-some"
	NamesFail      = "names-fail"
	Slow           = "slow"
	Drops          = "drops"
)

// Evidence is everything that is looked at. What is not known is left empty.
type Evidence struct {
	Now       time.Time
	Complaint string
	User      string
	Known     bool // there is such a user
	Off       bool // who is switched off
	// Own are the person's own limits; MustChange is that another password is to be chosen first.
	Own        login.Limits
	MustChange bool
	Alike      []string // users whose names differ by a slip of the hand
	Model      *site.Model
	Class      *site.Class
	Packet     *site.Packet // what is complained of, where it is about one destination
	Name       string       // the destination as the person said it
	Journal    []Line       // about this person, newest first
	Others     []Line       // refusals that name nobody who exists, or no user at all, newest first
	Sessions   []Session    // live
	Past       []Past       // newest first
	Flows      []Flow       // live
	Trials     []Trial      // the newest of the person's class from each vantage
	Findings   []check.Finding
	Free       int          // addresses left in the person's pool
	Published  []netip.Addr // where the dialled name leads, as trials saw it
	Checks     []Check      // of the status, those that are not OK
	Source     string       // where the person is kept; empty: by the service itself
	// Arrived is when anybody else was last heard from outside; zero: not since Began.
	Arrived, Began time.Time
	ArrivedFrom    string
}

// Line is a line of the journal.
type Line struct {
	At         time.Time
	Kind       string
	User, From string
	Why        reason.Reason // none: of a version that wrote words only
	Words      string
}

// Session is a live session.
type Session struct {
	From    string
	TCP     bool
	Held    bool   // until its person gives their second factor
	In, Out uint64 // packets
	Lost    map[string]uint64
	Missing uint64
	Carries int // the largest packet inside the tunnel that its way carries, in octets; 0: what the tunnel is for, as far as is known
}

// Past is a session that ended.
type Past struct {
	Since, Until time.Time
	In           uint64 // octets that came of the device
	From         string
	Why          reason.Reason // none: of a version that wrote words only
	Words        string
}

// Flow is a live flow.
type Flow struct {
	Dst, Service string
	Sent, Got    uint64
	Words        string
}

// Trial is what a probe saw.
type Trial struct {
	Vantage   string
	Inside    bool // from the gateway's own network: it says nothing of the way in
	At        time.Time
	Connected bool
	Fault     reason.Code // why its login failed
	Login     string
	Largest   int
	Results   []Result
}

// Result is one thing that was tried.
type Result struct {
	Place, Network, Name, Service string
	Dst                           netip.Addr
	Want, Reached, Served         bool
	Home                          string // the network that hides it from the device
	Saw                           reason.Reason
}

// Cause is what may explain a complaint.
type Cause struct {
	Code     string      `json:"code" doc:"What kind of cause it is."`
	Sure     int         `json:"sure" minimum:"0" maximum:"100" doc:"How strongly the evidence speaks for it: 90 and more, it is recorded or was seen; 60 and more, likely; less, possible."`
	Words    string      `json:"words"`
	Setting  string      `json:"setting,omitempty" doc:"The setting that decides."`
	Fix      string      `json:"fix"`
	Mend     []plan.Edit `json:"mend,omitempty" nullable:"false" doc:"The fix as edits of the plan, where it wants no decision."`
	Evidence []string    `json:"evidence" nullable:"false" doc:"What speaks for it."`
}

// Find ranks the causes, the likeliest first. There is always one: where nothing explains the complaint, what to look at next.
func Find(e Evidence) []Cause {
	f := &finder{Evidence: e}
	f.person()
	switch e.Complaint {
	case CannotConnect:
		f.cannotConnect()
	case ReachesNothing:
		f.reachesNothing()
	case ReachesSome:
		f.reachesSome()
	case NamesFail:
		f.names()
	case Slow:
		f.slow()
	case Drops:
		f.drops()
	}
	f.held()
	f.host()
	f.findings()
	if len(f.causes) == 0 {
		f.add(Cause{Code: "nothing-found", Sure: 10, Words: "nothing that is recorded, computed or tried explains it", Fix: "try it while you watch: let the person do it again, and run yl diagnose once more; yl sessions record keeps the packets"},
			f.unexplained())
	}
	slices.SortStableFunc(f.causes, func(a, b Cause) int { return cmp.Compare(b.Sure, a.Sure) })
	return f.causes
}

// unexplained says what was seen where nothing explains the complaint: of trials only what they did.
func (f *finder) unexplained() string {
	if f.Complaint != CannotConnect && slices.ContainsFunc(f.Trials, func(t Trial) bool { return t.Connected }) {
		return "the plan lets it through, and an identity with the same groups just had no trouble"
	}
	return "the journal, the status, and what is computed from the plan"
}

type finder struct {
	Evidence
	causes []Cause
}

// add notes a cause, once: a second voice for the same cause is more evidence for it.
func (f *finder) add(c Cause, evidence ...string) {
	for i := range f.causes {
		if k := &f.causes[i]; k.Code == c.Code && k.Setting == c.Setting {
			k.Sure = min(99, max(k.Sure, c.Sure)+2)
			for _, e := range evidence {
				if !slices.Contains(k.Evidence, e) {
					k.Evidence = append(k.Evidence, e)
				}
			}
			return
		}
	}
	c.Evidence = append([]string{}, evidence...)
	f.causes = append(f.causes, c)
}

// person finds what keeps somebody out whatever the complaint.
func (f *finder) person() {
	switch {
	case !f.Known:
		c := Cause{
			Code: "unknown-user", Sure: 95, Words: "there is no user " + f.User,
			Fix: "add the user (yl users add), or look for another spelling",
		}
		if len(f.Alike) > 0 {
			c.Fix = "did they mean " + f.Alike[0] + "? Otherwise add the user (yl users add)"
		}
		f.add(c, "the list of users")
	case f.Off:
		f.add(Cause{
			Code: "switched-off", Sure: 98, Words: f.User + " is switched off and may not log in",
			Fix: "switch the user on: yl users change " + f.User + " --on",
		}, "the list of users")
	case !f.Own.Until.IsZero() && !f.Now.Before(f.Own.Until):
		until := f.Own.Until.UTC().Format("2006-01-02 15:04")
		f.add(f.cause(refusals[reason.PersonOver], reason.Reason{}, 98), "the list of users: until "+until+" UTC")
	case f.Class.Passage == nil:
		f.add(Cause{
			Code: "no-passage", Sure: 97, Words: "no passage admits " + f.Class.Name(), Setting: "passages",
			Fix: "put the user into a group that a passage admits, or admit the group by a passage",
		}, "the plan: the groups of "+f.User+" are "+f.Class.Name())
	}
}

// findings adds what checks say of the settings that causes name, and stops and warnings about the person's passage.
func (f *finder) findings() {
	for _, x := range f.Findings {
		if x.Severity == check.Note {
			continue
		}
		for i := range f.causes {
			if c := &f.causes[i]; c.Setting != "" &&
				(c.Setting == x.Path || len(x.Path) > len(c.Setting) && x.Path[:len(c.Setting)+1] == c.Setting+"/") {
				c.Evidence = append(c.Evidence, "a finding on the plan: "+x.Problem)
				c.Sure = min(99, c.Sure+1)
				if c.Mend == nil {
					c.Mend = x.Mend
				}
			}
		}
	}
}

// recent is how old a line may be to explain a complaint of now.
const recent = 24 * time.Hour

func (f *finder) fresh(at time.Time) bool { return f.Now.Sub(at) < recent }
