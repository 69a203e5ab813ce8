package plan

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Edit is one change of a document, made by splicing its text: comments and layout around it stay.
type Edit struct {
	Op    string `json:"op" enum:"set,add,remove,put,rename,move" doc:"set gives a field a value, add puts an item at the end of a list, remove takes an object, item or field out, put makes an object what is given (or adds it) and leaves alone what does not differ, rename gives an object another name wherever it is named, move puts it before another one of its list."`
	Path  string `json:"path" doc:"The setting; for add, the list."`
	Value string `json:"value,omitempty" lines:"many" doc:"What to set, add or put, as YAML or JSON on one line: a word, [a, b] or {name: x, …}; for rename, the new name; for move, the object before which it is to stand, empty: at the end."`
}

// mostTold is how much of a value is told, in octets: a certificate says nothing to who reads it.
const mostTold = 200

// String says the edit in one line.
func (e Edit) String() string {
	value := e.Value
	if len(value) > mostTold {
		value = strings.ToValidUTF8(value[:mostTold], "") + " …"
	}
	switch e.Op {
	case "add":
		return fmt.Sprintf("add %s to %s", value, e.Path)
	case "remove":
		return "remove " + e.Path
	case "put":
		return "put " + e.Path
	case "rename":
		return fmt.Sprintf("rename %s to %s", e.Path, e.Value)
	case "move":
		return "move " + e.Path
	}
	return fmt.Sprintf("set %s to %s", e.Path, value)
}

// Apply makes edits one after another. The outcome must be a plan again; otherwise the error says why, and nothing is changed.
func Apply(text string, edits ...Edit) (string, error) {
	for _, e := range edits {
		var err error
		if text, err = apply(text, e); err != nil {
			return "", fmt.Errorf("cannot %s: %w", e, err)
		}
	}
	if _, err := Read(text); err != nil {
		return "", err
	}
	return text, nil
}

// spot is a place in a document's tree: the node, and where it hangs.
type spot struct {
	parent *yaml.Node
	index  int // of the node among the parent's content
	node   *yaml.Node
}

func apply(text string, e Edit) (string, error) {
	if strings.ContainsAny(e.Value, "\n\r") {
		return "", errors.New("the value has more than one line")
	}
	switch e.Op {
	case "put":
		return put(text, e.Path, e.Value)
	case "rename":
		return rename(text, e.Path, e.Value)
	case "move":
		return move(text, e.Path, e.Value)
	}
	var value yaml.Node
	if e.Op != "remove" {
		if err := yaml.Unmarshal([]byte(e.Value), &value); err != nil || len(value.Content) != 1 {
			return "", fmt.Errorf("%q is no value", e.Value)
		}
	}
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil || len(root.Content) != 1 {
		return "", errors.New("the document cannot be read")
	}
	s := splicer{text: text, lines: lineStarts(text)}
	at, missing := find(root.Content[0], strings.Split(e.Path, "/"))
	switch {
	case len(missing) > 1:
		return "", fmt.Errorf("there is no %s", strings.TrimSuffix(e.Path, "/"+strings.Join(missing[1:], "/")))
	case len(missing) == 1 && e.Op == "remove":
		return "", errors.New("it is not there")
	case len(missing) == 1 && at.node.Kind != yaml.MappingNode:
		return "", fmt.Errorf("there is no %s", e.Path)
	case len(missing) == 1 && at.parent == nil && !flow(at.node) && e.Op == "add": // the first of its kind
		return s.addList(at.node, missing[0], e.Value)
	case len(missing) == 1: // a field that is not there yet
		v := e.Value
		if e.Op == "add" {
			v = "[" + v + "]"
		}
		return s.addField(at.node, missing[0], v)
	}
	switch e.Op {
	case "set":
		return s.replace(at.node, e.Value)
	case "add":
		if at.node.Kind != yaml.SequenceNode {
			return "", errors.New("it is no list")
		}
		return s.addItem(at.node, e.Value)
	case "remove":
		if of := at.parent; of != nil && of.Kind == yaml.SequenceNode && len(of.Content) == 1 && !flow(of) { // nothing is left of the list
			return apply(text, Edit{Op: "remove", Path: e.Path[:strings.LastIndexByte(e.Path, '/')]})
		}
		return s.remove(at)
	}
	return "", fmt.Errorf("there is no edit %q", e.Op)
}

// find walks down a path by names of fields, names of objects, and indexes. missing is what is left of the path where it ends.
func find(n *yaml.Node, path []string) (at spot, missing []string) {
	at = spot{node: n}
	for i, word := range path {
		next := -1
		switch at.node.Kind {
		case yaml.MappingNode:
			for k := 0; k+1 < len(at.node.Content); k += 2 {
				if at.node.Content[k].Value == word {
					next = k + 1
				}
			}
		case yaml.SequenceNode:
			for k, item := range at.node.Content {
				if name := nameNode(item); name != nil && name.Value == word {
					next = k
				}
			}
			if k, err := strconv.Atoi(word); err == nil && next < 0 && k >= 0 && k < len(at.node.Content) {
				next = k
			}
		}
		if next < 0 {
			return at, path[i:]
		}
		at = spot{at.node, next, at.node.Content[next]}
	}
	return at, nil
}

type splicer struct {
	text  string
	lines []int // offsets at which lines begin
}

func lineStarts(text string) []int {
	out := []int{0}
	for i := range len(text) {
		if text[i] == '\n' {
			out = append(out, i+1)
		}
	}
	return out
}

// offset is where a node begins. Columns count characters, as the YAML reader does.
func (s splicer) offset(n *yaml.Node) int {
	at := s.lines[n.Line-1]
	for range n.Column - 1 {
		at++
		for at < len(s.text) && s.text[at]&0xc0 == 0x80 {
			at++
		}
	}
	return at
}

func (s splicer) splice(from, to int, put string) (string, error) {
	return s.text[:from] + put + s.text[to:], nil
}

func flow(n *yaml.Node) bool { return n.Style&yaml.FlowStyle != 0 || len(n.Content) == 0 }

// end is where a node's text ends, for scalars on one line and for flow collections.
func (s splicer) end(n *yaml.Node, inFlow bool) (int, error) {
	at := s.offset(n)
	if n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode {
		if !flow(n) {
			return 0, errors.New("it is written over several lines: change it in the text")
		}
		return s.closing(at)
	}
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		return s.quoteEnd(at)
	}
	if last := s.lastOfScalar(n); last > n.Line && !inFlow {
		return s.lines[last-1] + len(strings.TrimRight(s.line(last), " \t\r\n")), nil
	}
	stop := at
	for stop < len(s.text) && s.text[stop] != '\n' && !strings.HasPrefix(s.text[stop:], " #") &&
		!(inFlow && strings.ContainsRune(",]}", rune(s.text[stop]))) {
		stop++
	}
	return at + len(strings.TrimRight(s.text[at:stop], " \t\r")), nil
}

// quoteEnd is just behind the quote that closes the one at an offset.
func (s splicer) quoteEnd(at int) (int, error) {
	quote := s.text[at]
	for i := at + 1; i < len(s.text); i++ {
		switch {
		case quote == '"' && s.text[i] == '\\':
			i++
		case s.text[i] == quote && quote == '\'' && i+1 < len(s.text) && s.text[i+1] == '\'':
			i++
		case s.text[i] == quote:
			return i + 1, nil
		}
	}
	return 0, errors.New("a quote is not closed")
}

// closing is just behind the bracket that closes the one at an offset.
func (s splicer) closing(at int) (int, error) {
	depth := 0
	for i := at; i < len(s.text); i++ {
		switch c := s.text[i]; {
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth--; depth == 0 {
				return i + 1, nil
			}
		case (c == '"' || c == '\'') && strings.ContainsRune("[{,: \n", rune(s.text[i-1])):
			end, err := s.quoteEnd(i)
			if err != nil {
				return 0, err
			}
			i = end - 1
		case c == '#' && (s.text[i-1] == ' ' || s.text[i-1] == '\n'):
			for i+1 < len(s.text) && s.text[i+1] != '\n' {
				i++
			}
		}
	}
	return 0, errors.New("a bracket is not closed")
}

func (s splicer) replace(n *yaml.Node, value string) (string, error) {
	at := s.offset(n)
	// Whether it stands inside a flow collection is asked of the text: then a comma or bracket ends it.
	inFlow := s.insideFlow(at)
	end, err := s.end(n, inFlow)
	if err != nil {
		return "", err
	}
	if lines := spread(value); !inFlow && strings.HasPrefix(lines, "|") {
		value = deeper(lines, s.indentOf(n))
	}
	return s.splice(at, end, value)
}

// insideFlow tells whether an offset lies between brackets that open on its own line or before.
func (s splicer) insideFlow(at int) bool {
	var root yaml.Node
	if yaml.Unmarshal([]byte(s.text), &root) != nil {
		return false
	}
	found := false
	var walk func(n *yaml.Node)
	walk = func(n *yaml.Node) {
		if (n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode) && n.Style&yaml.FlowStyle != 0 {
			if begin := s.offset(n); begin < at {
				if end, err := s.closing(begin); err == nil && at < end {
					found = true
				}
			}
		}
		for _, c := range n.Content {
			walk(c)
		}
	}
	walk(&root)
	return found
}

// lastLine is the last line that belongs to a node, counting from 1: the greatest line on which a part of it ends.
func (s splicer) lastLine(n *yaml.Node) int {
	line := n.Line
	if (n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode) && flow(n) {
		if end, err := s.closing(s.offset(n)); err == nil {
			return n.Line + strings.Count(s.text[s.offset(n):end], "\n")
		}
	}
	if n.Kind == yaml.ScalarNode {
		line = s.lastOfScalar(n)
	}
	for _, c := range n.Content {
		line = max(line, s.lastLine(c))
	}
	return line
}

// line is a line's text with its end, counting from 1.
func (s splicer) line(n int) string {
	if n < len(s.lines) {
		return s.text[s.lines[n-1]:s.lines[n]]
	}
	return s.text[s.lines[n-1]:]
}

// indentOf is how far in the key or the dash stands that a text belongs to.
func (s splicer) indentOf(n *yaml.Node) (indent int) {
	begin, at := s.lines[n.Line-1], s.offset(n)
	for i := begin; i < at && strings.IndexByte(" -", s.text[i]) >= 0; i++ {
		if indent = i + 1 - begin; s.text[i] == '-' && i+2 >= at {
			return i - begin
		}
	}
	return indent
}

// lastOfScalar is the last line of a text that stands outside of brackets: it goes on for as long as lines are further in than what it
// belongs to (YAML 1.2.2 §7.3.3, §8.1).
func (s splicer) lastOfScalar(n *yaml.Node) int {
	at := s.offset(n)
	if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
		if end, err := s.quoteEnd(at); err == nil {
			return n.Line + strings.Count(s.text[at:end], "\n")
		}
		return n.Line
	}
	indent := s.indentOf(n)
	block, last := n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0, n.Line
	for l := n.Line + 1; l <= len(s.lines); l++ {
		text := strings.TrimRight(s.line(l), "\r\n")
		inner := strings.TrimLeft(text, " ")
		if inner == "" {
			continue
		}
		if len(text)-len(inner) <= indent || !block && inner[0] == '#' {
			break
		}
		last = l
	}
	return last
}

// after is the offset of the line that follows a node's last one.
func (s splicer) after(n *yaml.Node) int {
	if last := s.lastLine(n); last < len(s.lines) {
		return s.lines[last]
	}
	return len(s.text)
}

// newLine puts a line at an offset that begins one; the text before it may lack its end of line.
func (s splicer) newLine(at int, indent int, line string) (string, error) {
	put := strings.Repeat(" ", indent) + deeper(line, indent) + "\n"
	if at > 0 && s.text[at-1] != '\n' {
		put = "\n" + put
	}
	return s.splice(at, at, put)
}

// deeper moves the lines of a text further in, but for the first.
func deeper(text string, by int) string {
	return strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", by))
}

// under puts an object that is written over several lines below its key.
func under(value string) string {
	if first, _, several := strings.Cut(value, "\n"); !several || strings.HasPrefix(first, "|") {
		return value
	}
	return "\n  " + deeper(value, 2)
}

// spread writes a value over several lines where a text in it has several, as a certificate has; otherwise it stays as it is.
func spread(value string) string {
	var doc yaml.Node
	if !strings.Contains(value, `\n`) || yaml.Unmarshal([]byte(value), &doc) != nil || len(doc.Content) != 1 {
		return value
	}
	if !unfold(doc.Content[0]) {
		return value
	}
	var out strings.Builder
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if enc.Encode(&doc) != nil {
		return value
	}
	return strings.TrimRight(out.String(), "\n")
}

// unfold takes what holds a text of several lines out of its brackets, and tells whether there is one.
func unfold(n *yaml.Node) (any bool) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!str" && strings.Contains(strings.TrimRight(n.Value, "\n"), "\n") {
		n.Style = yaml.LiteralStyle
		return true
	}
	for _, c := range n.Content {
		any = unfold(c) || any
	}
	if any {
		n.Style &^= yaml.FlowStyle
	}
	return any
}

func (s splicer) addItem(list *yaml.Node, value string) (string, error) {
	if flow(list) {
		at := s.offset(list)
		if s.text[at] != '[' {
			return "", errors.New("the list is written in a way that cannot be added to: change it in the text")
		}
		end, err := s.closing(at)
		if err != nil {
			return "", err
		}
		if len(list.Content) > 0 {
			value = ", " + value
		}
		return s.splice(end-1, end-1, value)
	}
	return s.newLine(s.after(list), list.Column-1, "- "+deeper(spread(value), 2))
}

func (s splicer) addField(object *yaml.Node, name, value string) (string, error) {
	if flow(object) {
		at := s.offset(object)
		end, err := s.closing(at)
		if err != nil {
			return "", err
		}
		put := name + ": " + value
		if len(object.Content) > 0 {
			put = ", " + put
		}
		return s.splice(end-1, end-1, put)
	}
	return s.newLine(s.after(object), object.Column-1, name+": "+under(spread(value)))
}

// addList begins a list of the document with its first item: where the types have it, before the next list that is there.
func (s splicer) addList(root *yaml.Node, name, value string) (string, error) {
	block := name + ":\n  - " + deeper(spread(value), 4) + "\n"
	order := fieldNames(reflect.TypeFor[Plan]())
	behind := order[slices.Index(order, name)+1:]
	for k := 0; k+1 < len(root.Content) && contains(order, name); k += 2 {
		if contains(behind, root.Content[k].Value) {
			from, _ := s.itemSpan(root.Content[k])
			return s.splice(from, from, block+"\n")
		}
	}
	if !strings.HasSuffix(s.text, "\n") {
		block = "\n" + block
	}
	return s.splice(len(s.text), len(s.text), "\n"+block)
}

// remove takes a node out, with its key or dash and, in a block, with its lines.
func (s splicer) remove(at spot) (string, error) {
	if at.parent == nil {
		return "", errors.New("the whole document cannot be removed")
	}
	first := at.node
	step := 1
	if at.parent.Kind == yaml.MappingNode {
		first, step = at.parent.Content[at.index-1], 2
	}
	if !flow(at.parent) {
		from := s.lines[first.Line-1]
		if at.parent.Kind == yaml.MappingNode && strings.TrimLeft(s.text[from:s.offset(first)], " ") != "" {
			return "", errors.New("it stands on the line of its object's dash: change it in the text")
		}
		to := s.after(at.node)
		if len(at.parent.Content) == step { // nothing would be left
			return "", errors.New("it is the only one: remove what holds it")
		}
		return s.splice(from, to, "")
	}
	end, err := s.end(at.node, true)
	if err != nil {
		return "", err
	}
	from := s.offset(first)
	switch key := at.index - (step - 1); {
	case key+step < len(at.parent.Content): // up to the next one
		end = s.offset(at.parent.Content[key+step])
	case key > 0: // with the comma before it
		prev, err := s.end(at.parent.Content[key-1], true)
		if err != nil {
			return "", err
		}
		from = prev
	}
	return s.splice(from, end, "")
}
