package simsite_test

import (
	"testing"

	"airdrift/simsite/simsitetest"
	"airdrift/simsite/wiretest"
)

func TestWireInProcess(t *testing.T) {
	site := simsitetest.Start(t, simsitetest.Demo(t))
	w, err := site.Wire()
	if err != nil {
		t.Fatal(err)
	}
	// First, as the system goes on for a while with what it has begun.
	t.Run("fence on the wire", func(t *testing.T) { wiretest.FenceOnTheWire(t, site, w) })
	wiretest.Run(t, w, site)
}
