package cli

import (
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/private"
	"yellowlantern/internal/probe"
)

// signerSuffix ends the name of the file beside a kit that holds the fingerprints of the authorities whose kits are taken there, a line
// each.
const signerSuffix = ".signer"

const mostSigner = 4 << 10 // octets

func signerBeside(kit string) string { return strings.TrimSuffix(kit, ".kit") + signerSuffix }

func signedByFlag() cli.Flag {
	return &cli.StringFlag{Name: "signed-by", Usage: "take a kit only if the authority with this fingerprint (SHA-256) signed it; otherwise as the file beside it says, NAME.signer"}
}

// readKit reads a kit's file. It must be signed by one of those authorities that --signed-by, or the file beside it, says.
func readKit(c *cli.Command, path string) (probe.Kit, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return probe.Kit{}, Failing(ExitUsage, "kit: %w", err)
	}
	kit, err := probe.ReadKit(b)
	if err != nil {
		return kit, Failing(ExitUsage, "%s: %w", path, err)
	}
	from, wanted := "--signed-by", fingerprintsIn(c.String("signed-by"))
	if len(wanted) == 0 {
		from = signerBeside(path)
		b, _, err := private.Foreign(from, mostSigner)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return kit, Failing(ExitUsage, "%w", err)
		}
		if wanted = fingerprintsIn(string(b)); err == nil && len(wanted) == 0 {
			return kit, Failing(ExitUsage, "%s holds no fingerprint: write that of the authority into it, or remove it", from)
		}
	}
	switch {
	case len(wanted) == 0 || slices.Contains(wanted, plainly(kit.Signer)):
		return kit, nil
	case kit.Signer == "":
		return kit, Failing(ExitRefused, "%s is not signed, and %s wants a signature: have the kit made again (yl probe kit)", path, from)
	}
	return kit, Failing(ExitRefused, "%s is signed by another authority than %s says:\n  %s\nAsk the administrator whether it is theirs (yl certificate roll-over "+
		"shows their fingerprint). If it is, write it into %s; if not, somebody else made this kit: do not use it", path, from, kit.Signer,
		signerBeside(path))
}

// plainly is a fingerprint as it is compared.
func plainly(fingerprint string) string {
	return strings.ToLower(strings.ReplaceAll(fingerprint, ":", ""))
}

// fingerprintsIn are the fingerprints of a text, as they are compared.
func fingerprintsIn(text string) []string { return strings.Fields(plainly(text)) }

// keepSigner notes whose kits are taken under this name from now on: where nothing is noted yet, or where one that is taken names others.
func keepSigner(path string, kit probe.Kit) error {
	at := signerBeside(path)
	if kit.Signer == "" {
		return nil
	}
	b, _, err := private.Foreign(at, mostSigner)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	text, has := string(b), fingerprintsIn(string(b))
	for _, f := range slices.Compact(append([]string{kit.Signer}, kit.Authorities...)) {
		if !slices.Contains(has, plainly(f)) {
			text = strings.TrimSuffix(text, "\n") + "\n" + f
		}
	}
	if text == string(b) {
		return nil
	}
	return private.Write(at, []byte(strings.TrimPrefix(text, "\n")+"\n"))
}

// signedWords say whose a kit is.
func signedWords(k probe.Kit, believed string) string {
	switch k.Signer {
	case "":
		return "it is not signed: whoever handed it on may have changed it"
	case believed:
		return "it is signed by that authority"
	}
	return "it is signed by the authority with the fingerprint (SHA-256)\n  " + k.Signer
}
