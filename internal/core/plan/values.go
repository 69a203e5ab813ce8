package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"yellowlantern/internal/core/netset"
)

// Range is addresses from first to last, both included, of one family. It is written as 10.99.0.10-10.99.0.99, as a prefix, or
// as a single address.
type Range struct {
	netset.Span
	text string
}

// UnmarshalText reads a range.
func (r *Range) UnmarshalText(text []byte) error {
	s, ok := parseSpan(string(text))
	if !ok {
		return fmt.Errorf("%q is no range: expected 10.99.0.10-10.99.0.99, a prefix or an address", text)
	}
	*r = Range{s, string(text)}
	return nil
}

// MarshalText writes the range as it was read.
func (r Range) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// String writes the range as it was read.
func (r Range) String() string {
	if r.text != "" {
		return r.text
	}
	return r.Span.String()
}

// RangeOf is a range from first to last.
func RangeOf(from, to netip.Addr) Range { return Range{Span: netset.Span{From: from, To: to}} }

func parseSpan(text string) (netset.Span, bool) {
	if low, high, ok := strings.Cut(text, "-"); ok {
		from, errFrom := netip.ParseAddr(low)
		to, errTo := netip.ParseAddr(high)
		plain := errFrom == nil && errTo == nil && from.Zone() == "" && to.Zone() == "" && !from.Is4In6() && !to.Is4In6()
		return netset.Span{From: from, To: to}, plain && from.Is4() == to.Is4() && from.Compare(to) <= 0
	}
	if p, err := netip.ParsePrefix(text); err == nil && !p.Addr().Is4In6() {
		return netset.PrefixSpan(p), true
	}
	a, err := netip.ParseAddr(text)
	return netset.Span{From: a, To: a}, err == nil && a.Zone() == "" && !a.Is4In6()
}

func spansOf(rs []Range) netset.Addrs {
	spans := make([]netset.Span, len(rs))
	for i, r := range rs {
		spans[i] = r.Span
	}
	return netset.OfSpans(spans...)
}

// Duration is a length of time, written as 45s, 30m, 8h or 1h30m.
type Duration time.Duration

// UnmarshalText reads a duration of whole seconds.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v < 0 || v%time.Second != 0 {
		return fmt.Errorf("%q is no duration: expected 45s, 30m or 8h", text)
	}
	*d = Duration(v)
	return nil
}

// MarshalText writes the duration.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// String writes the duration without parts that are zero.
func (d Duration) String() string {
	text := time.Duration(d).String()
	if cut, ok := strings.CutSuffix(text, "m0s"); ok {
		text = cut + "m"
	}
	if cut, ok := strings.CutSuffix(text, "h0m"); ok {
		text = cut + "h"
	}
	return text
}

// Or is the duration, or another if it is not given.
func (d Duration) Or(other time.Duration) time.Duration {
	if d == 0 {
		return other
	}
	return time.Duration(d)
}

// Clock is a time of day in minutes since midnight, 0 to 1440.
type Clock struct{ Minutes int }

// UnmarshalText reads a time of day, 00:00 to 24:00.
func (c *Clock) UnmarshalText(text []byte) error {
	hour, minute, ok := strings.Cut(string(text), ":")
	h, errH := strconv.Atoi(hour)
	m, errM := strconv.Atoi(minute)
	if !ok || errH != nil || errM != nil || len(hour) != 2 || len(minute) != 2 || h < 0 || m < 0 || m > 59 || h*60+m > 24*60 {
		return fmt.Errorf("%q is no time of day: expected 08:00", text)
	}
	c.Minutes = h*60 + m
	return nil
}

// MarshalText writes the time of day.
func (c Clock) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

// String writes the time of day.
func (c Clock) String() string { return fmt.Sprintf("%02d:%02d", c.Minutes/60, c.Minutes%60) }

// Hold tells whether a moment lies within the hours, as its own time zone counts days and minutes.
func (h *Hours) Hold(at time.Time) bool {
	minute := at.Hour()*60 + at.Minute()
	on := func(day time.Weekday) bool {
		return len(h.Days) == 0 || slices.Contains(h.Days, strings.ToLower(day.String()))
	}
	if h.From.Minutes <= h.To.Minutes {
		return on(at.Weekday()) && h.From.Minutes <= minute && minute < h.To.Minutes
	}
	yesterday := (at.Weekday() + 6) % 7
	return on(at.Weekday()) && minute >= h.From.Minutes || on(yesterday) && minute < h.To.Minutes
}

// String says the hours in words.
func (h *Hours) String() string {
	days := "every day"
	if len(h.Days) > 0 {
		days = strings.Join(h.Days, ", ")
	}
	return fmt.Sprintf("%s, %s to %s", days, h.From, h.To)
}
