package plan

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"yellowlantern/internal/core/netset"
)

// Mention is a word of a plan that names another object, or may.
type Mention struct {
	Path  string
	Kinds []string // the lists in which it may be found, and words with a meaning of their own
	Word  string
}

// Mentions lists every reference of a plan, in the order of its objects.
func (p *Plan) Mentions() []Mention {
	var out []Mention
	walkWords(reflect.ValueOf(*p), "", func(f field, at, word string) {
		if f.refs != nil {
			out = append(out, Mention{at, f.refs, word})
		}
	})
	return out
}

// Kinds of what is kept beside the plan and named by it; the tag kept of a field says which.
const (
	KeptSecret        = "secret"
	KeptCertificate   = "certificate"
	KeptUser          = "user"
	KeptAdministrator = "administrator"
)

// Needs are the settings that name something that is kept beside the plan, by their paths.
// No plan names nothing.
func (p *Plan) Needs(kind, name string) (paths []string) {
	if p == nil {
		return nil
	}
	walkWords(reflect.ValueOf(*p), "", func(f field, at, word string) {
		if f.Tag.Get("kept") == kind && word == name {
			paths = append(paths, at)
		}
	})
	for _, g := range p.Gateways { // under the name that it has where none is given
		if kind == KeptCertificate && g.CodePage != nil && g.CodePage.Certificate == "" && g.CodePage.Shown() == name {
			paths = append(paths, "gateways/"+g.Name+"/code-page")
		}
	}
	return paths
}

// walkWords finds every text of a plan that names something, and every text of a list of such.
func walkWords(v reflect.Value, path string, found func(f field, at, word string)) {
	fields, values := partsOf(v)
	for i, f := range values {
		if f.IsZero() {
			continue
		}
		at := join(path, fields[i].name)
		if f.Kind() == reflect.Pointer {
			f = f.Elem()
		}
		switch {
		case f.Kind() == reflect.String:
			found(fields[i], at, f.String())
		case f.Kind() == reflect.Slice && f.Type().Elem().Kind() == reflect.String:
			for k := range f.Len() {
				found(fields[i], join(at, strconv.Itoa(k)), f.Index(k).String())
			}
		case f.Kind() == reflect.Struct && f.Type().PkgPath() == v.Type().PkgPath():
			walkWords(f, at, found)
		case f.Kind() == reflect.Slice && f.Type().Elem().Kind() == reflect.Struct && f.Type().Elem().PkgPath() == v.Type().PkgPath():
			for k := range f.Len() {
				item := strconv.Itoa(k)
				if named(f.Type().Elem()) {
					item = f.Index(k).FieldByName("Name").String()
				}
				walkWords(f.Index(k), join(at, item), found)
			}
		}
	}
}

// Literal tells whether a word that may name an object of these kinds stands for itself: an address, prefix or range among
// destinations and sources, a port among services, or a word with a meaning of its own.
func Literal(kinds []string, word string) bool {
	for _, k := range kinds {
		switch k {
		case Internet, Any, Itself:
			if word == k {
				return true
			}
		case "literal":
			if _, ok := parseSpan(word); ok {
				return true
			}
		case "services":
			if _, err := netset.ParseServices(word); err == nil {
				return true
			}
		}
	}
	return false
}

// rename gives an object another name, wherever the plan names it too.
func rename(text, path, to string) (string, error) {
	kind, from, ok := strings.Cut(path, "/")
	if !ok || strings.Contains(from, "/") || !goodName.MatchString(to) {
		return "", errors.New("an object and its new name are needed: up to 63 lower-case letters, digits, dots, underscores and hyphens")
	}
	doc, err := Read(text)
	if err != nil {
		return "", err
	}
	root, err := parse(text)
	if err != nil {
		return "", err
	}
	paths := []string{join(path, "name")}
	for _, r := range doc.Plan.Mentions() {
		if r.Word == from && contains(r.Kinds, kind) {
			paths = append(paths, r.Path)
		}
	}
	s := splicer{text: text, lines: lineStarts(text)}
	var offsets []int
	for _, p := range paths {
		at, missing := find(root, strings.Split(p, "/"))
		if len(missing) > 0 {
			return "", fmt.Errorf("there is no %s", path)
		}
		off := s.offset(at.node)
		if off < len(text) && (text[off] == '"' || text[off] == '\'') {
			off++
		}
		if !strings.HasPrefix(text[off:], from) {
			return "", fmt.Errorf("%s is written in a way that cannot be changed here: change it in the text", p)
		}
		offsets = append(offsets, off)
	}
	slices.Sort(offsets)
	for _, off := range slices.Backward(offsets) { // from the end, so that the earlier ones hold
		text = text[:off] + to + text[off+len(from):]
	}
	return text, nil
}

func contains(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}
