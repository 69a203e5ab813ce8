package plan

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// put makes an object what value says: fields that differ are set, fields that value leaves out (or gives as null) are taken out, and all
// else stays as it is written, comments and layout included. An object that is not there is added to its list. value is a mapping, in
// YAML or JSON on one line.
func put(text, path, value string) (string, error) {
	t := typeAt(path)
	var want map[string]any
	if t == nil || t.Kind() != reflect.Struct {
		return "", errors.New("only an object can be put")
	}
	if err := yaml.Unmarshal([]byte(value), &want); err != nil {
		return "", fmt.Errorf("%q is no object", value)
	}
	if name, ok := want["name"].(string); ok && name != path[strings.LastIndexByte(path, '/')+1:] {
		return "", fmt.Errorf("it is called %s in one place and %s in the other: rename it by itself", path, name)
	}
	root, err := parse(text)
	if err != nil {
		return "", err
	}
	at, missing := find(root, strings.Split(path, "/"))
	switch {
	case len(missing) > 2:
		return "", fmt.Errorf("there is no %s", path)
	case len(missing) > 0:
		return apply(text, Edit{"add", path[:strings.LastIndexByte(path, '/')], Flow(want, t)})
	}
	var have map[string]any
	if err := at.node.Decode(&have); err != nil {
		return "", err
	}
	return putFields(text, path, t, have, want)
}

func parse(text string) (*yaml.Node, error) {
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil || len(root.Content) != 1 {
		return nil, errors.New("the document cannot be read")
	}
	return root.Content[0], nil
}

func putFields(text, path string, t reflect.Type, have, want map[string]any) (string, error) {
	for name := range want {
		if _, ok := fieldNamed(t, name); !ok {
			return "", fmt.Errorf("unknown field %q; there are %s", name, strings.Join(fieldNames(t), ", "))
		}
	}
	var err error
	for _, name := range fieldNames(t) {
		f, _ := fieldNamed(t, name)
		if text, err = putField(text, join(path, name), f.Type, have[name], want[name]); err != nil {
			return "", fmt.Errorf("%s: %w", name, err)
		}
	}
	return text, nil
}

func putField(text, path string, t reflect.Type, have, want any) (string, error) {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	old, next := Flow(have, t), Flow(want, t)
	switch {
	case want == nil && have == nil, want != nil && have != nil && old == next:
		return text, nil
	case want == nil:
		return apply(text, Edit{"remove", path, ""})
	case have == nil:
		return apply(text, Edit{"set", path, next})
	}
	if fields, ok := have.(map[string]any); ok && t.Kind() == reflect.Struct {
		wanted, ok := want.(map[string]any)
		if !ok {
			return "", errors.New("there must be fields here")
		}
		return putFields(text, path, t, fields, wanted)
	}
	if haves, ok := have.([]any); ok {
		if wants, ok := want.([]any); ok && len(wants) > 0 {
			if out, err := putItems(text, path, t.Elem(), haves, wants); err == nil {
				return out, nil
			}
		}
	}
	out, err := apply(text, Edit{"set", path, next})
	if err == nil {
		return out, nil
	}
	// It is written over several lines: it is written anew.
	if out, err = apply(text, Edit{"remove", path, ""}); err != nil {
		return "", err
	}
	return apply(out, Edit{"set", path, next})
}

// putItems turns one list into another by taking items out and adding some at the end, or by changing items in their places.
func putItems(text, path string, t reflect.Type, have, want []any) (string, error) {
	kept := 0
	var gone []int
	for i, x := range have {
		if kept < len(want) && Flow(x, t) == Flow(want[kept], t) {
			kept++
		} else {
			gone = append(gone, i)
		}
	}
	var err error
	if len(have) == len(want) && kept < len(want) {
		for i := range want {
			at := join(path, strconv.Itoa(i))
			if text, err = putField(text, at, t, have[i], want[i]); err != nil {
				return "", err
			}
		}
		return text, nil
	}
	if len(gone) == len(have) {
		return "", errors.New("nothing of it stays")
	}
	for i := len(gone) - 1; i >= 0; i-- {
		if text, err = apply(text, Edit{"remove", join(path, strconv.Itoa(gone[i])), ""}); err != nil {
			return "", err
		}
	}
	for _, x := range want[kept:] {
		if text, err = apply(text, Edit{"add", path, Flow(x, t)}); err != nil {
			return "", err
		}
	}
	return text, nil
}

// Flow writes a value as YAML on one line: the fields of an object in the order of its type, text in quotes only where it must be.
func Flow(v any, t reflect.Type) string {
	if t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch v := v.(type) {
	case nil:
		return "null"
	case []any:
		parts := make([]string, len(v))
		for i, x := range v {
			parts[i] = Flow(x, elemOf(t))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case map[string]any:
		var parts []string
		for _, name := range orderOf(v, t) {
			if v[name] == nil {
				continue
			}
			var inner reflect.Type
			if t != nil && t.Kind() == reflect.Struct {
				if f, ok := fieldNamed(t, name); ok {
					inner = f.Type
				}
			}
			parts = append(parts, name+": "+Flow(v[name], inner))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case string:
		return quoteFlow(v)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

func elemOf(t reflect.Type) reflect.Type {
	if t != nil && t.Kind() == reflect.Slice {
		return t.Elem()
	}
	return nil
}

// orderOf is the names of the fields: those of the type in its order, then unknown ones by name, which the reader will complain of.
func orderOf(v map[string]any, t reflect.Type) []string {
	var out []string
	if t != nil && t.Kind() == reflect.Struct {
		for _, name := range fieldNames(t) {
			if _, ok := v[name]; ok {
				out = append(out, name)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(v)) {
		if !contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

var (
	plainText = regexp.MustCompile(`^[A-Za-z0-9_./][A-Za-z0-9_./+ -]*$`)
	plainTime = regexp.MustCompile(`^[0-9]{2}:[0-9]{2}$`)
)

func quoteFlow(s string) string {
	switch strings.ToLower(s) {
	case "null", "true", "false", "yes", "no", "on", "off":
		return strconv.Quote(s)
	}
	if plainTime.MatchString(s) || plainText.MatchString(s) && strings.TrimSpace(s) == s {
		return s
	}
	return strconv.Quote(s)
}

// move puts an object of a list before another one of it, or at the end where before is empty, with the comment lines above it.
func move(text, path, before string) (string, error) {
	root, err := parse(text)
	if err != nil {
		return "", err
	}
	cut := strings.LastIndexByte(path, '/')
	if cut < 0 {
		return "", errors.New("only an object of a list can be moved")
	}
	at, missing := find(root, strings.Split(path, "/"))
	if len(missing) > 0 || at.parent == nil || at.parent.Kind != yaml.SequenceNode || flow(at.parent) {
		return "", errors.New("only an object of a list that is written line by line can be moved")
	}
	s := splicer{text: text, lines: lineStarts(text)}
	if !strings.HasSuffix(text, "\n") {
		return "", errors.New("the document does not end with an end of line")
	}
	from, to := s.itemSpan(at.node)
	target := s.after(at.parent)
	if before != "" {
		other, missing := find(root, append(strings.Split(path[:cut], "/"), before))
		if len(missing) > 0 {
			return "", fmt.Errorf("there is no %s in %s", before, path[:cut])
		}
		target, _ = s.itemSpan(other.node)
	}
	if from <= target && target <= to {
		return text, nil
	}
	piece := text[from:to]
	if target < from {
		return text[:target] + piece + text[target:from] + text[to:], nil
	}
	return text[:from] + text[to:target] + piece + text[target:], nil
}

// itemSpan is where the lines of a list's item begin and end, comment lines directly above included.
func (s splicer) itemSpan(n *yaml.Node) (from, to int) {
	line := n.Line - 1
	for line > 0 && strings.HasPrefix(strings.TrimSpace(s.text[s.lines[line-1]:s.lines[line]]), "#") {
		line--
	}
	return s.lines[line], s.after(n)
}
