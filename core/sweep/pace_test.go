package sweep

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"airdrift/core/probe"
)

func TestParsePorts(t *testing.T) {
	for text, want := range map[string]int{"": len(probe.TellingPorts()), "telling": len(probe.TellingPorts()), "all": 65535, "22, 80;443 22": 3, "8000-8003": 4} {
		got, err := ParsePorts(text)
		if err != nil || len(got) != want {
			t.Errorf("%q gave %d ports, %v; want %d", text, len(got), err, want)
		}
	}
	usual, err := ParsePorts("usual")
	if err != nil || len(usual) < 190 || len(usual) > 260 || !slices.IsSorted(usual) {
		t.Errorf("the usual ones are %d, %v", len(usual), err)
	}
	for _, p := range probe.TellingPorts() {
		if !slices.Contains(usual, p) {
			t.Errorf("the usual ports lack %d, a telling one", p)
		}
	}
	for text, want := range map[string]string{
		"22, 70000": `port 2, "70000"`, "0": "from 1 to 65535", "90-80": "ends (80) before it starts (90)", "http": "nor one of the sets", ",": "no port given", "1-": `"" is not a port`,
	} {
		if _, err := ParsePorts(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q gave %v, want %q", text, err, want)
		}
	}
}

func FuzzParsePorts(f *testing.F) {
	for _, seed := range []string{"22, 80-90", "all", "-", "65535-65535,1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		ports, err := ParsePorts(text)
		if err == nil && (len(ports) == 0 || slices.Contains(ports, 0)) {
			t.Errorf("%q gave %v", text, ports)
		}
	})
}

func TestFiguresThatMakeNoSense(t *testing.T) {
	for name, change := range map[string]func(*Pace){
		"no rate": func(p *Pace) { p.Rate = 0 }, "too fast": func(p *Pace) { p.Rate = 1e9 }, "no devices": func(p *Pace) { p.Devices = 0 },
		"too many at a time": func(p *Pace) { p.PerDevice = 1000 }, "a lane too narrow": func(p *Pace) { p.PerNetwork = p.PerDevice - 1 }, "rounds without end": func(p *Pace) { p.Rounds = 100 },
	} {
		p := Steady
		change(&p)
		if p.Check() == nil {
			t.Errorf("%s: %+v is let through", name, p)
		}
	}
	for _, p := range Paces {
		if err := p.Check(); err != nil {
			t.Errorf("%s: %v", p.Name, err)
		}
	}
}

// answer gives a throttle a window of answers with that many late ones among them.
func answer(th *throttle, late int) {
	for i := range lossWindow {
		th.answered(i < late)
	}
}

func TestPaceGoesBackWhereThatHelps(t *testing.T) {
	told := 0.0
	th := newThrottle(Brisk, func(share float64) { told = share })
	answer(th, 2)
	if th.now != th.full {
		t.Error("little loss slows the sweep")
	}
	answer(th, 40)
	if th.now != th.full/2 || told != 0 {
		t.Errorf("much loss: %v, told %v; want half the pace on trial, told to nobody", th.now, told)
	}
	answer(th, 3)
	if told != 0.5 {
		t.Errorf("a slower pace helps, and %v is told", told)
	}
	answer(th, 0)
	if th.now <= th.full/2 {
		t.Error("the pace does not come back")
	}
}

func TestLossOfTheNetworksOwnDoesNotSlowTheSweep(t *testing.T) {
	th := newThrottle(Brisk, func(float64) { t.Error("a slower pace is said to help") })
	for range 6 {
		answer(th, 40)
	}
	if th.now != th.full {
		t.Errorf("after six windows of the same loss the pace is %v", th.now)
	}
}

func TestTriesFollowTheLoss(t *testing.T) {
	for late, want := range map[int]int{0: 3, 2: 3, 10: 4, 36: maxRounds, 80: maxRounds} {
		th := newThrottle(Brisk, func(float64) {})
		if got := th.tries(3, maxRounds); got != 3 {
			t.Errorf("before any answer: %d", got)
		}
		answer(th, late)
		if got := th.tries(3, maxRounds); got != want {
			t.Errorf("of 100 answers %d late: %d tries, want %d", late, got, want)
		}
	}
}

func TestLanesAreBounded(t *testing.T) {
	l := newLanes()
	a, b := netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("10.40.2.0/24")
	leave, err := l.enter(t.Context(), a, 2)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := l.enter(t.Context(), a, 2); err != nil {
		t.Fatal(err)
	}
	if _, err := l.enter(t.Context(), b, 2); err != nil {
		t.Fatalf("another network has no place: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := l.enter(ctx, a, 2); !errors.Is(err, context.Canceled) {
		t.Errorf("a third one in a lane for two gave %v", err)
	}
	leave()
	if _, err := l.enter(t.Context(), a, 2); err != nil {
		t.Errorf("a place that was given back is not to be had: %v", err)
	}
}
