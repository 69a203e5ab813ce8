package diagnose

import (
	"fmt"
	"slices"

	"yellowlantern/internal/core/reason"
)

// held says so where somebody is connected and has not given their second factor: nothing else explains anything then.
func (f *finder) held() {
	if f.Complaint == CannotConnect || f.Class == nil || f.Class.Passage == nil ||
		len(f.Sessions) == 0 || slices.ContainsFunc(f.Sessions, func(s Session) bool { return !s.Held }) {
		return
	}
	fix := "let them open the code page in a browser, and type the newest code"
	if page := f.Model.Gateway.CodePage; page != nil {
		fix = fmt.Sprintf("let them open https://%s/ in a browser, and type the newest code", page.Name)
	}
	wrong := 0
	for _, l := range f.Journal {
		switch {
		case !f.fresh(l.At) || l.User != f.User:
		case l.Why.Code == reason.NoFactor:
			fix = "they have no second factor: yl users second-factor link " + f.User + " makes a link by which they get one"
		case slices.Contains([]reason.Code{reason.WrongCode, reason.CodeUsed, reason.CodeWaits, reason.SecurityKeyWrong}, l.Why.Code):
			wrong++
		}
	}
	evidence := []string{"the list of live sessions: it is held"}
	if wrong > 0 {
		evidence = append(evidence, fmt.Sprintf("the journal: %d codes of theirs were not taken; is their device's clock right?", wrong))
	}
	f.add(Cause{
		Code: "held", Sure: 99, Words: f.User + " has not given the second factor that their passage asks for: until then they reach the code page alone",
		Setting: f.settingOf("PASSAGE/second-factor"), Fix: fix,
	}, evidence...)
}
