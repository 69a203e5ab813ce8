package handover

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/app/refusal"
)

// mostKits is for how many people kits are made at once.
const mostKits = 500

// Batch are the kits of a whole group, in one file.
type Batch struct {
	Name string    `json:"name"`
	ZIP  []byte    `json:"zip" doc:"A folder for each person, with the files and the steps."`
	Made int       `json:"made"`
	Left []LeftOut `json:"left-out" nullable:"false" doc:"Of whom there is no kit, and why."`
}

// LeftOut is somebody of a group for whom there is no kit.
type LeftOut struct {
	User string `json:"user"`
	Why  string `json:"why"`
}

// MakeAll makes the kits of everybody in a group for a kind of device. Whoever can have none is left out, with the reason.
func (s *Service) MakeAll(ctx context.Context, group, platform string, wants Wants) (Batch, error) {
	users, err := s.People.List(ctx)
	if err != nil {
		return Batch{}, err
	}
	var names []string
	for _, u := range users {
		if !u.Off && slices.Contains(u.Groups, group) {
			names = append(names, u.Name)
		}
	}
	switch {
	case len(names) == 0:
		return Batch{}, refusal.Missing(fmt.Sprintf("nobody who may log in is in a group %q", group))
	case len(names) > mostKits:
		return Batch{}, refusal.Invalid(fmt.Sprintf("group %s has %d people, and kits are made for %d at once: make them one by one, or "+
			"by a smaller group", group, len(names), mostKits))
	}
	out := Batch{Name: "kits-" + group + "-" + platform + ".zip", Left: []LeftOut{}}
	var ready []prepared
	for _, name := range names { // which takes long, and changes nothing yet
		if ctx.Err() != nil {
			return Batch{}, ctx.Err()
		}
		p, err := s.prepare(ctx, name, platform, wants)
		var no *refusal.Error
		switch {
		case errors.As(err, &no) && len(names) > 1:
			out.Left = append(out.Left, LeftOut{name, no.Error()})
		case err != nil:
			return Batch{}, err
		default:
			ready = append(ready, p)
		}
	}
	// From here on people's passwords and keys become others: whatever happens, what they are now is in the file.
	ctx = context.WithoutCancel(ctx)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, p := range ready {
		if err := p.keep(ctx); err != nil {
			out.Left = append(out.Left, LeftOut{p.made.User, err.Error()})
			continue
		}
		if err := p.made.into(w); err != nil {
			return Batch{}, err
		}
		out.Made++
	}
	if out.Made == 0 {
		return Batch{}, refusal.Invalid("there is no kit for anybody of group " + group + ": " + out.Left[0].Why)
	}
	if err := w.Close(); err != nil {
		return Batch{}, err
	}
	out.ZIP = b.Bytes()
	return out, nil
}

// into writes a kit into its person's folder. Names of people are letters, digits, dots, hyphens, underscores and @, and begin with one of
// the first two: they lead nowhere else.
func (m Made) into(w *zip.Writer) error {
	add := func(name string, data []byte) error {
		f, err := w.CreateHeader(&zip.FileHeader{Name: m.User + "/" + name, Method: zip.Deflate, Modified: m.At})
		if err == nil {
			_, err = f.Write(data)
		}
		return err
	}
	for _, f := range m.Files {
		if err := add(f.Name, f.Data); err != nil {
			return err
		}
	}
	return add("steps.txt", []byte(m.StepsText()))
}

// StepsText are the steps, numbered, a line each.
func (m Made) StepsText() string {
	var out strings.Builder
	for i, s := range m.Steps {
		fmt.Fprintf(&out, "%d. %s\r\n", i+1, s)
	}
	return out.String()
}
