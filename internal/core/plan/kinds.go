package plan

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
)

// Kind is a kind of tunnel, as far as plans speak of it. Its settings are read, checked for their types, edited, compared, drawn as forms
// and described like all others.
type Kind struct {
	Name string
	// Options is a struct whose fields have the tags that a plan's have; nil: the kind has no settings of its own. A setting that another
	// kind has under the same name must have the same type.
	Options reflect.Type
	// Ports are what must arrive from outside for a tunnel; nil: nothing that is known beforehand.
	Ports func(Tunnel) []netset.Point
}

// kinds are those that are carried out, known the words that a plan may name.
var (
	kinds = []Kind{ikev2}
	known = []string{KindIKEv2, "masque", "l2tp-ipsec", "portal", "pptp"}
)

// AllowKind makes plans take tunnels of a kind, which is carried out. It is called before anything runs.
func AllowKind(k Kind) {
	kinds = append(kinds, k)
	if !slices.Contains(known, k.Name) {
		known = append(known, k.Name)
	}
}

// Kinds are those that are carried out.
func Kinds() []Kind { return slices.Clone(kinds) }

// Carried tells whether tunnels of a kind are carried out.
func Carried(kind string) bool {
	return slices.ContainsFunc(kinds, func(k Kind) bool { return k.Name == kind })
}

// KindOf is what is known of a tunnel's kind. Of one that is not carried out nothing is.
func KindOf(name string) Kind {
	for _, k := range kinds {
		if k.Name == name {
			return k
		}
	}
	return Kind{Name: name}
}

// bringing is a type of object whose kinds bring settings of their own: it has a field Own, a pointer to its kind's struct, whose fields
// stand among the others in a document.
type bringing struct {
	of    reflect.Type
	what  string // such objects are called
	kinds func() []Kind
	// otherwise is the kind as which one that is not carried out yet is read: a finding says that it is not, which is more than that its
	// settings are unknown.
	otherwise string
}

// bringers are a function, for kinds of tunnels are registered later.
func bringers() []bringing {
	return []bringing{
		{reflect.TypeFor[Tunnel](), "tunnels", func() []Kind { return kinds }, KindIKEv2},
		{reflect.TypeFor[Source](), "sources", func() []Kind { return sourceKinds }, KindLDAP},
	}
}

func bringerOf(t reflect.Type) (bringing, bool) {
	for _, b := range bringers() {
		if b.of == t {
			return b, true
		}
	}
	return bringing{}, false
}

// options is the type of the settings that objects of a kind have of their own; nil: none.
func (b bringing) options(kind string) reflect.Type {
	have := b.kinds()
	for _, name := range []string{kind, b.otherwise} {
		if i := slices.IndexFunc(have, func(k Kind) bool { return k.Name == name }); i >= 0 {
			return have[i].Options
		}
	}
	return nil
}

// field is one field of an object of a plan: of the object itself, or a setting that its kind brings.
type field struct {
	reflect.StructField
	name     string
	optional bool
	refs     []string
	limited  bool   // to some words
	of       string // the kind
}

// fieldsIn lists the fields that objects of a type may have, those of every kind of them among them.
func fieldsIn(t reflect.Type) []field {
	own := shapeOf(t).fields
	b, brings := bringerOf(t)
	if !brings {
		return own
	}
	out := slices.Clone(own)
	for _, k := range b.kinds() {
		if k.Options == nil {
			continue
		}
		for _, f := range shapeOf(k.Options).fields {
			f.of, f.optional = k.Name, true
			out = append(out, f)
		}
	}
	return out
}

// ownOf is the settings that an object's kind brings; not valid where there are none.
func ownOf(v reflect.Value) reflect.Value {
	if _, brings := bringerOf(v.Type()); !brings {
		return reflect.Value{}
	}
	own := v.FieldByName("Own")
	if own.IsNil() {
		return reflect.Value{}
	}
	return own.Elem().Elem()
}

// partsOf lists an object's fields with their values, those that its kind brings last.
func partsOf(v reflect.Value) ([]field, []reflect.Value) {
	fields := shapeOf(v.Type()).fields
	values := make([]reflect.Value, 0, len(fields))
	for _, f := range fields {
		values = append(values, v.Field(f.Index[0]))
	}
	if own := ownOf(v); own.IsValid() {
		fields = slices.Clone(fields)
		for _, f := range shapeOf(own.Type()).fields {
			fields, values = append(fields, f), append(values, own.Field(f.Index[0]))
		}
	}
	return fields, values
}

// MarshalJSON writes the settings of the tunnel's kind among the others.
func (t Tunnel) MarshalJSON() ([]byte, error) {
	type plain Tunnel
	return withOwn(plain(t), t.Own)
}

// MarshalJSON writes the settings of the source's kind among the others.
func (s Source) MarshalJSON() ([]byte, error) {
	type plain Source
	return withOwn(plain(s), s.Own)
}

func withOwn(plain, of any) ([]byte, error) {
	b, err := json.Marshal(plain)
	if err != nil || of == nil {
		return b, err
	}
	own, err := json.Marshal(of)
	if err != nil || string(own) == "{}" {
		return b, err
	}
	return append(append(b[:len(b)-1], ','), own[1:]...), nil
}

// UnmarshalJSON reads them.
func (t *Tunnel) UnmarshalJSON(b []byte) (err error) {
	type plain Tunnel
	if err := json.Unmarshal(b, (*plain)(t)); err != nil {
		return err
	}
	t.Own, err = readOwn(reflect.TypeFor[Tunnel](), t.Kind, b)
	return err
}

// UnmarshalJSON reads them.
func (s *Source) UnmarshalJSON(b []byte) (err error) {
	type plain Source
	if err := json.Unmarshal(b, (*plain)(s)); err != nil {
		return err
	}
	s.Own, err = readOwn(reflect.TypeFor[Source](), s.Kind, b)
	return err
}

func readOwn(t reflect.Type, kind string, b []byte) (any, error) {
	brings, _ := bringerOf(t)
	o := brings.options(kind)
	if o == nil {
		return nil, nil
	}
	own := reflect.New(o).Interface()
	return own, json.Unmarshal(b, own)
}

// enumOf are the words that a field may hold, with commas between; empty: any. Those of kinds of tunnels are registered.
func enumOf(f reflect.StructField) string {
	if f.Tag.Get("oneof") == "kinds" {
		return strings.Join(known, ",")
	}
	return f.Tag.Get("enum")
}
