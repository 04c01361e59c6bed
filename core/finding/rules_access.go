package finding

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// accessRules are about what is open that should not be.
var accessRules = []Rule{
	{
		ID: "clear-text-sign-in", Severity: Medium, Source: "RFC 8996, RFC 9325", facts: []string{"text.telnet", evidence.KeyFTPGreeting, "http.sign-in"},
		alone: clearText,
	},
	{
		ID: "open-desktop", Severity: High, Source: "RFC 6143, 7.2.1; MS-RDPBCGR, 5.4", facts: []string{"vnc.security", "rdp.security"},
		alone: openDesktop,
	},
	{
		ID: "open-control", Severity: Low, Source: "IEC 62443-3-3, SR 1.2", facts: []string{"pjlink.security", "opcua.identity", "modbus.maker", "modbus.server", "modbus.units", "s7.answer", "bacnet.instance", "cip.vendor-id", "knx.service", "onvif.model", "ipmi.sign-in"},
		alone: openControl,
	},
	{
		ID: "default-community", Severity: High, Source: "RFC 3584, 5.2; CWE-1392", facts: []string{"snmp.default"},
		alone: func(c *caseOf) {
			for it := range c.each("snmp.default") {
				c.remark("", []string{fact(it)}, "community", it.Value)
				return
			}
		},
	},
	{
		ID: "old-snmp", Severity: Medium, Source: "RFC 3410, 7", facts: []string{"snmp.version"},
		alone: func(c *caseOf) {
			versions := c.values("snmp.version")
			if !slices.Contains(versions, "3") {
				c.remark("", nil, "versions", strings.Join(versions, ", "))
			}
		},
	},
	{
		ID: "open-data", Severity: High, Source: "CWE-306", facts: []string{evidence.KeyMQTTAnswer, "smb.anybody", "nfs.export", "ftp.anonymous", "dav.answer"},
		alone: openData,
	},
	{
		ID: "old-smb", Severity: Medium, Source: "MS-SMB2, 1.7", facts: []string{"smb.dialect"},
		alone: func(c *caseOf) {
			for it := range c.each("smb.dialect") {
				if strings.HasPrefix(it.Value, "1") || strings.HasPrefix(it.Value, "2.0") || strings.HasPrefix(it.Value, "NT ") {
					c.remark("", []string{fact(it)}, "version", it.Value)
					return
				}
			}
		},
	},
	{
		ID: "old-ssh", Severity: High, Source: "RFC 4253, 5.1", facts: []string{evidence.KeySSHGreeting},
		alone: func(c *caseOf) {
			for it := range c.each(evidence.KeySSHGreeting) {
				// 1.99 is what a server says that speaks version 2 and the old one besides.
				if strings.HasPrefix(it.Value, "SSH-1.") {
					c.remark(it.Port.String(), []string{fact(it)}, "version", strings.SplitN(it.Value, "-", 3)[1])
				}
			}
		},
	},
	{
		ID: "shared-host-key", Severity: High, Source: "RFC 4251, 4.1; CWE-321", facts: []string{"ssh.hostkey"},
		marks: func(c *caseOf) {
			for it := range c.each("ssh.hostkey") {
				c.mark(it.Value, "")
			}
		},
		together: func(r *ruling, group string, members []Member) {
			if sharers := distinct(members); sharers > 1 {
				r.shared(group, members, "key", group, "devices", fmt.Sprint(sharers))
			}
		},
	},
	{
		ID: "duplicate-bacnet", Severity: High, Source: "ASHRAE 135, 12.11.1", facts: []string{evidence.KeyBACnetInstance}, aside: true,
		marks: func(c *caseOf) {
			for it := range c.each(evidence.KeyBACnetInstance) {
				c.mark(it.Value, "")
			}
		},
		together: func(r *ruling, group string, members []Member) {
			if sharers := distinct(members); sharers > 1 {
				r.shared(group, members, "number", group, "devices", fmt.Sprint(sharers))
			}
		},
	},
	{
		ID: "plant-reachable", Severity: High, Source: "IEC 62443-3-3, SR 5.1", sources: slices.Sorted(maps.Keys(plantProtocols)),
		Params: []Param{{Name: "uses", Kind: Words, Default: Offices + ", " + Visitors, Text: "what a network is for from which no plant is to be reached"}},
		marks:  plantReachable, least: 1,
		together: func(r *ruling, group string, members []Member) {
			protocols := map[string]bool{}
			for _, m := range members {
				for protocol := range strings.SplitSeq(m.Value, ", ") {
					protocols[protocol] = true
				}
			}
			r.shared(group, members, "network", group, "devices", counted(distinct(members)), "protocols", strings.Join(slices.Sorted(maps.Keys(protocols)), ", "))
		},
	},
	{
		ID: "clock-off", Severity: Low, Source: "RFC 8633", facts: []string{"smb.time"},
		Params: []Param{{Name: "minutes", Kind: Number, Default: "5", Min: 0.1, Max: 1e7, Text: "how far off a clock may be, in minutes"}},
		alone:  clockOff,
	},
}

// counted writes a number of devices.
func counted(n int) string {
	if n == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", n)
}

func distinct(members []Member) (n int) {
	for i, m := range members {
		if i == 0 || m.Device != members[i-1].Device {
			n++
		}
	}
	return n
}

// clearText looks for services where a password is sent readable for everybody on the way.
func clearText(c *caseOf) {
	var secured, said []evidence.Port
	for it := range c.each(evidence.KeyTLSVersion) {
		secured = append(secured, it.Port)
	}
	say := func(key, service string, holds func(value string) bool) {
		for it := range c.each(key) {
			if !slices.Contains(secured, it.Port) && !slices.Contains(said, it.Port) && holds(it.Value) {
				said = append(said, it.Port)
				c.remark(it.Port.String(), []string{fact(it)}, "service", service, "port", it.Port.String())
			}
		}
	}
	any := func(string) bool { return true }
	say("text.telnet", "Telnet", any)
	say(evidence.KeyFTPGreeting, "FTP", any)
	// Digest sends no password; a form does, unless the page ciphers it by itself, which from outside is not seen.
	say("http.sign-in", "a web page", func(value string) bool { return value == "basic" || value == "form" })
}

func openDesktop(c *caseOf) {
	for it := range c.each("vnc.security") {
		if slices.Contains(strings.Split(it.Value, ", "), "none") {
			c.remark(it.Port.String(), []string{fact(it)}, "service", "VNC", "how", "without a password").Severity = min(c.rule.severity+1, Critical)
		} else {
			c.remark(it.Port.String(), []string{fact(it)}, "service", "VNC", "how", "to anybody who knows a password")
		}
	}
	for it := range c.each("rdp.security") {
		if !strings.Contains(it.Value, "network level") {
			c.remark(it.Port.String(), []string{fact(it)}, "service", "remote desktop", "how", "before anybody has said who it is")
		}
	}
}

// controls are protocols that do what anybody tells them who reaches them, by a fact of each.
var controls = []struct{ key, value, protocol string }{
	{"bacnet.instance", "", "BACnet"}, {"modbus.maker", "", "Modbus"}, {"modbus.server", "", "Modbus"}, {"modbus.units", "", "Modbus"}, {"s7.answer", "accepted", "S7"},
	{"cip.vendor-id", "", "EtherNet/IP"}, {"knx.service", "tunnelling", "KNX"}, {"opcua.identity", "anybody", "OPC UA"}, {"pjlink.security", "open to all", "PJLink"},
	{"onvif.model", "", "ONVIF"}, {"ipmi.sign-in", "nameless", "IPMI"}, {"ipmi.sign-in", "nobody", "IPMI"},
}

func openControl(c *caseOf) {
	said := map[string]bool{}
	for _, control := range controls {
		for it := range c.each(control.key) {
			if !said[control.protocol] && strings.Contains(it.Value, control.value) {
				said[control.protocol] = true
				c.remark(control.protocol, []string{fact(it)}, "protocol", control.protocol)
			}
		}
	}
}

func openData(c *caseOf) {
	say := func(key, about string, holds func(value string) bool) {
		var evidence []string
		for it := range c.each(key) {
			if holds(it.Value) {
				evidence = append(evidence, fact(it))
			}
		}
		if len(evidence) > 0 {
			c.remark(about, evidence, "service", about)
		}
	}
	is := func(wanted ...string) func(string) bool {
		return func(value string) bool { return slices.Contains(wanted, value) }
	}
	say(evidence.KeyMQTTAnswer, "MQTT", func(value string) bool { return strings.HasPrefix(value, "accepted") })
	if len(c.values("smb.share")) > 0 {
		say("smb.anybody", "file shares", is("guest", "nobody in particular"))
	}
	say("nfs.export", "NFS", func(value string) bool { return strings.HasSuffix(value, " to everybody") })
	say("ftp.anonymous", "FTP", is("let in"))
	say("dav.answer", "WebDAV", is("open"))
}

// plantProtocols are the protocols of a building's plant, by the source of their facts.
var plantProtocols = map[evidence.Source]string{
	evidence.SourceBACnet: "BACnet", evidence.SourceModbus: "Modbus", evidence.SourceKNX: "KNX", evidence.SourceCIP: "EtherNet/IP", evidence.SourceS7: "S7",
	evidence.SourceOPCUA: "OPC UA", evidence.SourcePROFINET: "PROFINET",
}

// plantReachable looks for plant that stands in, or was reached from, a network where anybody sits.
func plantReachable(c *caseOf) {
	var speaks []string
	for i := range c.Items {
		if protocol, is := plantProtocols[c.Items[i].Source]; is && !slices.Contains(speaks, protocol) {
			speaks = append(speaks, protocol)
		}
	}
	if len(speaks) == 0 {
		return
	}
	for _, n := range c.judge.site.Networks {
		if n.Use == "" || !slices.Contains(c.words("uses"), n.Use) || !c.reachedFrom(n) {
			continue
		}
		c.mark(cmp.Or(n.Name, n.Subnet.String()), strings.Join(speaks, ", "))
	}
}

// reachedFrom reports whether the device was met from a vantage within a network, or stands in it.
func (c *caseOf) reachedFrom(n Network) bool {
	for _, a := range c.Device.Addrs {
		if n.Subnet.Contains(a) {
			return true
		}
	}
	for _, v := range c.Device.Views {
		if v.Segment().IsValid() && v.Segment().Overlaps(n.Subnet) {
			return true
		}
	}
	return false
}

func clockOff(c *caseOf) {
	for it := range c.each("smb.time") {
		at, err := time.Parse(time.RFC3339, it.Value)
		if err != nil || it.At.IsZero() {
			continue
		}
		if off := at.Sub(it.At).Abs(); off.Minutes() > c.number("minutes") {
			c.remark("", []string{fact(it)}, "off", roughly(off))
			return
		}
	}
}

// roughly writes a time as people say it: in its largest unit.
func roughly(d time.Duration) string {
	for _, unit := range []struct {
		name string
		size time.Duration
	}{{"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}} {
		switch n := int(d / unit.size); {
		case n == 1:
			return "1 " + unit.name
		case n > 1:
			return fmt.Sprintf("%d %ss", n, unit.name)
		}
	}
	return "less than a minute"
}
