package plan

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Texts of several lines are edited, passed over and written as such.
func TestTextsOfSeveralLines(t *testing.T) {
	const text = `format: 1
name: x
routers:
  - {name: r, addresses: [10.0.0.1]}
groups:
  - name: a
    note: |
      one

      # two
  - name: b
    note: three
      four
    # of b
  - {name: c}

pools: [{name: p}] # end
`
	cut := func(out string, part string) string {
		require.Contains(t, text, part)
		require.NotContains(t, out, part)
		return out
	}
	for _, c := range []struct {
		name string
		edit Edit
		has  []string
		gone string
	}{
		{"an item after them", Edit{"add", "groups", "{name: d}"}, []string{"  - {name: c}\n  - {name: d}\n\npools"}, ""},
		{"one is set", Edit{"set", "groups/a/note", "five"}, []string{"    note: five\n  - name: b"}, "# two"},
		{"one without a mark is set", Edit{"set", "groups/b/note", "five"}, []string{"    note: five\n    # of b"}, "four"},
		{"one is taken out", Edit{"remove", "groups/a/note", ""}, []string{"  - name: a\n  - name: b"}, "# two"},
		{"its object is", Edit{"remove", "groups/a", ""}, []string{"groups:\n  - name: b"}, "one"},
		{"the next one's is", Edit{"remove", "groups/b", ""}, []string{"# two\n"}, "four"},
		{"its object is moved", Edit{"move", "groups/a", "c"}, []string{"      four\n  - name: a\n    note: |\n      one\n\n      # two\n    # of b\n  - {name: c}"}, ""},
		{"its object is put", Edit{"put", "groups/a", "{name: a, note: five}"}, []string{"  - name: a\n    note: five\n"}, "# two"},
		{"one is put", Edit{"put", "groups/b", `{name: b, note: "five\nsix\n"}`}, []string{"    note: |\n      five\n      six\n    # of b\n"}, "four"},
		{"one comes with an object", Edit{"add", "groups", `{name: d, note: "five\nsix\n"}`}, []string{"  - name: d\n    note: |\n      five\n      six\n\npools"}, ""},
		{"and with the first of its kind", Edit{"add", "authorities", `{name: d, certificate: "five\nsix\n", lists: [http://a/b]}`}, []string{
			"authorities:\n  - name: d\n    certificate: |\n      five\n      six\n    lists: ['http://a/b']\n",
		}, ""},
		{"the only one of its list", Edit{"remove", "routers/r", ""}, []string{"name: x\ngroups:"}, "routers"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out, err := Apply(text, c.edit)
			require.NoError(t, err)
			for _, has := range c.has {
				require.Contains(t, out, has)
			}
			if c.gone != "" {
				cut(out, c.gone)
			}
		})
	}
}

// What changed of such a text is told on one line.
func TestChangesOfSeveralLines(t *testing.T) {
	of := func(note string) Plan { return Plan{Groups: []Group{{Name: "a", Note: note}}} }
	changes := Difference(of("one\ntwo\n"), of("three\nfour\n"))
	require.Len(t, changes, 1)
	require.Equal(t, "change groups/a/note from one … to three …", changes[0].String())
	require.Equal(t, "one\n", oneLine("one\n"))
	require.Regexp(t, `^the certificate of CN=.* until \d{4}-.*\(SHA-256 [0-9A-F]{12}…\)$`, oneLine(someCertificate))
}

const someCertificate = `-----BEGIN CERTIFICATE-----
MIIBhDCCASmgAwIBAgIUJlicpcSpf2S9FuMshbvLWU0C5vkwCgYIKoZIzj0EAwIw
FjEUMBIGA1UEAwwLVGVybiBJc2xhbmQwIBcNMjYxMTI2MTY0MTMxWhgPMjA1MTA3
MTgxNjQxMzFaMBYxFDASBgNVBAMMC1Rlcm4gSXNsYW5kMFkwEwYHKoZIzj0CAQYI
KoZIzj0DAQcDQgAEXv95I/eAndeaWnTrvfuD7UQ5Dqs/4UaW3t9PM3Qv9GnDndmE
AzJHQyp1XS8121WbKm2L87vjnuvSH39Po33Ju6NTMFEwHQYDVR0OBBYEFHPtLbdK
Nv8mDhV8Bih65ax0CoNEMB8GA1UdIwQYMBaAFHPtLbdKNv8mDhV8Bih65ax0CoNE
MA8GA1UdEwEB/wQFMAMBAf8wCgYIKoZIzj0EAwIDSQAwRgIhAKUuT+mW74oI/CfW
0cVMuHotiGS2feMhE7LVBi74hErHAiEAwjF9C0r2wXe0DBNMS/L1E4yMZnUab8d1
2FSQFgH4MY8=
-----END CERTIFICATE-----
`
