package main

import (
	"bytes"
	"fmt"
	"time"

	"airdrift/core/finding"
	"airdrift/core/report"
	"airdrift/core/wording"
)

// largest is how large a report of 1,000 devices may be, in bytes.
const largest = 20 << 20

// reportTime gives how long a report of so many devices, with two findings each, takes in all its forms, over a number of seconds.
func reportTime(devices int, seconds float64) (float64, error) {
	now := time.Now().UTC()
	r := report.Report{Site: "Fernhollow", At: now, Since: now, Made: now, Version: "bench"}
	for i := range devices {
		d := report.Device{
			ID: uint64(i + 1), Name: fmt.Sprintf("device %d of the hall", i), Kind: "printer", Vendor: "Marrowby Print", Model: "Inkwell 220", Firmware: "1.2", Standing: []string{"managed", "unmanaged"}[i%2], Presence: "seen",
			Addrs: []string{fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&255, i&255)}, MACs: []string{fmt.Sprintf("c4:ca:f5:%02x:%02x:%02x", i>>16, i>>8&255, i&255)}, Networks: []string{"offices"}, FirstSeen: now, LastSeen: now,
			Times: []report.Times{{Protocol: "http", Answers: 3, Median: 1.5, Most: 2, Worst: 2}},
		}
		r.Devices = append(r.Devices, d)
		for n := range 2 {
			r.Findings = append(r.Findings, report.Finding{
				Rule: fmt.Sprint("rule-", n), Severity: finding.High, State: "open", Title: fmt.Sprint("Rule ", n), Says: "Telnet at tcp/23 takes passwords unencrypted.", Because: "Everybody can read it.", Do: "Switch it off.",
				Devices: []report.Named{{ID: d.ID, Name: d.Name, Addr: d.Addrs[0]}}, Since: now,
			})
		}
	}
	began := time.Now()
	var page, pdf, book bytes.Buffer
	if err := report.WriteHTML(&page, r, wording.Default, report.A4); err != nil {
		return 0, err
	}
	if err := report.WritePDF(&pdf, r, wording.Default, report.A4); err != nil {
		return 0, err
	}
	if err := report.WriteXLSX(&book, r, wording.Default); err != nil {
		return 0, err
	}
	took := time.Since(began)
	if size := max(page.Len(), pdf.Len(), book.Len()); devices <= 1000 && size > largest {
		return 0, fmt.Errorf("a report of %d devices takes %d bytes", devices, size)
	}
	return took.Seconds() / seconds, nil
}
