package finding

import (
	"errors"
	"strings"
	"testing"

	"airdrift/core/fault"
	"airdrift/core/wording"
)

// A list is read whole or refused with the places of its faults, and what is read matches no text for ever.
func FuzzReadEnds(f *testing.F) {
	f.Add("pattern,date,source\nOstermoor Gate *,2030-01-31,maker\n")
	f.Add("pattern,date,source\n\"a\"\"*b*\",2030-01-31,\"x\ny\"\n")
	f.Add("pattern,date,source\n*,2030-01-31,x\n")
	f.Fuzz(func(t *testing.T, text string) {
		ends, err := ReadEnds("list", strings.NewReader(text))
		if err != nil {
			if faults := (*fault.List)(nil); !errors.As(err, &faults) || ends != nil {
				t.Fatalf("%d ends with %v", len(ends), err)
			}
			return
		}
		ready := endsOf(ends)
		for _, e := range ends {
			if e.Pattern == "" || e.Source == "" || e.Date.IsZero() {
				t.Fatalf("%+v was read", e)
			}
			// What a pattern is made of, with something in the place of each star, meets it.
			if got := ready.of("", strings.ReplaceAll(e.Pattern, "*", "x"), ""); len(got) == 0 {
				t.Fatalf("%q does not meet itself", e.Pattern)
			}
		}
	})
}

// A file of rules is read whole or refused with the places of its faults, and what is read can judge.
func FuzzReadRules(f *testing.F) {
	f.Add("rules:\n  - {rule: a, severity: low, title: t, because: b, do: d, devices: {kind: [printer]}, when: [{keys: [tcp.open], is: \"80\"}]}\n")
	f.Add("rules: [{rule: a, severity: low, title: t, because: b, do: d, when: [{keys: [http.title], like: '(a|b)+$'}], unless: [{keys: [http.title], words: [x*]}]}]")
	f.Fuzz(func(t *testing.T, text string) {
		own, err := ReadRules("rules", []byte(text))
		if err != nil {
			if faults := (*fault.List)(nil); !errors.As(err, &faults) {
				t.Fatal(err)
			}
			return
		}
		s := site()
		s.Own = own
		for _, r := range NewJudge(s).Of(Case{Device: device(1, "10.9.1.10"), Items: facts("tcp.open@tcp/80=80", "http.title=page x")}).Remarks {
			if title, says := r.Said(wording.Default, own); title == "" || says == "" {
				t.Fatalf("%s says nothing", r.Rule)
			}
		}
	})
}
