// Package servicetest runs whole services for tests: database, API and a simulated building as the only vantage.
package servicetest

import (
	"io/fs"
	"net/http"
	"os"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service"
	"airdrift/simsite"
	"airdrift/simsite/simsitetest"
)

// Service is a running service with a client to it.
type Service struct {
	*service.Instance
	Client   *client.Client // of the local command line
	Token    string         // of the first user, for requests that a test makes itself
	Site     api.Site
	Scenario *simsite.Scenario
	Password string // of the console
	Data     string // its data directory
}

// DataDir makes a directory that the database's user can pass through, and deletes it after the test.
func DataDir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "airdrift-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return dir
}

// Config says what a service for a test has.
type Config struct {
	Console fs.FS  // nil: none
	DSN     string // of an empty database; empty starts a server for this test alone, which takes seconds

	Scenario *simsite.Scenario // nil: the demo building
}

// Demo runs a service on the demo building, which is entered as a site. Everything is closed when the test ends.
func Demo(t testing.TB, config Config) *Service {
	t.Helper()
	s := run(t, DataDir(t), config)
	s.enter(t)
	return s
}

// enter enters the building as a site.
func (s *Service) enter(t testing.TB) {
	t.Helper()
	password, err := os.ReadFile(s.PasswordFile())
	if err != nil {
		t.Fatal(err)
	}
	s.Password = strings.TrimSpace(string(password))
	if s.Site, err = s.Client.EnterSite(t.Context(), s.Scenario.NewSite(), s.Scenario.NewCredentials()); err != nil {
		t.Fatal(err)
	}
}

// On runs a service on the demo building with a data directory that another has left.
func On(t testing.TB, data string) *Service {
	t.Helper()
	return run(t, data, Config{})
}

func run(t testing.TB, data string, config Config) *Service {
	t.Helper()
	scenario := config.Scenario
	if scenario == nil {
		scenario = simsitetest.Demo(t)
	}
	wire, err := simsitetest.Start(t, scenario).Wire()
	if err != nil {
		t.Fatal(err)
	}
	return runOn(t, scenario, service.FixedVantages{wire}, data, config)
}

// Week runs a service on the demo building on the first of its days.
func Week(t testing.TB, config Config) (*Service, *simsite.Calendar) {
	t.Helper()
	scenario := simsitetest.Demo(t)
	calendar, err := simsite.NewCalendar(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = calendar.Close() })
	s := runOn(t, scenario, calendar, DataDir(t), config)
	s.enter(t)
	return s, calendar
}

func runOn(t testing.TB, scenario *simsite.Scenario, vantages service.Vantages, data string, config Config) *Service {
	t.Helper()
	s := &Service{Scenario: scenario, Data: data}
	var err error
	s.Instance, err = service.Run(t.Context(), service.InstanceConfig{
		Data: s.Data, Listen: "127.0.0.1:0", DSN: config.DSN, Vantages: vantages, Console: config.Console,
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	if err := s.WaitTakenUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	s.Client = client.Local(s.Data)
	token, err := s.Client.CreateToken(t.Context(), "test", 1)
	if err != nil {
		t.Fatal(err)
	}
	s.Token = token.Secret
	return s
}

// By makes a client that acts for the holder of a token, as a command line on another machine does, but in the clear.
func (s *Service) By(token string) *client.Client {
	return client.Over(http.DefaultClient, s.URL, token)
}

// Building starts the demo building for a process that is to be killed, and plugs into it.
func Building() (*simsite.Wire, error) {
	scenario, err := simsitetest.Load()
	if err != nil {
		return nil, err
	}
	site, err := simsite.Start(scenario)
	if err != nil {
		return nil, err
	}
	return site.Wire()
}
