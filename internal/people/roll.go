package people

import (
	"context"
	"errors"
	"slices"
	"sort"
	"strings"
	"sync"

	"yellowlantern/internal/store"
)

// roll is everybody by name, as it was at a version of the keeper's, with what a search looks at: a database takes many times as long to
// look through a hundred thousand of them.
type roll struct {
	mu      sync.Mutex
	read    bool
	version uint64
	users   []User
	texts   []string // of each, in small letters
}

// everybody gives the roll as it is now; nothing of it may be altered.
func (p *People) everybody(ctx context.Context) (users []User, texts []string, err error) {
	r := &p.roll
	r.mu.Lock()
	defer r.mu.Unlock()
	version := p.keeper.RollVersion()
	if r.read && r.version == version {
		return r.users, r.texts, nil
	}
	records, err := p.keeper.Users(ctx)
	if err != nil {
		return nil, nil, err
	}
	users, texts = make([]User, len(records)), make([]string, len(records))
	for i, rec := range records {
		users[i] = user(rec)
		texts[i] = searched(users[i])
	}
	r.read, r.version, r.users, r.texts = true, version, users, texts
	return users, texts, nil
}

// searched is what a search looks at.
func searched(u User) string {
	words := append([]string{u.Name, u.FullName, u.Mail, u.Hours}, slices.Concat(u.Groups, u.Tunnels)...)
	if u.Off {
		words = append(words, "off")
	}
	if u.MustChange {
		words = append(words, "must choose a password")
	}
	return strings.ToLower(strings.Join(words, "\n"))
}

// write writes one person, and puts them into the roll as they are then: to read everybody again takes a while.
func (p *People) write(ctx context.Context, name string, do func() error) error {
	r := &p.roll
	r.mu.Lock()
	defer r.mu.Unlock()
	before := p.keeper.RollVersion()
	if err := do(); err != nil {
		return err
	}
	if !r.read || r.version != before || p.keeper.RollVersion() != before+1 {
		return nil // it is read again when somebody looks
	}
	i, had := slices.BinarySearchFunc(r.users, name, func(u User, name string) int { return strings.Compare(u.Name, name) })
	// Whoever was handed the roll keeps it as it was.
	users, texts := slices.Clone(r.users), slices.Clone(r.texts)
	if had {
		users, texts = slices.Delete(users, i, i+1), slices.Delete(texts, i, i+1)
	}
	rec, err := p.keeper.User(ctx, name)
	switch {
	case err == nil:
		u := user(rec)
		users, texts = slices.Insert(users, i, u), slices.Insert(texts, i, searched(u))
	case !errors.Is(err, store.ErrNotFound):
		return nil
	}
	r.version, r.users, r.texts = before+1, users, texts
	return nil
}

// List gives everybody by name. The list must not be altered: it is kept until people change.
func (p *People) List(ctx context.Context) ([]User, error) {
	users, _, err := p.everybody(ctx)
	return users, err
}

// Page is some of the users, by name.
type Page struct {
	Users    []User `json:"users" nullable:"false"`
	Matching int    `json:"matching" doc:"How many match in all."`
	All      int    `json:"all" doc:"How many there are."`
	Next     string `json:"next,omitempty" doc:"After whom the next page begins; empty: this is the last one."`
}

// Page gives those with a text in what they are described with, from after a name on.
func (p *People) Page(ctx context.Context, text, after string, most int) (Page, error) {
	users, texts, err := p.everybody(ctx)
	out := Page{Users: []User{}, All: len(users)}
	text = strings.ToLower(text)
	from := sort.Search(len(users), func(i int) bool { return users[i].Name > after })
	for i := range users {
		if text != "" && !strings.Contains(texts[i], text) {
			continue
		}
		out.Matching++
		switch {
		case i < from:
		case len(out.Users) < most:
			out.Users = append(out.Users, users[i])
		case out.Next == "":
			out.Next = out.Users[most-1].Name
		}
	}
	return out, err
}
