package plan

import (
	"encoding"
	"fmt"
	"reflect"
	"strings"
)

const referenceHead = `# The plan

One YAML document holds the whole configuration. It is read strictly: an unknown or repeated field, a wrong type or a malformed
value is told with its line, its column and what was expected, all faults at once. Anchors and aliases are not read. Comments and layout stay: the
text is the record. Objects are found by their ` + "`name`" + `: up to 63 lower-case letters, digits, dots, underscores and hyphens, unique in their list.
Passwords, keys and certificates are never in the plan; it refers to them by name.

A **destination** is the name of a network, zone, host or host group, a prefix, an address, a range of addresses (` + "`10.20.0.20-10.20.0.29`" + `), ` + "`internet`" + ` (all that is neither private, special, inside, in a pool, nor the gateway's own) or
` + "`any`" + `. A **service** is the name of a service, or ` + "`tcp/443`, `udp/6000-6010`, `tcp`, `ping`, `icmp/echo`, `icmp/13`, `icmpv6/echo`, `proto/47`, `proto/18-57`, `any`" + `.

What the plan means for a packet is said in [semantics.md](semantics.md). The plan of the demonstration, ` + "[demo/plan.yaml](../demo/plan.yaml)" + `, shows every object.
This page is made from the plan's types (` + "`go run ./internal/core/plan/plandoc > docs/plan.md`" + `).

`

// Reference is docs/plan.md: every field of the document.
func Reference() string {
	var b strings.Builder
	b.WriteString(referenceHead)
	describeType(&b, "The document", reflect.TypeOf(Plan{}), map[reflect.Type]bool{})
	return b.String()
}

func describeType(b *strings.Builder, title string, t reflect.Type, done map[reflect.Type]bool) {
	if done[t] {
		return
	}
	done[t] = true
	fmt.Fprintf(b, "## %s\n\n| field | what it is | |\n|---|---|---|\n", title)
	type part struct {
		title string
		t     reflect.Type
	}
	var parts []part
	for _, f := range fieldsIn(t) {
		if f.gone() {
			continue
		}
		name := f.name
		kind, inner := typeWords(f.Type)
		need := "required"
		if f.optional {
			need = ""
		}
		if f.of != "" {
			need = "of kind " + f.of
		}
		words := f.Tag.Get("doc")
		if choice := enumOf(f.StructField); choice != "" && !strings.Contains(words, strings.Split(choice, ",")[0]) {
			words += " One of " + strings.ReplaceAll(choice, ",", ", ") + "."
		}
		if then := f.Tag.Get("then"); then != "" {
			words += " *" + then + "*"
		}
		if inner != nil {
			parts = append(parts, part{name, inner})
			kind += fmt.Sprintf(", see [%s](#%s)", name, name)
		}
		fmt.Fprintf(b, "| `%s` | %s *%s* | %s |\n", name, words, kind, need)
	}
	b.WriteString("\n")
	for _, p := range parts {
		describeType(b, p.title, p.t, done)
	}
}

// typeWords says a field's type, and gives the type of the objects in it.
func typeWords(t reflect.Type) (string, reflect.Type) {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()) {
		return map[string]string{
			"Addr": "address", "Prefix": "prefix", "Range": "range", "Duration": "duration",
			"Clock": "time of day",
		}[t.Name()], nil
	}
	switch t.Kind() {
	case reflect.Slice:
		words, inner := typeWords(t.Elem())
		return "list: " + words, inner
	case reflect.Struct:
		return "object", t
	case reflect.Bool:
		return "true or false", nil
	case reflect.Int:
		return "number", nil
	}
	return "text", nil
}
