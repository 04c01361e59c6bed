package identify

import (
	"strings"
	"testing"

	"airdrift/core/evidence"
)

func TestSystemsBuiltOnOthersAreNoRivals(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts    []evidence.Item
		want     string
		strength int    // 0 where it is of no interest
		others   string // values that are not believed, those that are built on it in brackets
		conflict bool
	}{
		"a distribution and its kernel": {facts("ssh.greeting SSH-2.0-OpenSSH_9.2p1 Debian-2", "upnp.server Linux/6.1 UPnP/1.0 x/1"), "Debian GNU/Linux", 23, "", false},
		"what runs on a distribution":   {facts("ssh.greeting SSH-2.0-OpenSSH_9.2p1 Debian-2", "http.title pve1 - Proxmox Virtual Environment"), "Proxmox VE", 0, "", false},
		"two distributions in doubt":    {facts("http.server Apache/2.4 (Debian)", "ssh.greeting SSH-2.0-OpenSSH_8.9p1 Ubuntu-3", "upnp.server Linux/6.1 UPnP/1.0 x/1"), "Linux", 0, "[Ubuntu Linux] [Debian GNU/Linux]", true},
		"two systems that are none of each other's": {facts("ssh.greeting SSH-2.0-OpenSSH_9.2p1 Debian-2", "smb.dialect 3.1.1", "upnp.server Microsoft-Windows/10.0 UPnP/1.0 x/1"),
			"Debian GNU/Linux", 14, "Microsoft Windows", true},
		"none that is sure": {facts("stack.syn ttl=64 df window=65160 options=mss,sack,ts,nop,ws10", "dns.ptr a.example"), "", 0, "Linux", false},
	} {
		claimed := false
		for _, claim := range engine.Identify(tt.facts) {
			if claim.Attribute != OS {
				continue
			}
			claimed = true
			var others []string
			for i, c := range claim.Others {
				switch {
				case c.BuiltOn != "":
					others = append(others, "["+c.Value+"]")
				case c.Value != claim.Value:
					others = append(others, c.Value)
				case i > 0:
					t.Errorf("%s: what is believed is not the first of %v", name, claim.Others)
				case c.Strength != claim.Strength || sumOf(c.Reasons) != claim.Strength:
					t.Errorf("%s: the reasons come to %d, the claim to %d", name, sumOf(c.Reasons), claim.Strength)
				}
			}
			if claim.Value != tt.want || tt.strength > 0 && claim.Strength != tt.strength || strings.Join(others, " ") != tt.others || (claim.Conflict != "") != tt.conflict {
				t.Errorf("%s: %q (%d), beside it %v, conflict %q", name, claim.Value, claim.Strength, others, claim.Conflict)
			}
		}
		if !claimed {
			t.Errorf("%s: nothing is claimed of the system", name)
		}
	}
}

func TestBases(t *testing.T) {
	for system, want := range map[string]string{
		"Linux": "", "Rocky Linux": "Linux", "Linux (embedded)": "Linux", "Red Hat Enterprise Linux 9": "Linux", "Linuxoid": "", "FreeBSD": "", "Junos": "FreeBSD",
		"Microsoft Windows": "", "Microsoft Windows 11": "Microsoft Windows",
	} {
		if got := baseOf(system); got != want {
			t.Errorf("%s is built on %q, want %q", system, got, want)
		}
	}
	for system := range builtOn {
		if isBuiltOn(system, system) {
			t.Errorf("%s is built on itself", system)
		}
	}
}
