package main

import (
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/finding"
	"airdrift/core/identify"
	"airdrift/core/ledger"
)

// judgingTime gives how long one core takes to judge 100,000 devices, over 3 s.
func judgingTime() (float64, error) {
	began := time.Now().UTC()
	cases := make([]finding.Case, 100_000)
	for i := range cases {
		cases[i] = judgedCase(i, began)
	}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	judge := finding.NewJudge(finding.Site{Networks: []finding.Network{{Name: "offices", Subnet: netip.MustParsePrefix("10.0.0.0/8"), Use: finding.Offices}}, Now: began})
	start := time.Now()
	remarks := judge.All(cases)
	took := time.Since(start)
	if len(remarks) < len(cases) {
		return 0, errors.New("hardly anything is remarked")
	}
	return took.Seconds() / 3, nil
}

// judgedCase is one device of a site of printers, gateways and cameras, every third of which nobody manages.
func judgedCase(i int, at time.Time) finding.Case {
	d := ledger.Device{
		ID: uint64(i + 1), Addrs: []netip.Addr{netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)})}, FirstSeen: at, LastSeen: at, LastSweep: 1,
		Standing: ledger.Managed, Presence: ledger.Seen,
	}
	if i%3 == 0 {
		d.Standing = ledger.Unmanaged
	}
	for _, b := range [][2]string{{"kind", "printer"}, {"vendor", "Ravelin"}, {"model", fmt.Sprint("Gate ", i%50)}, {"firmware", fmt.Sprint("4.", i%7)}, {"name", fmt.Sprint("host-", i)}} {
		d.Identity = append(d.Identity, identify.Belief{Attribute: identify.Attribute(b[0]), Value: b[1], Strength: 20})
	}
	c := finding.Case{Device: d}
	add := func(port uint16, key, value string) {
		known, _ := evidence.FactOf(key)
		c.Items = append(c.Items, evidence.Item{Source: known.Source, Key: key, Port: evidence.TCP(port), Value: value, At: at})
	}
	for _, key := range []string{"http.title", "http.server", "http.text", "snmp.sysDescr", "snmp.sysName", "snmp.sysObjectID", "mdns.host", "mdns.type", "ipp.model", "arp.mac"} {
		add(80, key, "a printer of some make")
	}
	add(80, "http.sign-in", "form")
	add(443, evidence.KeyTLSUntil, at.AddDate(0, 2, 0).Format(time.RFC3339))
	add(443, evidence.KeyTLSVersion, "TLS 1.2")
	add(443, evidence.KeyTLSKey, fmt.Sprint(i))
	add(443, evidence.KeyTLSSubject, "printer")
	add(443, evidence.KeyTLSIssuer, "printer")
	add(443, "tls.strength", "RSA 2048, SHA256-RSA")
	add(22, evidence.KeySSHGreeting, "SSH-2.0-x")
	add(22, "ssh.hostkey", fmt.Sprint("SHA256:", i/2))
	add(161, "snmp.version", "2c")
	return c
}
