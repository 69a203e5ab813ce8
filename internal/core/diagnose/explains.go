package diagnose

import (
	"slices"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
)

func (f *finder) hasPassage(name string) bool {
	return slices.ContainsFunc(f.Model.Plan.Passages, func(p plan.Passage) bool { return p.Name == name })
}

// explains tells whether what runs now still explains a refusal: what was mended meanwhile is no cause any more, however lately it was one.
func (f *finder) explains(l Line) bool {
	if f.Model == nil {
		return true
	}
	names := f.Model.Names
	for param, there := range map[reason.Param]func(string) bool{
		reason.Passage: f.hasPassage,
		reason.Pool:    func(n string) bool { return names.Pools[n] != nil },
		reason.Tunnel:  func(n string) bool { return names.Tunnels[n] != nil },
	} {
		if n := l.Why.With[param]; n != "" && !there(n) {
			return false
		}
	}
	passage := l.Why.With[reason.Passage]
	taken := f.Class != nil && f.Class.Passage != nil
	switch l.Why.Code {
	case reason.UnknownUser:
		return l.User != f.User || !f.Known
	case reason.SwitchedOff:
		return l.User != f.User || f.Off
	case reason.PersonOver:
		return l.User != f.User || !f.Own.Until.IsZero() && !f.Now.Before(f.Own.Until)
	case reason.PersonHours:
		hours := names.Hours[f.Own.Hours]
		return l.User != f.User || f.Own.Hours != "" && (hours == nil || !hours.Hold(f.Model.Local(f.Now)))
	case reason.PersonTunnel:
		return l.User != f.User || len(f.Own.Tunnels) > 0 && !slices.Contains(f.Own.Tunnels, l.Why.With[reason.Tunnel])
	case reason.PersonSessions:
		return l.User != f.User || f.Own.Sessions > 0 && len(f.Sessions) >= f.Own.Sessions
	case reason.PasswordToChange:
		return l.User != f.User || f.MustChange
	case reason.PassageShut:
		return l.User != f.User || f.Class.Shut == nil
	case reason.NoPassage:
		return l.User != f.User || !taken
	case reason.OtherTunnel:
		return l.User != f.User || taken && f.Class.Passage.Name == passage &&
			!slices.Contains(f.Class.Passage.Tunnels, l.Why.With[reason.Tunnel])
	case reason.OutsideHours:
		hours := names.Hours[l.Why.With[reason.Hours]]
		return l.User != f.User || hours == nil || taken && f.Class.Passage.Name == passage && f.Class.Passage.Limits.Hours == hours.Name &&
			!hours.Hold(f.Model.Local(f.Now))
	case reason.TooManySessions:
		return l.User != f.User || taken && f.Class.Passage.Name == passage && len(f.Sessions) >= f.Class.Passage.Limits.Each()
	case reason.PoolExhausted:
		return l.User != f.User || f.Free == 0
	case reason.DialsWrongName:
		for _, t := range f.Model.Plan.Tunnels {
			if !t.Off && t.IdentityOr(f.Model.Gateway.Dial) == l.Why.With[reason.Name] {
				return false
			}
		}
	}
	return true
}
