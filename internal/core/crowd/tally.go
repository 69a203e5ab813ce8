package crowd

import "time"

// Tally lets what happens again and again be told together: the first of a kind at once, those that follow within a time as a number. The
// zero value lets nothing through; its fields are set once.
type Tally struct {
	Every time.Duration // how long those of one key are counted together
	Most  int           // keys told in that time; what is beyond is counted together under no key

	begun time.Time
	told  map[string]*Told
	rest  Told
}

// Told is one key's part of a Tally.
type Told struct {
	Key   string
	More  int // beside the one that was told at once
	First time.Time
	Last  time.Time
	Index any // whatever the caller keeps with the key
}

// Lets tells whether something with a key is to be told now. What is not is counted.
func (t *Tally) Lets(now time.Time, key string, keep any) bool {
	if t.told == nil {
		t.told, t.begun = map[string]*Told{}, now
	}
	if had := t.told[key]; had != nil {
		had.More++
		had.Last = now
		return false
	}
	if len(t.told) >= t.Most {
		if t.rest.More++; t.rest.More == 1 {
			t.rest.First = now
		}
		t.rest.Last = now
		return false
	}
	t.told[key] = &Told{Key: key, First: now, Last: now, Index: keep}
	return true
}

// Due gives what was counted, once the time is over, and begins anew. rest is what came under keys beyond the most.
func (t *Tally) Due(now time.Time) (out []Told, rest Told) {
	if t.told == nil || now.Sub(t.begun) < t.Every {
		return nil, Told{}
	}
	for _, v := range t.told {
		if v.More > 0 {
			out = append(out, *v)
		}
	}
	rest = t.rest
	t.told, t.rest = nil, Told{}
	return out, rest
}
