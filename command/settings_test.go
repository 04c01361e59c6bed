package command

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/service"
)

// readConfig parses a command line as serve does, and gives the configuration that comes of it.
func readConfig(t *testing.T, args ...string) (service.InstanceConfig, error) {
	t.Helper()
	var config service.InstanceConfig
	p := Program{}
	root := p.root()
	for _, c := range root.Commands {
		if c.Name == "serve" {
			c.Action = func(_ context.Context, c *cli.Command) (err error) {
				config, err = instanceConfig(c)
				return err
			}
		}
	}
	err := root.Run(t.Context(), append([]string{"airdrift"}, args...))
	return config, err
}

func writeFile(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "settings.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// An option comes before the environment, and that before the file.
func TestSettingsInTheirOrder(t *testing.T) {
	dsn := filepath.Join(t.TempDir(), "dsn")
	if err := os.WriteFile(dsn, []byte("user:secret@tcp(127.0.0.1:3306)/airdrift\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	file := writeFile(t, "data: /srv/airdrift\nlisten: 127.0.0.1:1111\ntls: true\npublic: [192.0.2.0/28]\nspoolLimit: 1000000\ndsnFile: "+dsn+"\ndsnCA: /srv/ca.pem\n"+
		"trustedProxies: [10.40.9.0/28]\nsecondFactor: true\nidle: 5m\nauditDays: 30\n")
	t.Setenv("AIRDRIFT_PUBLIC", "198.51.100.0/24")
	got, err := readConfig(t, "serve", "--settings", file, "--listen", "127.0.0.1:2222")
	if err != nil {
		t.Fatal(err)
	}
	if got.Data != "/srv/airdrift" || got.Listen != "127.0.0.1:2222" || !got.TLS || got.SpoolLimit != 1000000 || got.DSN != "user:secret@tcp(127.0.0.1:3306)/airdrift" || got.DSNCA != "/srv/ca.pem" {
		t.Errorf("got %+v", got)
	}
	if len(got.Public) != 1 || got.Public[0] != netip.MustParsePrefix("198.51.100.0/24") {
		t.Errorf("public networks %v, want those of the environment", got.Public)
	}
	if len(got.Proxies) != 1 || got.Proxies[0] != netip.MustParsePrefix("10.40.9.0/28") || !got.SecondFactor || got.Idle != 5*time.Minute || got.AuditKept != 30*24*time.Hour {
		t.Errorf("who is let in, and how: %+v", got)
	}
	if got, err = readConfig(t, "serve", "--settings", file, "--idle", "1h", "--audit-days", "7"); err != nil || got.Idle != time.Hour || got.AuditKept != 7*24*time.Hour {
		t.Errorf("options over the file: %+v, %v", got, err)
	}
	if got, err = readConfig(t, "--data", "/elsewhere", "serve"); err != nil || got.Data != "/elsewhere" || got.Listen != defaultListen || got.TLS {
		t.Errorf("without a file: %+v, %v", got, err)
	}
}

func TestSettingsThatMakeNoSense(t *testing.T) {
	for text, want := range map[string]string{
		"listen: 127.0.0.1:1\nlisten-on: x\n":        "line 2",
		"public:\n  - 192.0.2.0/24\n  - elsewhere\n": "line 3, column 5 (public[1])",
		"spoolLimit: -1\n":                           "line 1, column 13 (spoolLimit)",
		"tls: perhaps\n":                             "line 1",
		"idle: 1s\n":                                 "line 1, column 7 (idle)",
		"idle: soon\n":                               "is not a time from 1m0s to 12h0m0s",
		"auditDays: 99999\n":                         "line 1, column 12 (auditDays)",
		"trustedProxies: [everybody]\n":              "(trustedProxies[0])",
		"":                                           "the file is empty",
	} {
		if _, err := readConfig(t, "serve", "--settings", writeFile(t, text)); err == nil || !strings.Contains(err.Error(), want) || exitCode(err) != exitWrongUse {
			t.Errorf("%q gave %v, want %q", text, err, want)
		}
	}
	for _, args := range [][]string{{"serve", "--settings", "/nowhere/x.yaml"}, {"serve", "--dsn-file", "/nowhere/dsn"}, {"serve", "--public", "everywhere"}} {
		if _, err := readConfig(t, args...); err == nil {
			t.Errorf("%v is let through", args)
		}
	}
}

// The settings that the package installs are read by the program they are for.
func TestPackagedSettings(t *testing.T) {
	got, err := readConfig(t, "serve", "--settings", filepath.Join("..", "packaging", "settings.yaml"))
	if err != nil || got.Listen != defaultListen {
		t.Errorf("got %+v, %v", got, err)
	}
}

func TestReadRangesTellsTheLine(t *testing.T) {
	path := writeFile(t, "# plant\n10.40.2.10-12\n10.40.2.400\n")
	p := Program{}
	if _, err := p.readRanges(path); err == nil || !strings.Contains(err.Error(), `line 3: range 1, "10.40.2.400"`) || exitCode(err) != exitWrongUse {
		t.Errorf("got %v", err)
	}
	p.In = strings.NewReader("10.40.2.10-12 # three\n10.40.2.13\n")
	if got, err := p.readRanges("-"); err != nil || got != "10.40.2.10-10.40.2.13" {
		t.Errorf("got %q, %v", got, err)
	}
}

func TestReadPace(t *testing.T) {
	name, figures, err := readPace("rate=50, per-device=1")
	if err != nil || name != "own" || figures.Rate != 50 || figures.PerDevice != 1 || figures.Rounds != 3 {
		t.Errorf("got %s %+v, %v", name, figures, err)
	}
	if name, figures, err := readPace("gentle"); err != nil || name != "gentle" || figures != nil {
		t.Errorf("got %s %+v, %v", name, figures, err)
	}
	for _, text := range []string{"rate=", "speed=5", "devices=1.5", "rate=fast"} {
		if _, _, err := readPace(text); err == nil {
			t.Errorf("%q is let through", text)
		}
	}
}
