package gateway

import "slices"

// persons counts sessions by passage and by whose they are, so that a login counts nobody by looking at all. The gateway's lock guards it.
type persons struct {
	all  map[string]int // by passage
	each map[person][]*session
}

type person struct{ passage, user string }

func (p *persons) add(s *session) {
	if p.all == nil {
		p.all, p.each = map[string]int{}, map[person][]*session{}
	}
	k := person{s.lease.passage, s.fwd.User}
	p.all[k.passage]++
	p.each[k] = append(p.each[k], s)
}

func (p *persons) remove(s *session) {
	k := person{s.lease.passage, s.fwd.User}
	p.all[k.passage]--
	p.each[k] = slices.DeleteFunc(p.each[k], func(o *session) bool { return o == s })
	if len(p.each[k]) == 0 {
		delete(p.each, k)
	}
}

// of is somebody's sessions by a passage, in is how many there are by it.
func (p *persons) of(passage, user string) []*session {
	return slices.Clone(p.each[person{passage, user}])
}

func (p *persons) in(passage string) int { return p.all[passage] }
