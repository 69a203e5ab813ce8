package linux

import (
	"os"
	"os/exec"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// What chains of others drop is told as the kernel would do it, as far as rules say it by protocol and port: chains are made by nft in a
// network namespace of the test, and read back.
func TestFirewallOfOthers(t *testing.T) {
	if _, err := exec.LookPath("nft"); err != nil || os.Getuid() != 0 {
		if os.Getenv("CI") != "" {
			t.Fatal("needs root and nft")
		}
		t.Skip("needs root and nft")
	}
	runtime.LockOSThread() // its namespace ends with the thread
	require.NoError(t, unix.Unshare(unix.CLONE_NEWNET))
	for rules, drops := range map[string][2]bool{ // UDP 500, UDP 4500
		"policy accept;":                                                                {false, false},
		"policy drop;":                                                                  {true, true},
		"policy accept; udp dport 500 drop;":                                            {true, false},
		"policy accept; iifname wan udp dport 500 drop;":                                {true, false},
		"policy accept; udp dport { 500, 4500 } reject;":                                {true, true},
		"policy accept; tcp dport 500 drop;":                                            {false, false},
		"policy drop; ct state established,related accept;":                             {true, true},
		"policy drop; iifname lo accept; udp dport 4500 accept;":                        {true, false},
		"policy drop; ct state established accept; udp dport { 500, 4500 } accept;":     {false, false},
		"policy drop; udp dport { 53, 4500-4600 } accept;":                              {true, false},
		"policy drop; udp dport 400-600 accept;":                                        {false, true},
		"policy drop; udp dport != 500 accept;":                                         {true, false},
		"policy drop; meta l4proto udp accept;":                                         {false, false},
		"policy drop; meta l4proto { tcp, udp } th dport { 500, 4500 } counter accept;": {false, false},
		"policy accept; ip saddr 198.51.100.0/24 drop;":                                 {false, false},
		"policy accept; udp dport 500 accept; counter drop;":                            {false, true},
		"policy drop; jump vpn;":                                                        {false, true},
		"policy accept; udp dport 4500 jump shut;":                                      {false, true},
	} {
		text := "flush ruleset\ntable inet fw {\nchain vpn { udp dport 500 accept; }\nchain shut { log prefix \"x\" drop; }\n" +
			"chain in { type filter hook input priority 0; " + rules + " }\n}\n"
		nft := exec.Command("nft", "-f", "-")
		in, err := nft.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, nft.Start())
		_, err = in.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, in.Close())
		require.NoError(t, nft.Wait(), "%s", text)
		c := &checks{}
		c.rules("yl0")
		said := ""
		for _, x := range c.all {
			if x.Name == "another firewall" {
				said += x.Words
			}
		}
		want := map[[2]bool]string{
			{false, false}: "", {true, true}: "at UDP 500 and 4500", {true, false}: "at UDP 500", {false, true}: "at UDP 4500",
		}[drops]
		if want == "" {
			require.Empty(t, said, rules)
		} else {
			require.Regexp(t, want+"$", said, rules)
		}
	}
}
