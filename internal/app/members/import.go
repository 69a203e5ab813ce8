package members

import (
	"bytes"
	"context"
	"errors"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// known are the running plan's words for what people are described with; nil: no plan runs.
func (s *Service) known(ctx context.Context) (*people.Known, error) {
	r, err := s.Store.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	doc, err := s.Wholes.Read(r.Text)
	if err != nil {
		return nil, err
	}
	k := &people.Known{Groups: []string{}, Hours: []string{}, Tunnels: []string{}}
	for _, g := range doc.Plan.Groups {
		k.Groups = append(k.Groups, g.Name)
	}
	for _, h := range doc.Plan.Hours {
		k.Hours = append(k.Hours, h.Name)
	}
	for _, t := range doc.Plan.Tunnels {
		k.Tunnels = append(k.Tunnels, t.Name)
	}
	return k, nil
}

// Words are the running plan's for what people are described with; without a plan there are none.
func (s *Service) Words(ctx context.Context) (people.Known, error) {
	k, err := s.known(ctx)
	if k == nil {
		k = &people.Known{Groups: []string{}, Hours: []string{}, Tunnels: []string{}}
	}
	return *k, err
}

// Import holds a table of people against those that there are, and takes it if it is to be taken: all of it, or nothing. newWords are taken
// too: names of groups, hours and tunnels that the running plan does not have.
func (s *Service) Import(ctx context.Context, table string, take, newWords bool) (people.Table, error) {
	known, err := s.known(ctx)
	if err != nil {
		return people.Table{}, err
	}
	if newWords {
		known = nil
	}
	t, err := s.People.Import(ctx, []byte(table), take, known.Fits)
	if err != nil {
		return t, refusal.Mistaken(err)
	}
	if t.Taken {
		s.settleWhere(ctx, func(string) bool { return true })
	}
	return t, nil
}

// Export writes everybody as a table.
func (s *Service) Export(ctx context.Context) (string, error) {
	all, err := s.People.List(ctx)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	err = people.Write(&out, all)
	return out.String(), err
}
