package reason

import (
	"fmt"
	"strings"
)

// Reference is the page of every code, its parameters and its words.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Reasons\n\n" +
		"Every cause that is journalled, that ended a session, refused a login or a call, or that a trial saw, is a code with parameters. Words are made of\n" +
		"them: `{name}` is a parameter, what stands in `[ ]` is left out where its parameter is not known. Decide by codes and parameters; words may change.\n\n" +
		"`yl journal --code wrong-password`, `yl journal --with passage=staff`, `GET /api/v1/journal?code=…&with=passage=staff`.\n\n" +
		"This page is made from the source: `make docs`.\n")
	last := "\x00"
	for _, m := range All() {
		if m.Kind != last {
			last = m.Kind
			head := "Lines of the journal of kind `" + m.Kind + "`"
			if m.Kind == "" {
				head = "What trials saw, what routers said, why calls were refused"
			}
			fmt.Fprintf(&b, "\n## %s\n\n| Code | Words |\n|---|---|\n", head)
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", m.Code, strings.ReplaceAll(m.Words, "|", "\\|"))
	}
	b.WriteString("\nAny line may have more: ")
	for i, f := range frames {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "`%s` (%s)", f.has, f.words)
	}
	b.WriteString(". Algorithms that did not meet are in `offered` and `wanted`; the protocol's own error is in `notify`.\n")
	return b.String()
}
