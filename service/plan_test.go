package service_test

import (
	"context"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// What a plan leaves out is left out, the plan stays with the sweep, and one that contradicts itself is refused with words.
func TestPlans(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	for want, plan := range map[string]api.Plan{
		"no protocol \"telegraphy\"":     {LeaveOut: []string{"telegraphy"}},
		"quiet hours \"at night\"":       {Quiet: []string{"at night"}},
		"pace 1 for a part":              {Paces: []api.PartPace{{Ranges: "10.40.300.1", Pace: "gentle"}}},
		"waits want least (5s) <= first": {Waits: &api.Waits{First: 1000, Least: 5000, Most: 4000, Last: 2000}},
	} {
		_, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Plan: &plan})
		wantProblem(t, want, err, http.StatusUnprocessableEntity, want)
	}
	protocols, err := s.Client.Protocols(t.Context())
	if err != nil || !slices.ContainsFunc(protocols, func(p api.Protocol) bool { return p.Name == "snmp" && slices.Contains(p.Parts, "default-community") }) {
		t.Errorf("the protocols are %+v, %v", protocols, err)
	}
	plan := api.Plan{
		LeaveOut: []string{"snmp", "mdns", "ssh"}, Never: []uint16{80}, Paces: []api.PartPace{{Ranges: "10.40.1.5-6", Pace: "steady"}},
		Waits: &api.Waits{First: 1000, Least: 300, Most: 4000, Last: 2000},
	}
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Ranges: "10.40.1.2-20", Pace: "brisk", Plan: &plan})
	if err != nil || started.Plan == nil || !reflect.DeepEqual(*started.Plan, plan) {
		t.Fatalf("started as %+v, %v", started.Plan, err)
	}
	ended, err := s.Client.Watch(context.WithoutCancel(t.Context()), started.ID, client.Watcher{})
	if err != nil || ended.State != "done" || ended.Plan == nil {
		t.Fatalf("ended as %+v, %v", ended, err)
	}
	list, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{})
	if err != nil || list.Counted() == 0 {
		t.Fatalf("%d devices, %v", list.Counted(), err)
	}
	for _, line := range list.Items {
		device, err := s.Client.Device(t.Context(), line.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, fact := range device.Evidence {
			if strings.HasPrefix(fact.Key, "snmp.") || strings.HasPrefix(fact.Key, "mdns.") || strings.HasPrefix(fact.Key, "ssh.") {
				t.Errorf("%v said %s, of what was left out", line.Addrs, fact.Key)
			}
		}
	}
}

// A site with networks of IPv6 alone can be swept.
func TestSiteOfIPv6Alone(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	site, err := s.Client.CreateSite(t.Context(), api.NewSite{Name: "Six", Networks: []api.Network{{Name: "segment", Subnet: "fd00:40:1::/64"}}})
	if err != nil {
		t.Fatal(err)
	}
	started, err := s.Client.StartSweep(t.Context(), site.ID, api.NewSweep{Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	ended, err := s.Client.Watch(context.WithoutCancel(t.Context()), started.ID, client.Watcher{})
	if err != nil || ended.State != "done" || ended.Answered == 0 {
		t.Fatalf("ended as %+v, %v", ended, err)
	}
	list, err := s.Client.Devices(t.Context(), site.ID, client.DeviceQuery{})
	if err != nil || list.Counted() == 0 {
		t.Fatalf("%d devices, %v", list.Counted(), err)
	}
	asked := 0
	for _, line := range list.Items {
		if len(line.Addrs) > 0 && strings.HasPrefix(line.Addrs[0], "fd00:40:1:") && line.Kind != "unknown" {
			asked++
		}
	}
	if asked == 0 {
		t.Errorf("none of %d devices was told: %+v", list.Counted(), list.Items)
	}
}
