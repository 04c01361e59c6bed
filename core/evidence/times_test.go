package evidence

import (
	"slices"
	"testing"
	"time"
)

func TestTimesOfAnswers(t *testing.T) {
	var answers []time.Duration
	for ms := 100; ms >= 1; ms-- {
		answers = append(answers, time.Duration(ms)*time.Millisecond)
	}
	got := TimesOf("bacnet", answers, 240, 3)
	if want := (Times{"bacnet", 240, 3, 50 * time.Millisecond, 95 * time.Millisecond, 100 * time.Millisecond}); got != want {
		t.Errorf("%+v, want %+v", got, want)
	}
	if one := TimesOf("knx", []time.Duration{1500 * time.Microsecond}, 1, 0); one.String() != "knx 1 0 1.5 1.5 1.5" {
		t.Error(one)
	}
	for _, times := range []Times{got, TimesOf("knx", nil, 0, 2), {"snmp", 1, 0, 1, 1, 1}} {
		again, ok := ParseTimes(times.String())
		if want := times.String(); !ok || again.String() != want {
			t.Errorf("%q is read as %+v", want, again)
		}
	}
}

// A file from elsewhere may say anything.
func TestTimesThatAreNone(t *testing.T) {
	for _, value := range []string{
		"", "bacnet", "bacnet 1 0 1 1", "bacnet 1 0 1 1 1 1", " 1 0 1 1 1", "bacnet -1 0 1 1 1", "bacnet 1 0 NaN 1 1", "bacnet 1 0 1 1 Inf", "bacnet 1 0 1 1 1e300",
		"bacnet 1 0 -1 1 1", "bacnet 1 0 3 2 1", "bacnet 99999999999 0 1 1 1", "a-name-that-is-longer-than-any-protocol-has 1 0 1 1 1",
	} {
		if times, ok := ParseTimes(value); ok {
			t.Errorf("%q is read as %+v", value, times)
		}
	}
}

func TestTimesAtSeveralAddresses(t *testing.T) {
	items := []Item{
		{Key: KeyTimes, Value: "snmp 10 1 2 3 4"}, {Key: KeyTimes, Value: "bacnet 1 0 5 5 5"}, {Key: KeyTimes, Value: "snmp 20 0 1 2 3"}, {Key: KeyTimes, Value: "nonsense"}, {Key: "other", Value: "knx 1 0 1 1 1"},
	}
	var got []string
	for _, times := range TimesIn(items) {
		got = append(got, times.String())
	}
	if want := []string{"bacnet 1 0 5 5 5", "snmp 30 1 1 2 4"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

func FuzzUnpackTimes(f *testing.F) {
	f.Add(PackTimes([]Times{{"bacnet", 240, 3, 50 * time.Millisecond, 95 * time.Millisecond, 5 * time.Second}, {"snmp", 1, 0, time.Microsecond, 1500 * time.Microsecond, 2 * time.Millisecond}}))
	f.Add([]byte{3, 'k', 'n'})
	f.Fuzz(func(t *testing.T, packed []byte) {
		all := UnpackTimes(packed)
		again := UnpackTimes(PackTimes(all))
		if !slices.Equal(all, again) {
			t.Errorf("%+v is read again as %+v", all, again)
		}
	})
}
