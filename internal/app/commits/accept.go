package commits

import (
	"fmt"
	"strings"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/check"
)

// refused says why a document is not committed; nil: it can be.
func refused(c plans.Checked, accept []plans.Acceptance) error {
	if len(c.Faults) > 0 {
		return refusal.Invalid("this is no plan yet: " + c.Faults.Error())
	}
	var stops, open []string
	for _, f := range c.Findings {
		switch {
		case f.Severity == check.Stop:
			stops = append(stops, fmt.Sprintf("line %d, %s: %s (mend: %s)", f.Line, f.Path, f.Problem, f.Fix))
		case f.Severity == check.Warn && reasonFor(accept, f) == "":
			open = append(open, f.ID())
		}
	}
	switch {
	case len(stops) > 0:
		return refusal.Invalid("refused, nothing was changed:\n" + strings.Join(stops, "\n"))
	case len(open) > 0:
		return refusal.Invalid("refused, nothing was changed: accept each warning with a reason, or mend it: " +
			strings.Join(open, ", "))
	}
	return nil
}

// reasonFor is why a warning is accepted; empty if it is not.
func reasonFor(accept []plans.Acceptance, f check.Finding) string {
	for _, a := range accept {
		if a.Finding == f.ID() {
			return strings.TrimSpace(a.Reason)
		}
	}
	return ""
}

func acceptedOf(c plans.Checked, accept []plans.Acceptance) []plans.Acceptance {
	out := []plans.Acceptance{}
	for _, f := range c.Findings {
		if f.Severity == check.Warn {
			out = append(out, plans.Acceptance{Finding: f.ID(), Reason: reasonFor(accept, f), Problem: f.Problem})
		}
	}
	return out
}
