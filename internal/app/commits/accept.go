package commits

import (
	"fmt"
	"slices"
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
		case f.Severity == check.Warn && acceptance(accept, f).Reason == "":
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

// without leaves out findings of a code.
func without(c plans.Checked, code string) plans.Checked {
	c.Findings = slices.DeleteFunc(slices.Clone(c.Findings), func(f check.Finding) bool { return f.Code == code })
	c.Stops = len(c.Faults) + check.Count(c.Findings, check.Stop)
	return c
}

// acceptance is why a warning is accepted, by itself or with all others; without a reason it is not.
func acceptance(accept []plans.Acceptance, f check.Finding) (found plans.Acceptance) {
	for _, a := range accept {
		a.Reason = strings.TrimSpace(a.Reason)
		switch a.Finding {
		case f.ID():
			return a
		case plans.AllFindings:
			found = a
		}
	}
	return found
}

func acceptedOf(c plans.Checked, accept []plans.Acceptance) []plans.Acceptance {
	out := []plans.Acceptance{}
	for _, f := range c.Findings {
		if f.Severity == check.Warn {
			a := acceptance(accept, f)
			out = append(out, plans.Acceptance{Finding: f.ID(), Reason: a.Reason, Problem: f.Problem, Revision: a.Revision})
		}
	}
	return out
}
