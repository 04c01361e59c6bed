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
	data, err := scenarios.Files.ReadFile(scenarios.Demo)
	if err != nil {
		t.Fatal(err)
	}
	scenario, err := simsite.Load(scenarios.Demo, data)
	if err != nil {
		t.Fatal(err)
	}
	return scenario
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
