package proofs

import (
	"context"
	"fmt"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reach"
)

// DataRequest says whose reach is wanted as data.
type DataRequest struct {
	Draft string `query:"draft" doc:"Look at this draft in place of the newest revision, and say what is gained and lost by it."`
	Who   string `query:"who" required:"true" doc:"User, or a group in place of one: group:NAME."`
	To    string `query:"to" doc:"Only of this destination: a host, network, zone, host group, prefix, address or range of the plan, internet."`
}

// DataAnswer is reach as data.
type DataAnswer struct {
	reach.Data
	Revision int        `json:"revision" doc:"0: a draft."`
	Gained   *Direction `json:"gained,omitempty" doc:"Of a draft: what the gateway would let through, and does not by the newest revision."`
	Lost     *Direction `json:"lost,omitempty" doc:"Of a draft: the other way round."`
}

// Direction is traffic that people open, and that is opened towards them.
type Direction struct {
	Outward []reach.Set `json:"outward" nullable:"false"`
	Inward  []reach.Set `json:"inward" nullable:"false"`
}

// Data gives somebody's reach as sets of addresses and services: whole, for programs.
func (s *Service) Data(ctx context.Context, in DataRequest) (DataAnswer, error) {
	known, number, err := s.Plans.Known(ctx, in.Draft)
	if err != nil {
		return DataAnswer{}, err
	}
	groups, err := groupsOf(known, in.Who)
	if err != nil {
		return DataAnswer{}, err
	}
	to := netset.Everywhere
	if in.To != "" {
		var ok bool
		if to, ok = known.Model.Names.Destination(in.To); !ok {
			return DataAnswer{}, refusal.Missing(fmt.Sprintf("%q is no destination: no host, network, zone or host group of the plan, "+
				"no prefix, address or range", in.To))
		}
	}
	person := reach.Person{User: in.Who, Groups: groups}
	here, class := known.Somebody(person)
	out := DataAnswer{Data: here.Data(class, to), Revision: number}
	if in.Draft == "" {
		return out, nil
	}
	now, _, err := s.Plans.Known(ctx, "")
	if err != nil {
		return out, err
	}
	before, was := now.Somebody(person)
	out.Gained, out.Lost = &Direction{}, &Direction{}
	for inward, way := range map[bool][2]*[]reach.Set{
		false: {&out.Gained.Outward, &out.Lost.Outward}, true: {&out.Gained.Inward, &out.Lost.Inward},
	} {
		*way[0] = reach.SetsOf(reach.Difference(here, class, before, was, inward), to)
		*way[1] = reach.SetsOf(reach.Difference(before, was, here, class, inward), to)
	}
	return out, nil
}
