package plan

import (
	"encoding"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Change is one difference between two plans.
type Change struct {
	Path   string `json:"path" doc:"The setting, such as rules/records-web/services."`
	Kind   string `json:"kind" enum:"made,changed,removed,moved,renamed"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// String says the change in one line.
func (c Change) String() string {
	switch c.Kind {
	case "made":
		if c.After == "" {
			return "make " + c.Path
		}
		return fmt.Sprintf("set %s to %s", c.Path, c.After)
	case "removed":
		if c.Before == "" {
			return "remove " + c.Path
		}
		return fmt.Sprintf("remove %s (was %s)", c.Path, c.Before)
	case "renamed":
		return fmt.Sprintf("rename %s to %s", c.Path, c.After)
	case "moved":
		return fmt.Sprintf("reorder %s: %s → %s", c.Path, c.Before, c.After)
	}
	return fmt.Sprintf("change %s from %s to %s", c.Path, c.Before, c.After)
}

// Difference lists what turns the plan before into the plan after: objects by their names, fields by value.
func Difference(before, after Plan) []Change {
	var d differ
	d.object("", reflect.ValueOf(before), reflect.ValueOf(after))
	return d.changes
}

type differ struct{ changes []Change }

func (d *differ) add(path, kind, before, after string) {
	d.changes = append(d.changes, Change{path, kind, oneLine(before), oneLine(after)})
}

func (d *differ) object(path string, a, b reflect.Value) {
	fields, before := partsOf(a)
	others, after := partsOf(b)
	for i, f := range fields {
		k := slices.IndexFunc(others, func(o field) bool { return o.name == f.name })
		if k < 0 { // a setting that the other's kind does not have
			d.field(join(path, f.name), before[i], reflect.Zero(f.Type))
			continue
		}
		d.field(join(path, f.name), before[i], after[k])
	}
	for k, o := range others {
		if !slices.ContainsFunc(fields, func(f field) bool { return f.name == o.name }) {
			d.field(join(path, o.name), reflect.Zero(o.Type), after[k])
		}
	}
}

func (d *differ) field(path string, a, b reflect.Value) {
	if a.Kind() == reflect.Slice && named(a.Type().Elem()) {
		d.objects(path, a, b)
		return
	}
	if _, text := a.Interface().(encoding.TextMarshaler); a.Kind() == reflect.Struct && !text {
		d.object(path, a, b)
		return
	}
	before, after := words(a), words(b)
	switch {
	case before == after:
	case before == "":
		d.add(path, "made", "", after)
	case after == "":
		d.add(path, "removed", before, "")
	default:
		d.add(path, "changed", before, after)
	}
}

func (d *differ) objects(path string, a, b reflect.Value) {
	before, after := byName(a), byName(b)
	renamed := renames(before, after, names(a), names(b))
	var keptBefore, keptAfter []string
	for _, name := range names(a) {
		_, kept := after[name]
		switch to := renamed[name]; {
		case kept:
			keptBefore = append(keptBefore, name)
		case to != "":
			d.add(join(path, name), "renamed", name, to)
			keptBefore = append(keptBefore, to)
		default:
			d.add(join(path, name), "removed", "", "")
		}
	}
	for _, name := range names(b) {
		old, kept := before[name]
		if !kept {
			if slices.Contains(keptBefore, name) {
				keptAfter = append(keptAfter, name)
			} else {
				d.add(join(path, name), "made", "", "")
			}
			continue
		}
		keptAfter = append(keptAfter, name)
		d.object(join(path, name), old, after[name])
	}
	if !slices.Equal(keptBefore, keptAfter) {
		d.add(path, "moved", strings.Join(keptBefore, ", "), strings.Join(keptAfter, ", "))
	}
}

// renames finds objects that are gone and came back under another name, with everything else as it was.
func renames(before, after map[string]reflect.Value, gone, come []string) map[string]string {
	out, taken := map[string]string{}, map[string]bool{}
	for _, from := range gone {
		if _, kept := after[from]; kept {
			continue
		}
		for _, to := range come {
			if _, known := before[to]; !known && !taken[to] && sameButName(before[from], after[to]) {
				out[from], taken[to] = to, true
				break
			}
		}
	}
	return out
}

func sameButName(a, b reflect.Value) bool {
	for i := range a.NumField() {
		if a.Type().Field(i).Name != "Name" && !reflect.DeepEqual(a.Field(i).Interface(), b.Field(i).Interface()) {
			return false
		}
	}
	return true
}

func named(t reflect.Type) bool {
	if t.Kind() != reflect.Struct {
		return false
	}
	_, ok := t.FieldByName("Name")
	return ok
}

func names(list reflect.Value) []string {
	out := make([]string, list.Len())
	for i := range out {
		out[i] = list.Index(i).FieldByName("Name").String()
	}
	return out
}

func byName(list reflect.Value) map[string]reflect.Value {
	out := map[string]reflect.Value{}
	for i, name := range names(list) {
		out[name] = list.Index(i)
	}
	return out
}

// Objects gives the lists of named objects of a plan, and their kinds in the document's order.
func Objects(p Plan) (kinds []string, lists map[string]reflect.Value) {
	lists = map[string]reflect.Value{}
	v := reflect.ValueOf(p)
	for i := range v.NumField() {
		if f := v.Field(i); f.Kind() == reflect.Slice && named(f.Type().Elem()) {
			kind, _ := fieldName(v.Type().Field(i))
			kinds = append(kinds, kind)
			lists[kind] = f
		}
	}
	return kinds, lists
}

// Words writes an object of a plan in one line.
func Words(v reflect.Value) string { return words(v) }

// words writes any value of a plan in one line; an absent one is empty.
func words(v reflect.Value) string {
	if v.IsZero() {
		return ""
	}
	if t, ok := v.Interface().(encoding.TextMarshaler); ok {
		text, _ := t.MarshalText()
		return string(text)
	}
	switch v.Kind() {
	case reflect.Pointer:
		return words(v.Elem())
	case reflect.Slice:
		parts := make([]string, v.Len())
		for i := range parts {
			parts[i] = words(v.Index(i))
		}
		return strings.Join(parts, ", ")
	case reflect.Struct:
		var parts []string
		fields, values := partsOf(v)
		for i, f := range fields {
			if w := words(values[i]); w != "" {
				parts = append(parts, f.name+" "+w)
			}
		}
		return strings.Join(parts, ", ")
	case reflect.Bool:
		return strconv.FormatBool(v.Bool())
	case reflect.Int:
		return strconv.FormatInt(v.Int(), 10)
	}
	return v.String()
}
