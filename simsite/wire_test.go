package simsite_test

import (
	"testing"

	"airdrift/simsite/simsitetest"
	"airdrift/simsite/wiretest"
)

func TestWireInProcess(t *testing.T) {
	scenario := simsitetest.Demo(t)
	w, err := simsitetest.Start(t, scenario).Wire()
	if err != nil {
		t.Fatal(err)
	}
	wiretest.Run(t, w, scenario)
}
