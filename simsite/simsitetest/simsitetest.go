// Package simsitetest starts the demo building for tests and says what a sweep of it must find.
package simsitetest

import (
	"testing"

	"airdrift/scenarios"
	"airdrift/simsite"
)

// Demo loads the demo's scenario.
func Demo(t testing.TB) *simsite.Scenario {
	t.Helper()
	scenario, err := Load()
	if err != nil {
		t.Fatal(err)
	}
	return scenario
}

// Load is Demo where there is no test.
func Load() (*simsite.Scenario, error) {
	data, err := scenarios.Files.ReadFile(scenarios.Demo)
	if err != nil {
		return nil, err
	}
	return simsite.Load(scenarios.Demo, data)
}

// Start starts a building and closes it when the test ends.
func Start(t testing.TB, scenario *simsite.Scenario) *simsite.Site {
	t.Helper()
	site, err := simsite.Start(scenario)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = site.Close() })
	return site
}
