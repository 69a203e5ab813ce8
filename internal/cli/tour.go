package cli

import (
	"io"
	"strings"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/tour"
)

// PrintOutcome prints one run of the whole job.
func PrintOutcome(out io.Writer, asJSON bool, o *tour.Outcome) error {
	p := &printer{out: out, json: asJSON}
	if printed, err := p.value(o); printed {
		return err
	}
	if o.Mistake != "" {
		p.say("Tern Island with a mistake, %s: %s\n", o.Mistake, o.About)
	}
	p.say("── Findings")
	p.findingList(o.Findings, "")
	p.say("%d stop, %d warn, %d note", check.Count(o.Findings, check.Stop), check.Count(o.Findings, check.Warn), check.Count(o.Findings, check.Note))
	if o.Refused != "" {
		p.say("The commit was refused; no revision was made. The plan ran in the lab only.")
	} else {
		p.say("Committed as revision %d.", o.Revision)
	}
	p.say("\n── Proof: computed for all traffic")
	p.Proof(o.Proof, "")
	for _, r := range o.Proof {
		if r.Example != nil {
			p.say("\nThe journey of that packet, for %s:", r.Class)
			p.Steps(r.Example.Journey.Steps)
			break
		}
	}
	for _, r := range o.Probes {
		p.say("\n── Trial over a real tunnel")
		p.Report(r)
	}
	if len(o.Sessions) > 0 {
		p.say("\n── A live session, then ended by the administrator")
		p.Sessions(o.Sessions)
		if o.Ended {
			p.say("the device noticed the end")
		}
	}
	p.say("\n%s %s (%.0f s)", map[bool]string{true: "✓", false: "✗"}[o.OK], strings.ToUpper(o.Verdict[:1])+o.Verdict[1:], o.Took.Seconds())
	return nil
}

// PrintStory prints what was tried on real hosts.
func PrintStory(out io.Writer, asJSON bool, s *tour.Story) error {
	p := &printer{out: out, json: asJSON}
	if printed, err := p.value(s); printed {
		return err
	}
	for _, step := range s.Steps {
		mark := "✓"
		if !step.OK {
			mark = "✗"
		}
		p.say("%s %s", mark, step.Name)
		if step.Seen != "" {
			p.indented(4, "%s", step.Seen)
		}
	}
	p.say("\n%s", map[bool]string{true: "Everything was as it should be.", false: "Not everything was as it should be."}[s.OK])
	return nil
}
