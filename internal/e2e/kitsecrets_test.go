package e2e

import (
	"archive/zip"
	"crypto"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"
	"howett.net/plist"
	"software.sslmate.com/src/go-pkcs12"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/probe"
)

// profile is what a device makes of a kit for Apple's systems.
type profile struct {
	PayloadContent []struct {
		PayloadType, Password string
		PayloadContent        []byte
		IKEv2                 map[string]any
	}
}

// Where a tunnel wants a certificate, a kit holds a key for its device and nobody else has it; by what the device makes of it its person
// comes in, and taking the key back keeps it out. A kit may hold a new password instead, where that is asked for. Those of a
// group are one file.
func TestKitsWithSecrets(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	folder := t.TempDir()
	run := x.did
	read := func(name string) (p profile) {
		b, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		signed, err := pkcs7.Parse(b)
		require.NoError(t, err)
		_, err = plist.Unmarshal(signed.Content, &p)
		require.NoError(t, err)
		return p
	}
	told := run("users", "kit", "rory.researcher", "--platform", "apple", "--new-password", "--out", folder)
	require.Contains(t, told, "new password is in it")
	password := read("rory.researcher.mobileconfig").PayloadContent[1].IKEv2["AuthPassword"].(string)
	require.NotContains(t, run("journal"), password)
	tn, err := probe.Open(t.Context(), home(t, d), order(t, d, "rory.researcher"), probe.Options{Password: password})
	require.NoError(t, err)
	tn.Close()
	_, err = probe.Open(t.Context(), home(t, d), order(t, d, "rory.researcher"), probe.Options{Password: d.Passwords["rory.researcher"]})
	require.Error(t, err, "the older one counts no more")

	run("plan", "set", "tunnels/main/login", "pre-shared-key")
	run("plan", "commit", "-m", "shared keys", "--accept", "all", "--because", "kits follow")
	require.Contains(t, run("users", "kit", "rory.researcher", "--platform", "apple", "--out", folder), "share with the gateway is in it")
	shared := []byte(read("rory.researcher.mobileconfig").PayloadContent[1].IKEv2["SharedSecret"].(string))
	tn, err = probe.Open(t.Context(), home(t, d), order(t, d, "rory.researcher"), probe.Options{SharedKey: shared})
	require.NoError(t, err)
	tn.Close()
	require.Contains(t, run("users", "kit", "rory.researcher", "--platform", "android", "--out", folder), string(shared), "it stays")

	run("plan", "set", "tunnels/main/login", "certificate")
	run("plan", "set", "passages/research/on-demand", "names")
	run("plan", "commit", "-m", "certificates", "--accept", "all", "--because", "kits follow")
	_, _, err = x.run("users", "kit", "rory.researcher", "--platform", "apple", "--new-password", "--out", folder)
	require.ErrorContains(t, err, "takes no password")
	require.Contains(t, run("users", "kit", "rory.researcher", "--platform", "apple", "--out", folder), "a key for this device alone")
	p := read("rory.researcher.mobileconfig")
	identity := p.PayloadContent[1]
	require.Equal(t, "com.apple.security.pkcs12", identity.PayloadType)
	key, leaf, above, err := pkcs12.DecodeChain(identity.PayloadContent, identity.Password)
	require.NoError(t, err)
	require.Equal(t, p.PayloadContent[0].PayloadContent, above[0].Raw)
	require.NoError(t, leaf.CheckSignatureFrom(above[0]))
	vpn := p.PayloadContent[2].IKEv2
	require.Equal(t, []any{"Certificate", uint64(1)}, []any{vpn["AuthenticationMethod"], vpn["OnDemandEnabled"]})
	open := func() error {
		opt := probe.Options{Key: key.(crypto.Signer), Certificate: leaf.Raw}
		tn, err := probe.Open(t.Context(), home(t, d), order(t, d, "rory.researcher"), opt)
		if err == nil {
			tn.Close()
		}
		return err
	}
	require.NoError(t, open())

	// A link's button that is pressed often at once makes one key.
	link, err := d.App.Handover.NewLink(t.Context(), "rory.researcher", "windows", 0)
	require.NoError(t, err)
	var pressed sync.WaitGroup
	var opened atomic.Int32
	for range 4 {
		pressed.Go(func() {
			if _, _, err := d.App.Handover.Open(t.Context(), strings.TrimPrefix(link.Path, handover.LinkPath), "192.0.2.77"); err == nil {
				opened.Add(1)
			}
		})
	}
	pressed.Wait()
	require.EqualValues(t, 1, opened.Load())
	require.Equal(t, 1, strings.Count(run("users", "keys", "list", "rory.researcher", "--filter", "kit for windows"), "rory.researcher"))

	file := filepath.Join(folder, "all.zip")
	out := run("users", "kits", "researchers", "--platform", "android", "--out", file)
	require.Contains(t, out, "kits for 2 people, 0 left out")
	archive, err := zip.OpenReader(file)
	require.NoError(t, err)
	defer archive.Close()
	held := map[string]string{}
	for _, f := range archive.File {
		r, err := f.Open()
		require.NoError(t, err)
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		held[f.Name] = string(b)
	}
	require.Len(t, held, 6)
	for _, who := range []string{"rory.researcher", "both.birdwatcher"} {
		_, opener, ok := strings.Cut(held[who+"/steps.txt"], "Its password: ")
		require.True(t, ok)
		opener, _, _ = strings.Cut(opener, ".")
		_, leaf, _, err := pkcs12.DecodeChain([]byte(held[who+"/"+who+".p12"]), opener)
		require.NoError(t, err)
		require.Equal(t, who, leaf.Subject.CommonName)
		require.NotEmpty(t, held[who+"/authority.cer"])
	}
	_, _, err = x.run("users", "kits", "researchers", "--platform", "android", "--out", file)
	require.ErrorContains(t, err, "is there already")
	_, _, err = x.run("users", "kits", "nobodies", "--platform", "android", "--out", file+"2")
	require.ErrorContains(t, err, "nobody who may log in")

	var keys []struct{ Fingerprint, Device string }
	require.NoError(t, json.Unmarshal([]byte(run("--json", "users", "keys", "list", "rory.researcher")), &keys))
	require.Len(t, keys, 3)
	for _, k := range keys {
		if k.Device == "kit for apple" {
			run("users", "keys", "revoke", k.Fingerprint)
		}
	}
	require.Error(t, open(), "it was taken back")
	var rows []handover.Row
	require.NoError(t, json.Unmarshal([]byte(run("--json", "handover", "--filter", "rory")), &rows))
	require.False(t, rows[0].Kits[0].Expires.IsZero())
}
