package plan

import (
	"encoding"
	"reflect"
	"slices"
	"strings"
)

// Form says what an object of one kind is made of, for whoever draws a form for it.
type Form struct {
	Kind   string  `json:"kind" doc:"The list that the objects are in."`
	One    string  `json:"one" doc:"What one of them is called."`
	Doc    string  `json:"doc"`
	Order  bool    `json:"order,omitempty" doc:"The order in which they stand decides."`
	Reach  bool    `json:"reach,omitempty" doc:"Reach may depend on one of them: it can be asked what would be without it."`
	Fields []Field `json:"fields" nullable:"false"`
}

// Field is one field of an object.
type Field struct {
	Name     string   `json:"name"`
	Type     string   `json:"type" enum:"text,switch,number,address,prefix,range,duration,clock,object"`
	List     bool     `json:"list,omitempty"`
	Lines    bool     `json:"lines,omitempty" doc:"A text of several lines."`
	Required bool     `json:"required,omitempty"`
	Usual    bool     `json:"usual,omitempty" doc:"It may be left out, and is asked for all the same."`
	Doc      string   `json:"doc"`
	Example  string   `json:"example,omitempty"`
	Then     string   `json:"then,omitempty" doc:"What follows from it."`
	Choices  []string `json:"choices,omitempty" nullable:"false"`
	Refs     []string `json:"refs,omitempty" nullable:"false" doc:"Lists whose objects it may name."`
	Words    []string `json:"words,omitempty" nullable:"false" doc:"Words with a meaning of their own that it may hold."`
	Literal  bool     `json:"literal,omitempty" doc:"It may hold addresses, prefixes or ranges as well."`
	Fields   []Field  `json:"fields,omitempty" nullable:"false" doc:"Of an object."`
	Of       []string `json:"of,omitempty" nullable:"false" doc:"It is a setting of these kinds of tunnels alone."`
}

// Forms gives the forms of all kinds of objects, in the order of the document.
func Forms() []Form {
	var out []Form
	t := reflect.TypeFor[Plan]()
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Type.Kind() == reflect.Slice && named(f.Type.Elem()) {
			kind, _ := fieldName(f)
			says := strings.Split(f.Tag.Get("are"), ",")
			out = append(out, Form{
				Kind: kind, One: One(kind), Doc: f.Tag.Get("doc"), Order: slices.Contains(says, "ordered"), Reach: slices.Contains(says, "reach"),
				Fields: fieldsOf(f.Type.Elem()),
			})
		}
	}
	return out
}

// Fields gives the settings of a plan itself, apart from its lists of objects.
func Fields() (out []Field) {
	for _, f := range fieldsOf(reflect.TypeFor[Plan]()) {
		if f.Type != "object" {
			out = append(out, f)
		}
	}
	return out
}

// One is what one object of a kind is called.
func One(kind string) string {
	switch kind {
	case "hours":
		return kind
	case "nat":
		return "NAT entry"
	case "equipment":
		return kind
	case "administrators":
		return "group of administrators"
	case "authorities":
		return "authority"
	}
	return strings.ReplaceAll(strings.TrimSuffix(kind, "s"), "-", " ")
}

func fieldsOf(t reflect.Type) []Field {
	var out []Field
	for _, f := range fieldsIn(t) {
		if f.gone() {
			continue
		}
		if k := slices.IndexFunc(out, func(x Field) bool { return x.Name == f.name }); k >= 0 { // another kind has it as well
			out[k].Of = append(out[k].Of, f.of)
			continue
		}
		x := Field{
			Name: f.name, Required: !f.optional, Doc: f.Tag.Get("doc"), Example: f.Tag.Get("eg"), Then: f.Tag.Get("then"),
			Usual: f.Tag.Get("ask") == "always", Lines: f.Tag.Get("lines") == "many",
		}
		if f.of != "" {
			x.Of = []string{f.of}
		}
		if choices := enumOf(f.StructField); choices != "" {
			x.Choices = strings.Split(choices, ",")
		}
		for _, ref := range strings.Split(f.Tag.Get("ref"), ",") {
			switch ref {
			case "":
			case "literal":
				x.Literal = true
			case Internet, Any, Itself:
				x.Words = append(x.Words, ref)
			default:
				x.Refs = append(x.Refs, ref)
			}
		}
		inner := f.Type
		if inner.Kind() == reflect.Pointer {
			inner = inner.Elem()
		}
		if inner.Kind() == reflect.Slice {
			x.List, inner = true, inner.Elem()
		}
		if x.Type = fieldType(inner); x.Type == "object" {
			x.Fields = fieldsOf(inner)
		}
		out = append(out, x)
	}
	return out
}

func fieldType(t reflect.Type) string {
	if reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()) {
		return map[string]string{
			"Addr": "address", "Prefix": "prefix", "Range": "range", "Duration": "duration",
			"Clock": "clock",
		}[t.Name()]
	}
	switch t.Kind() {
	case reflect.Bool:
		return "switch"
	case reflect.Int:
		return "number"
	case reflect.Struct:
		return "object"
	}
	return "text"
}

// typeAt is the type of what stands at a path of names and indexes; nil if nothing can stand there.
func typeAt(path string) reflect.Type {
	t := reflect.TypeFor[Plan]()
	for _, word := range strings.Split(path, "/") {
		if t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		switch t.Kind() {
		case reflect.Struct:
			f, ok := fieldNamed(t, word)
			if !ok {
				return nil
			}
			t = f.Type
		case reflect.Slice:
			t = t.Elem()
		default:
			return nil
		}
	}
	return t
}
