package check

import (
	"fmt"
	"time"

	"yellowlantern/internal/core/plan"
)

// hours finds times that never are, and a time zone that is not known.
func (c *checker) hours() {
	for _, h := range c.p.Hours {
		if h.From == h.To {
			c.add(Stop, "hours-empty", "hours/"+h.Name+"/to", "let them end later than they begin; 00:00 to 24:00 is the whole day",
				"%s begin and end at %s: nobody is ever let in by them", h.Name, h.From)
		}
	}
	switch {
	case c.p.TimeZone != "" && c.KnowsZone != nil && !c.KnowsZone(c.p.TimeZone):
		c.add(Stop, "time-zone", "time-zone", "give an IANA name such as Atlantic/Reykjavik, or UTC", "there is no time zone %q", c.p.TimeZone)
	case c.p.TimeZone == "" && len(c.p.Hours) > 0:
		c.add(Note, "no-time-zone", "hours", "say time-zone, such as Atlantic/Reykjavik", "the plan says no time zone: its hours count in UTC")
	}
}

// limits finds limits that let nobody in, or that are missing.
func (c *checker) limits() {
	var idle []string
	many := map[string]bool{}
	for _, p := range c.p.Passages {
		if p.Off {
			continue
		}
		base := "passages/" + p.Name + "/limits"
		for field, value := range map[string]int{"sessions": p.Limits.Sessions, "per-person": p.Limits.PerPerson} {
			if path := plan.OriginOf(c.taken, base+"/"+field); value == 0 && c.Doc.Has(path) {
				c.add(Stop, "limit-zero", path, "leave it out for no limit, or switch the passage off",
					"a limit of 0 lets nobody of passage %s in", p.Name)
				c.mend("remove", path, "")
			}
		}
		c.between(base+"/idle", p.Limits.Idle, time.Minute, 168*time.Hour)
		c.between(base+"/longest", p.Limits.Longest, 5*time.Minute, 720*time.Hour)
		c.between(base+"/patience", p.Limits.Patience, 10*time.Second, 2*time.Hour)
		if pool := c.n.Pools[p.Pool]; pool != nil && p.Limits.Sessions > 0 {
			if have := roomIn(pool, p.Limits.Sessions); have < p.Limits.Sessions {
				c.add(Stop, "pool-below-limit", base+"/sessions", fmt.Sprintf("use a larger prefix for pool %s, or %d", p.Pool, have),
					"passage %s may have %d sessions, but pool %s has %d addresses: %d short", p.Name, p.Limits.Sessions, p.Pool, have, p.Limits.Sessions-have)
				c.mend("set", base+"/sessions", fmt.Sprint(have))
			}
		}
		if path := plan.OriginOf(c.taken, base+"/per-person"); p.Limits.PerPerson > plan.SessionsEach && !many[path] {
			many[path] = true // said once for all passages that take it from the same place
			c.add(Warn, "many-sessions", path, fmt.Sprintf("leave it out: it is %d then", plan.SessionsEach),
				"one person may have %d sessions at once by passage %s: whoever has one password takes as many addresses", p.Limits.PerPerson, p.Name)
			c.mend("remove", path, "")
		}
		if p.Limits.Idle == 0 {
			idle = append(idle, p.Name)
		}
	}
	if len(idle) > 0 {
		c.add(Note, "no-idle-limit", "passages", "say limits: {idle: 12h}", "sessions that nobody uses stay up by passages %s", quoted(idle))
	}
}
