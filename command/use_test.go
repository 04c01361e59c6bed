package command_test

import (
	"bytes"
	"context"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/command"
	"airdrift/service/servicetest"
)

// TestCommandsOnASweptSite runs commands in this process against a service that has swept the demo building.
func TestCommandsOnASweptSite(t *testing.T) {
	s := servicetest.Demo(t, servicetest.Config{})
	use := func(args ...string) (out, errs string, code int) {
		var stdout, stderr bytes.Buffer
		p := command.Program{In: strings.NewReader(""), Out: &stdout, Err: &stderr}
		args = append([]string{"airdrift", "--server", s.URL, "--token-file", filepath.Join(s.Data, "token")}, args...)
		code = command.Run(t.Context(), p, args)
		return stdout.String(), stderr.String(), code
	}
	expect := func(code int, says string, args ...string) {
		t.Helper()
		out, errs, got := use(args...)
		if got != code || !strings.Contains(out+errs, says) {
			t.Errorf("airdrift %s: exit code %d, want %d saying %q\n%s%s", strings.Join(args, " "), got, code, says, out, errs)
		}
	}
	interrupt(t, s)
	expect(0, "asking: ", "sweep", "--pace", "brisk")
	expect(0, "10.40.1.66 (shared)", "devices", "--contested")
	expect(2, "means several devices; say which by its number", "device", "10.40.1.66")
	expect(0, "private: chosen by the device, tells no maker", "device", "10.40.1.150")
	expect(0, "it is an address of the gateway itself", "device", "10.40.2.1")
	expect(0, "tell the makers of MAC addresses", "vendor", "--help")
	expect(0, "by the site's own list", "vendor", "48:9b:34:00:00:01")
	expect(2, `there is no site "elsewhere": there are Fernhollow Botanic Garden`, "--site", "elsewhere", "devices")
	expect(0, "Fernhollow Botanic Garden", "--site", "fernhollow botanic garden", "--output", "csv", "site", "list")
	expect(0, "arp.mac", "--output", "csv", "device", "10.40.1.150")
	expect(0, "Unmanaged", "register", "import", "../scenarios/fernhollow-register.csv")
	expect(0, "moved to the store room", "register", "show")
	expect(0, "nothing", "devices", "--kind", "smart-plug")
	expect(2, "sort", "devices", "--sort", "colour")
	expect(1, "no such file", "register", "import", "gone.csv")
	out, _, _ := use("--output", "json", "devices", "--standing", "missing", "--sort", "name", "--descend")
	var list []api.DeviceLine
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 6 || list[0].Name != "spare phone" {
		t.Errorf("missing devices as JSON: %s, %v", out, err)
	}
}

// interrupt sends a sweep what Ctrl-C does, and wants it stopped with what it saw.
func interrupt(t *testing.T, s *servicetest.Service) {
	t.Helper()
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var out bytes.Buffer
	started := make(chan struct{})
	go func() {
		defer close(started)
		// The command is interrupted as soon as its sweep has seen somebody.
		for ctx.Err() == nil {
			sweeps, err := s.Client.Sweeps(ctx, s.Site.ID)
			if err == nil && len(sweeps) == 1 {
				watch, end := context.WithCancel(ctx)
				_, _ = s.Client.Watch(watch, sweeps[0].ID, client.Watcher{Sighting: func(api.Sighting) { end() }})
				end()
				stop()
			}
		}
	}()
	var errs bytes.Buffer
	p := command.Program{In: strings.NewReader(""), Out: &out, Err: &errs}
	code := command.Run(ctx, p, []string{"airdrift", "--data", s.Data, "--output", "json", "sweep", "--pace", "gentle"})
	<-started
	var sweep api.Sweep
	if err := json.Unmarshal(out.Bytes(), &sweep); err != nil || code != 0 || sweep.State != "stopped" || sweep.Answered == 0 {
		t.Errorf("an interrupted sweep: exit code %d, %s%s, %v", code, out.String(), errs.String(), err)
	}
	if !strings.Contains(errs.String(), "what was seen is kept") {
		t.Errorf("the interrupt is not acknowledged: %s", errs.String())
	}
}
