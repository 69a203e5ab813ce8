package plan

import (
	"encoding"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/legible"
)

// MaxSize is the largest document that is read, in octets.
const MaxSize = 4 << 20

// MostFaults are told of one document: nobody reads more at once, and a hundred thousand would fill an answer.
const MostFaults = 100

// MostInList are the members that a list may have. A document of MaxSize whose members say something has no more.
const MostInList = 50_000

// Pos is a place in the document; lines and columns count from 1.
type Pos struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// Fault is something that keeps a document from being a plan.
type Fault struct {
	Pos
	Path     string `json:"path" doc:"The setting, such as rules/records-web/to/0."`
	Problem  string `json:"problem"`
	Expected string `json:"expected,omitempty"`
}

func (f Fault) Error() string {
	text := fmt.Sprintf("line %d, column %d: ", f.Line, f.Column)
	if f.Path != "" {
		text += f.Path + ": "
	}
	text += f.Problem
	if f.Expected != "" {
		text += "; expected " + f.Expected
	}
	return text
}

// Faults are the first MostFaults faults of one document, in its order; where there are more, the last says so.
type Faults []Fault

func (fs Faults) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// Document is a plan together with the text it was read from. The text is the record: comments and layout stay.
type Document struct {
	Text   string
	Plan   Plan
	places map[string]Pos
}

// Place is where a setting stands. A path that the document does not hold (a default, something missing) is placed at
// the nearest setting around it.
func (d *Document) Place(path string) Pos {
	for {
		if p, ok := d.places[path]; ok {
			return p
		}
		cut := strings.LastIndexByte(path, '/')
		if cut < 0 {
			return Pos{1, 1}
		}
		path = path[:cut]
	}
}

// Has tells whether the document itself holds a setting, be it empty or zero.
func (d *Document) Has(path string) bool {
	_, ok := d.places[path]
	return ok
}

// Read reads a YAML document strictly: unknown and repeated fields, wrong types and bad values are faults, each with
// its line and column. They are returned together, as Faults.
func Read(text string) (*Document, error) {
	if len(text) > MaxSize {
		return nil, Faults{{Pos: Pos{1, 1}, Problem: "the document is larger than 4 MiB", Expected: "a smaller plan"}}
	}
	if at := legible.Find(text, "\n\t\r"); at >= 0 {
		before := text[:at]
		line := strings.LastIndexByte(before, '\n')
		return nil, Faults{{
			Pos:      Pos{strings.Count(before, "\n") + 1, utf8.RuneCountInString(before[line+1:]) + 1},
			Problem:  "there is " + legible.Name(text, at) + ", which acts on a terminal rather than being shown",
			Expected: "text that shows what it says: take it out",
		}}
	}
	if n := values(text); n > mostValues {
		return nil, Faults{{
			Pos: Pos{1, 1}, Problem: fmt.Sprintf("there are about %d lines and members of lists in the document", n),
			Expected: fmt.Sprintf("at most %d", mostValues),
		}}
	}
	defer largeOnes(text)()
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil {
		return nil, Faults{syntaxFault(err)}
	}
	if root.Kind == 0 {
		return nil, Faults{{Pos: Pos{1, 1}, Problem: "the document is empty", Expected: "a plan that begins with format: 1"}}
	}
	d := &Document{Text: text, places: map[string]Pos{}}
	r := reader{places: d.places}
	r.value(root.Content[0], reflect.ValueOf(&d.Plan).Elem(), "", "")
	if len(r.faults) == 0 && d.Plan.Format != Format {
		pos := d.Place("format")
		r.faults = append(r.faults, Fault{
			Pos: pos, Path: "format",
			Problem: fmt.Sprintf("format %d is not one this version reads", d.Plan.Format), Expected: "1",
		})
	}
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	return d, nil
}

// mostValues is how many lines and members a document has at most: each becomes up to two nodes of 220 octets before anything is known of
// it, which is 256 MB in all.
const mostValues = 500_000

// values counts them, not less than there are.
func values(text string) (n int) {
	for _, c := range []string{"\n", ",", "[", "{"} {
		n += strings.Count(text, c)
	}
	return n
}

// large is from which size on documents are read two at once, in octets: what is taken apart takes up to a hundred times as much memory.
const large = 256 << 10

var largePlaces = make(chan struct{}, 2)

// largeOnes waits for a place where a document is large; what it gives leaves the place.
func largeOnes(text string) (leave func()) {
	if len(text) < large {
		return func() {}
	}
	largePlaces <- struct{}{}
	return func() { <-largePlaces }
}

var lineIn = regexp.MustCompile(`line (\d+): (.*)`)

func syntaxFault(err error) Fault {
	f := Fault{Pos: Pos{1, 1}, Problem: strings.TrimPrefix(err.Error(), "yaml: "), Expected: "YAML"}
	if m := lineIn.FindStringSubmatch(f.Problem); m != nil {
		f.Line, _ = strconv.Atoi(m[1])
		f.Problem = m[2]
	}
	return f
}

// mostWords is how many octets of a fault's texts are told, of each: they quote what is in the document.
const mostWords = 1500

// Short cuts a text to mostWords, between characters.
func Short(text string) string {
	if len(text) <= mostWords {
		return text
	}
	cut := mostWords
	for !utf8.RuneStart(text[cut]) {
		cut--
	}
	return text[:cut] + "…"
}

type reader struct {
	places map[string]Pos
	faults Faults
	full   bool // of faults: the rest is not read
}

func (r *reader) fault(n *yaml.Node, path, problem, expected string) {
	if len(r.faults) == MostFaults {
		r.full = true
		last := &r.faults[MostFaults-1]
		last.Path, last.Problem, last.Expected = "", "there are more faults than are told at once", "those before mended first"
		return
	}
	r.faults = append(r.faults, Fault{
		Pos: Pos{max(n.Line, 1), max(n.Column, 1)}, Path: Short(path), Problem: Short(problem), Expected: Short(expected),
	})
}

// value reads a node into a field; oneOf lists the permitted words of a string, if they are limited.
func (r *reader) value(n *yaml.Node, v reflect.Value, path, oneOf string) {
	if r.full {
		return
	}
	r.places[path] = Pos{n.Line, n.Column}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		r.fault(n, path, "anchors and aliases are not read", "the value itself")
		return
	}
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem()))
		v = v.Elem()
	}
	if u, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if n.Kind != yaml.ScalarNode || u.UnmarshalText([]byte(n.Value)) != nil || n.Value == "" {
			r.fault(n, path, describe(n), sample(v.Interface()))
		} else if a, ok := v.Interface().(netip.Addr); ok && a.Zone() != "" {
			r.fault(n, path, describe(n), "an address without a zone")
		} else if ok && a.Is4In6() {
			r.fault(n, path, describe(n), "the IPv4 address by itself, "+fold.Addr(a).String())
		}
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		r.object(n, v, path)
	case reflect.Slice:
		r.list(n, v, path, oneOf)
	default:
		r.scalar(n, v, path, oneOf)
	}
}

func (r *reader) object(n *yaml.Node, v reflect.Value, path string) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, path, describe(n), "fields: "+strings.Join(fieldNames(v.Type()), ", "))
		return
	}
	if b, brings := bringerOf(v.Type()); brings {
		if o := b.options(scalarIn(n, "kind")); o != nil {
			v.FieldByName("Own").Set(reflect.New(o))
		}
	}
	s, own, seen := shapeOf(v.Type()), ownOf(v), map[string]bool{}
	for i := 0; i+1 < len(n.Content) && !r.full; i += 2 {
		key, val := n.Content[i], n.Content[i+1]
		f, value := s.field(v, key.Value)
		if f == nil && own.IsValid() {
			f, value = shapeOf(own.Type()).field(own, key.Value)
		}
		switch {
		case f == nil:
			r.unknown(key, path, v)
			continue
		case seen[key.Value]:
			r.fault(key, path, fmt.Sprintf("field %q is given twice", key.Value), "it once")
			continue
		}
		seen[key.Value] = true
		oneOf := ""
		if f.limited {
			oneOf = enumOf(f.StructField) + ";" + f.Tag.Get("was")
		}
		r.value(val, value, join(path, key.Value), oneOf)
	}
	all, _ := partsOf(v)
	for i := range all {
		if f := &all[i]; !f.optional && !seen[f.name] {
			r.fault(n, join(path, f.name), fmt.Sprintf("field %q is missing", f.name),
				strings.TrimSuffix(lowerFirst(f.Tag.Get("doc")), "."))
		}
	}
}

// unknown tells of a field that there is not, or that another kind has.
func (r *reader) unknown(key *yaml.Node, path string, v reflect.Value) {
	b, _ := bringerOf(v.Type())
	for _, f := range fieldsIn(v.Type()) {
		if f.name == key.Value {
			r.fault(key, path, fmt.Sprintf("field %q is a setting of %s of kind %s", key.Value, b.what,
				f.of),
				"it taken out, or another kind")
			return
		}
	}
	var names []string
	fields, _ := partsOf(v)
	for _, f := range fields {
		if !f.gone() {
			names = append(names, f.name)
		}
	}
	r.fault(key, path, fmt.Sprintf("unknown field %q", key.Value), "one of "+strings.Join(names, ", "))
}

// scalarIn is the text of a field that is looked at before the others are read.
func scalarIn(n *yaml.Node, name string) string {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i+1].Value
		}
	}
	return ""
}

var goodName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// list reads a sequence. Objects with a name are found by it in paths, so names must be fit for that and unique.
func (r *reader) list(n *yaml.Node, v reflect.Value, path, oneOf string) {
	if n.Kind != yaml.SequenceNode {
		r.fault(n, path, describe(n), "a list")
		return
	}
	if len(n.Content) > MostInList {
		r.fault(n, path, fmt.Sprintf("there are %d in this list", len(n.Content)), fmt.Sprintf("at most %d", MostInList))
		return
	}
	v.Set(reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content)))
	seen := map[string]bool{}
	for i, item := range n.Content {
		if r.full {
			return
		}
		at := join(path, strconv.Itoa(i))
		if name := nameNode(item); name != nil && v.Type().Elem().Kind() == reflect.Struct {
			switch {
			case !goodName.MatchString(name.Value):
				r.fault(name, at+"/name", fmt.Sprintf("%q cannot be a name", name.Value),
					"up to 63 lower-case letters, digits, dots, underscores and hyphens")
			case seen[name.Value]:
				r.fault(name, at+"/name", fmt.Sprintf("the name %q is used twice in %s", name.Value, path), "another name")
			case name.Value == Internet || name.Value == Any:
				r.fault(name, at+"/name", fmt.Sprintf("%q has a meaning of its own", name.Value), "another name")
			default:
				at = join(path, name.Value)
			}
			seen[name.Value] = true
		}
		r.value(item, v.Index(i), at, oneOf)
	}
}

func nameNode(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "name" {
				return n.Content[i+1]
			}
		}
	}
	return nil
}

func (r *reader) scalar(n *yaml.Node, v reflect.Value, path, oneOf string) {
	if n.Kind != yaml.ScalarNode {
		r.fault(n, path, describe(n), "a single value")
		return
	}
	switch v.Kind() {
	case reflect.String:
		if n.Tag == "!!null" || n.Value == "" {
			r.fault(n, path, "the value is empty", "text")
			return
		}
		now, was, _ := strings.Cut(oneOf, ";") // words of earlier versions are read once more
		if oneOf != "" && !slices.Contains(strings.Split(now, ","), n.Value) && !slices.Contains(strings.Split(was, ","), n.Value) {
			r.fault(n, path, describe(n), "one of "+strings.ReplaceAll(now, ",", ", "))
			return
		}
		if at := legible.Find(n.Value, "\n\t"); at >= 0 {
			r.fault(n, path, "the value holds "+legible.Name(n.Value, at)+", which acts on a terminal rather than being shown",
				"it without that")
			return
		}
		v.SetString(n.Value)
	case reflect.Bool:
		if n.Tag != "!!bool" {
			r.fault(n, path, describe(n), "true or false")
			return
		}
		v.SetBool(n.Value == "true" || n.Value == "True" || n.Value == "TRUE")
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if err != nil {
			r.fault(n, path, describe(n), "a whole number")
			return
		}
		v.SetInt(int64(i))
	default:
		panic("plan: no reader for " + v.Type().String())
	}
}

func describe(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "there are fields here"
	case yaml.SequenceNode:
		return "there is a list here"
	}
	if n.Value == "" {
		return "the value is empty"
	}
	return fmt.Sprintf("%q will not do", n.Value)
}

func sample(v any) string {
	switch v.(type) {
	case netip.Addr:
		return "an address such as 10.20.0.1 or fd00:20::1"
	case netip.Prefix:
		return "a prefix such as 10.20.0.0/24 or fd00:20::/64"
	case Range:
		return "a range such as 10.99.0.10-10.99.0.99, a prefix, or an address"
	case Duration:
		return "a length of time such as 45s, 30m or 8h"
	case Clock:
		return "a time of day such as 08:00"
	}
	return "a value"
}

func fieldName(f reflect.StructField) (name string, optional bool) {
	name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
	return name, strings.Contains(options, "omit")
}

// shape is what the tags of a type's own fields say; they are taken apart once.
type shape struct {
	fields []field
	at     map[string]int
}

var shapes sync.Map // reflect.Type → *shape

// gone tells whether a field is only read, for documents of earlier versions.
func (f field) gone() bool { return f.Tag.Get("gone") != "" }

func shapeOf(t reflect.Type) *shape {
	if known, ok := shapes.Load(t); ok {
		return known.(*shape)
	}
	s := &shape{at: map[string]int{}}
	for i := range t.NumField() {
		f := field{StructField: t.Field(i)}
		if f.name, f.optional = fieldName(f.StructField); f.name == "-" {
			continue
		}
		if ref := f.Tag.Get("ref"); ref != "" {
			f.refs = strings.Split(ref, ",")
		}
		f.limited = f.Tag.Get("enum") != "" || f.Tag.Get("oneof") != ""
		s.at[f.name] = len(s.fields)
		s.fields = append(s.fields, f)
	}
	shapes.Store(t, s)
	return s
}

// field gives one of them, with its value in an object.
func (s *shape) field(v reflect.Value, name string) (*field, reflect.Value) {
	if i, ok := s.at[name]; ok {
		return &s.fields[i], v.Field(s.fields[i].Index[0])
	}
	return nil, reflect.Value{}
}

func fieldNamed(t reflect.Type, name string) (reflect.StructField, bool) {
	for _, f := range fieldsIn(t) {
		if f.name == name {
			return f.StructField, true
		}
	}
	return reflect.StructField{}, false
}

func fieldNames(t reflect.Type) (names []string) {
	for _, f := range fieldsIn(t) {
		if !contains(names, f.name) {
			names = append(names, f.name)
		}
	}
	return names
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "/" + name
}

func lowerFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

// AsFaults gives the faults in an error of Read.
func AsFaults(err error) (Faults, bool) {
	var fs Faults
	ok := errors.As(err, &fs)
	return fs, ok
}
