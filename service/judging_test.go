package service_test

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/simsite"
	"airdrift/store/storetest"
)

// likeControllers are controllers of one model, of which one takes its time and one has newer firmware, and a telephone.
const likeControllers = `name: like controllers
seed: 5
networks: [{name: plant, subnet: 10.9.0.0/24, latency: 300us}]
vantage: {network: plant, address: 10.9.0.250, mac: "48:9b:34:00:00:fa"}
devices:
  - {name: one, standing: managed, legs: [{network: plant, address: 10.9.0.1, mac: "48:9b:34:00:00:01"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "1", name: one, vendor: "999", maker: Thornquist Controls, model: Climate 900, firmware: "4.2"}}]}
  - {name: two, standing: managed, legs: [{network: plant, address: 10.9.0.2, mac: "48:9b:34:00:00:02"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "2", name: two, vendor: "999", maker: Thornquist Controls, model: Climate 900, firmware: "4.2"}}]}
  - {name: three, standing: managed, legs: [{network: plant, address: 10.9.0.3, mac: "48:9b:34:00:00:03"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "3", name: three, vendor: "999", maker: Thornquist Controls, model: Climate 900, firmware: "4.10"}}]}
  - {name: slow, standing: managed, legs: [{network: plant, address: 10.9.0.4, mac: "48:9b:34:00:00:04"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "4", name: slow, vendor: "999", maker: Thornquist Controls, model: Climate 900, slow: 1200ms}}]}
  - {name: telephone, standing: managed, legs: [{network: plant, address: 10.9.0.5, mac: "48:9b:34:00:00:05"}], services: [{port: 5060, speaks: sip, tells: {agent: Calla 10 3.1.4}}]}
`

func likeSite(t *testing.T) *servicetest.Service {
	t.Helper()
	scenario, err := simsite.Load("like controllers", []byte(likeControllers))
	if err != nil {
		t.Fatal(err)
	}
	return servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t), Scenario: scenario})
}

func namesIn(times api.ResponseTimes) (names []string) {
	for _, d := range times.Devices {
		names = append(names, d.Name)
	}
	return names
}

// How long devices took is told by protocol, the slowest or the fastest first, of as many as are asked for, and of one from sweep to sweep.
func TestResponseTimes(t *testing.T) {
	t.Parallel()
	s := likeSite(t)
	times, err := s.Client.ResponseTimes(t.Context(), s.Site.ID, client.TimesQuery{}, 10)
	if err != nil || len(times.Protocols) != 0 || len(times.Devices) != 0 {
		t.Errorf("before the first sweep: %+v, %v", times, err)
	}
	first, second := sweepOf(t, s, ""), sweepOf(t, s, "")
	ask := func(q client.TimesQuery, most int) api.ResponseTimes {
		t.Helper()
		times, err := s.Client.ResponseTimes(t.Context(), s.Site.ID, q, most)
		if err != nil {
			t.Fatal(err)
		}
		return times
	}
	bacnet := ask(client.TimesQuery{Protocol: "bacnet"}, 10)
	if got := namesIn(bacnet); len(got) != 4 || got[0] != "slow" || bacnet.Sweep != second.ID || bacnet.Total != 4 || bacnet.Vantage == "" {
		t.Fatalf("%v of %+v", got, bacnet)
	}
	slow := bacnet.Devices[0]
	if slow.Median < 1200 || slow.Most < slow.Median || slow.Worst < slow.Most || slow.Answers < 2 || slow.Kind != "plant-controller" || slow.Model != "Climate 900" {
		t.Errorf("of the slow one: %+v", slow)
	}
	if usual := ask(client.TimesQuery{}, 10); usual.Protocol != "bacnet" || !slices.Contains(usual.Protocols, api.ProtocolCount{Protocol: "sip", Devices: 1}) {
		t.Errorf("where no protocol is named: %s of %+v", usual.Protocol, usual.Protocols)
	}
	fastest := ask(client.TimesQuery{Protocol: "bacnet", Fastest: true}, 10)
	if got := namesIn(fastest); got[3] != "slow" {
		t.Errorf("the fastest first: %v", got)
	}
	if few := ask(client.TimesQuery{Protocol: "bacnet", Sweep: first.ID}, 1); len(few.Devices) != 1 || few.Total != 4 || few.Sweep != first.ID {
		t.Errorf("one of an earlier sweep: %+v", few)
	}
	if phones := ask(client.TimesQuery{Protocol: "bacnet", Kinds: []string{"phone"}}, 10); phones.Total != 0 {
		t.Errorf("of telephones: %+v", phones)
	}
	if others := ask(client.TimesQuery{Protocol: "bacnet", Models: []string{"Climate 900"}}, 10); others.Total != 4 {
		t.Errorf("of the model: %+v", others)
	}
	visits, err := s.Client.DeviceTimes(t.Context(), slow.Device, 10)
	if err != nil || len(visits) != 2 || visits[0].Sweep != second.ID || visits[1].Sweep != first.ID || visits[1].Median < 1200 {
		t.Errorf("of the slow one from sweep to sweep: %+v, %v", visits, err)
	}
	_, err = s.Client.ResponseTimes(t.Context(), s.Site.ID, client.TimesQuery{Sweep: second.ID + 1}, 10)
	wantProblem(t, "of a sweep that there is not", err, http.StatusNotFound, "sweep")

	before := ask(client.TimesQuery{Protocol: "bacnet"}, 10)
	if err := s.Client.Reread(t.Context(), s.Site.ID); err != nil {
		t.Fatal(err)
	}
	if after := ask(client.TimesQuery{Protocol: "bacnet"}, 10); fmt.Sprint(after) != fmt.Sprint(before) {
		t.Errorf("after the ledger was computed anew: %+v, want %+v", after, before)
	}
}

// What is shown can be handed on as CSV.
func TestTimesAndFirmwareAsCSV(t *testing.T) {
	t.Parallel()
	s := likeSite(t)
	sweepOf(t, s, "")
	read := func(path string) [][]string {
		t.Helper()
		_, body := get(t, http.DefaultClient, http.MethodGet, fmt.Sprintf("%s/api/v1/sites/%d/%s", s.URL, s.Site.ID, path), map[string]string{"Authorization": "Bearer " + s.Token}, "")
		rows, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(body, "\ufeff"))).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		return rows
	}
	times := read("response-times.csv?protocol=bacnet")
	if len(times) != 5 || times[0][9] != "Median (ms)" || times[1][2] != "slow" || times[1][6] != "bacnet" {
		t.Errorf("%q", times)
	}
	firmware := read("firmware.csv")
	if want := []string{"Thornquist Controls", "Climate 900", "4", "4.10 (1), 4.2 (2)", "1", "4.10", "", "2"}; len(firmware) != 2 || !slices.Equal(firmware[1], want) {
		t.Errorf("%q", firmware)
	}
}

// A device is behind the version that the site wants of its model, or else the newest that others have.
func TestFirmwareThatASiteWants(t *testing.T) {
	t.Parallel()
	s := likeSite(t)
	sweepOf(t, s, "")
	spread := func() api.FirmwareSpread {
		t.Helper()
		list, err := s.Client.Firmware(t.Context(), s.Site.ID)
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(list, func(f api.FirmwareSpread) bool { return f.Model == "Climate 900" })
		if at < 0 {
			t.Fatalf("%+v", list)
		}
		return list[at]
	}
	if got := spread(); got.Behind != 2 || got.Newest != "4.10" || got.Unknown != 1 || got.Devices != 4 {
		t.Errorf("%+v", got)
	}
	for _, tt := range []struct {
		version string
		behind  int
	}{{"5.0", 3}, {"4.2", 0}, {"", 2}} {
		err := s.Client.WantFirmware(t.Context(), s.Site.ID, api.WantedFirmware{Vendor: "Thornquist Controls", Model: "Climate 900", Version: tt.version})
		if got := spread(); err != nil || got.Behind != tt.behind || got.Wanted != tt.version {
			t.Errorf("where %q is wanted: %+v, %v", tt.version, got, err)
		}
	}
	err := s.Client.WantFirmware(t.Context(), s.Site.ID, api.WantedFirmware{Model: " ", Version: "1"})
	wantProblem(t, "of no model", err, http.StatusUnprocessableEntity, "model")
	err = s.Client.WantFirmware(t.Context(), s.Site.ID+99, api.WantedFirmware{Model: "Climate 900", Version: "1"})
	wantProblem(t, "at no site", err, http.StatusNotFound, "site")
}

// Which devices can be read over an open protocol is told by system; how much they offer where a sweep was to read.
func TestOpenness(t *testing.T) {
	t.Parallel()
	scenario, err := simsite.Load("systems", []byte(`name: systems
seed: 6
networks: [{name: plant, subnet: 10.9.0.0/24, latency: 300us}]
vantage: {network: plant, address: 10.9.0.250, mac: "48:9b:34:00:00:fa"}
devices:
  - {name: counted, standing: managed, legs: [{network: plant, address: 10.9.0.1, mac: "48:9b:34:00:00:01"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "1", name: counted, vendor: "999", objects: "0=40 5=20"}}]}
  - {name: drive, standing: managed, legs: [{network: plant, address: 10.9.0.2, mac: "48:9b:34:00:00:02"}], services: [{port: 44818, speaks: ethernet-ip, tells: {vendor: "900", type: "2", product: Spindle 45}}]}
  - {name: controller, standing: managed, legs: [{network: plant, address: 10.9.0.3, mac: "48:9b:34:00:00:03"}], services: [{port: 102, speaks: iso, tells: {slot: "1", order: 6ES7 315-2EH14-0AB0, firmware: 3.2.6, name: borehole, type: CPU 315}}]}
  - {name: copy, standing: managed, legs: [{network: plant, address: 10.9.0.4, mac: "48:9b:34:00:00:04"}], services: [{port: 47808, speaks: bacnet, tells: {instance: "1", name: copy, vendor: "999", objects: "0=10 5=9", list: cut}}]}
  - {name: telephone, standing: managed, legs: [{network: plant, address: 10.9.0.5, mac: "48:9b:34:00:00:05"}], services: [{port: 5060, speaks: sip, tells: {agent: Calla 10 3.1.4}}]}
`))
	if err != nil {
		t.Fatal(err)
	}
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t), Scenario: scenario})
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Pace: "brisk", Plan: &api.Plan{Read: true}})
	if err != nil {
		t.Fatal(err)
	}
	stages := map[string]bool{}
	ended, err := s.Client.Watch(t.Context(), started.ID, client.Watcher{Progress: func(p api.Progress) { stages[p.Stage] = true }})
	if err != nil || ended.State != "done" || !stages["reading"] || ended.Plan == nil || !ended.Plan.Read {
		t.Fatalf("%+v with stages %v, %v", ended, stages, err)
	}
	at := map[string]uint64{}
	for _, d := range devicesOf(t, s) {
		at[d.Addrs[0]] = d.ID
	}
	tell := func(system, state string) (lines []string) {
		t.Helper()
		found, err := s.Client.Openness(t.Context(), s.Site.ID, system, state)
		if err != nil {
			t.Fatal(err)
		}
		for _, sum := range found.Systems {
			lines = append(lines, fmt.Sprintf("%s %d: %d open, %d own, %d closed, %d points of %d, %v", sum.System, sum.Devices, sum.Open, sum.Own, sum.Closed, sum.Points, sum.Counted, sum.Protocols))
		}
		for _, d := range found.Devices {
			points := -1
			if d.Points != nil {
				points = *d.Points
			}
			flags := strings.NewReplacer(fmt.Sprint("device ", at["10.9.0.1"]), "the first", fmt.Sprint("device ", at["10.9.0.4"]), "its copy").Replace(strings.Join(d.Flags, "; "))
			lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s %v %d %s", d.Addr, d.State, d.Protocols, points, flags)))
		}
		return lines
	}
	sums := "plant 4: 3 open, 1 own, 0 closed, 69 points of 2, [{BACnet 2} {EtherNet/IP 1}]"
	same(t, "all", tell("", ""), []string{sums, "10.9.0.3 own [] -1", "10.9.0.1 open [BACnet] 60 BACnet number 1 is that of its copy too", "10.9.0.2 open [EtherNet/IP] -1",
		"10.9.0.4 open [BACnet] 9 its list of objects ends at 10 of 20; BACnet number 1 is that of the first too"})
	same(t, "in their makers' own ways", tell("", "own"), []string{sums, "10.9.0.3 own [] -1"})
	same(t, "of another system", tell("metering", ""), []string{sums})
	_, err = s.Client.Openness(t.Context(), s.Site.ID, "plnat", "")
	wantProblem(t, "a system that there is not", err, http.StatusUnprocessableEntity, "want one of plant, metering")
	_, body := get(t, http.DefaultClient, http.MethodGet, fmt.Sprintf("%s/api/v1/sites/%d/openness.csv?state=open", s.URL, s.Site.ID), map[string]string{"Authorization": "Bearer " + s.Token}, "")
	if lines := strings.Split(strings.TrimSpace(body), "\n"); len(lines) != 4 || !strings.Contains(lines[1], "BACnet number 1 is that of device") {
		t.Errorf("%q", body)
	}
}

// A printer that can show itself is told to, by whoever may sweep, and that is written down; others are not told anything.
func TestDevicesThatShowThemselves(t *testing.T) {
	t.Parallel()
	scenario, err := simsite.Load("printers", []byte(`name: printers
seed: 7
networks: [{name: office, subnet: 10.9.0.0/24, latency: 300us}]
vantage: {network: office, address: 10.9.0.250, mac: "48:9b:34:00:00:fa"}
devices:
  - {name: shows, standing: managed, legs: [{network: office, address: 10.9.0.1, mac: "48:9b:34:00:00:01"}], services: [{port: 631, speaks: ipp, title: Inkwell 220, tells: {printer-make-and-model: Marrowby Inkwell 220, shows: flash}}]}
  - {name: does not, standing: managed, legs: [{network: office, address: 10.9.0.2, mac: "48:9b:34:00:00:02"}], services: [{port: 631, speaks: ipp, title: Inkwell 110, tells: {printer-make-and-model: Marrowby Inkwell 110}}]}
  - {name: refuses, standing: managed, legs: [{network: office, address: 10.9.0.3, mac: "48:9b:34:00:00:03"}], services: [{port: 631, speaks: ipp, title: Inkwell 330, tells: {printer-make-and-model: Marrowby Inkwell 330, shows: display}}]}
`))
	if err != nil {
		t.Fatal(err)
	}
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t), Scenario: scenario})
	sweepOf(t, s, "")
	at := map[string]uint64{}
	for _, d := range devicesOf(t, s) {
		if len(d.Addrs) > 0 {
			at[d.Addrs[0]] = d.ID
		}
	}
	shown, err := s.Client.Device(t.Context(), at["10.9.0.1"])
	if err != nil || shown.Blinks != "ipp" {
		t.Errorf("it can be told to show itself by %q, %v", shown.Blinks, err)
	}
	if by, err := s.Client.Blink(t.Context(), at["10.9.0.1"]); err != nil || by != "ipp" {
		t.Errorf("told by %q, %v", by, err)
	}
	_, err = s.Client.Blink(t.Context(), at["10.9.0.2"])
	wantProblem(t, "one that cannot", err, http.StatusConflict, "show itself")
	_, err = s.Client.Blink(t.Context(), at["10.9.0.3"])
	wantProblem(t, "one that refuses", err, http.StatusBadGateway, "the printer refuses")
	log, err := s.Client.Audit(t.Context(), 10)
	if err != nil || !slices.ContainsFunc(log, func(l api.AuditLine) bool { return l.Action == "blink" && strings.Contains(l.Subject, "ipp") }) {
		t.Errorf("it is not written down: %+v, %v", log, err)
	}
}
