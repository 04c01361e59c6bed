package service_test

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// judged is a service that has swept two printers and two label printers, and what is open there.
func judged(t *testing.T) (*servicetest.Service, func(client.FindingQuery) []api.Finding) {
	t.Helper()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	sweepOf(t, s, "10.40.1.20-10.40.1.24")
	return s, func(q client.FindingQuery) []api.Finding {
		t.Helper()
		list, err := s.Client.Findings(t.Context(), s.Site.ID, q, 0)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
}

func rulesOf(list []api.Finding) string {
	var rules []string
	for _, f := range list {
		rules = append(rules, f.Severity+" "+f.Rule+" "+f.State)
	}
	slices.Sort(rules)
	return strings.Join(slices.Compact(rules), "|")
}

// What is wrong is told with what to do, filtered, counted and exported; it is accepted with a reason until a day, all or none.
func TestFindings(t *testing.T) {
	t.Parallel()
	s, findings := judged(t)
	ctx, site := t.Context(), s.Site.ID
	open := findings(client.FindingQuery{})
	if got := rulesOf(open); got != "high default-community open|medium clear-text-sign-in open|medium unmanaged open|medium wrong-subnet open" {
		t.Fatal(got)
	}
	first := open[0]
	if first.Rule != "default-community" || first.Says != "Its agent lets anybody read who says public." || first.Do == "" || len(first.Devices) != 1 || first.Devices[0].Addr == "" ||
		len(first.Evidence) != 1 || first.Sweep == 0 || first.Times != 1 {
		t.Errorf("%+v", first)
	}
	if one, err := s.Client.Finding(ctx, first.ID); err != nil || one.Says != first.Says {
		t.Errorf("%+v, %v", one, err)
	}
	if got := rulesOf(findings(client.FindingQuery{Severity: "high"})); got != "high default-community open" {
		t.Error(got)
	}
	for _, f := range findings(client.FindingQuery{Severity: "medium", Worst: "medium"}) {
		if f.Severity != "medium" {
			t.Errorf("of medium severity alone there is %+v", f)
		}
	}
	if all, worse := len(findings(client.FindingQuery{})), len(findings(client.FindingQuery{Severity: "high"})); len(findings(client.FindingQuery{Worst: "medium"})) != all-worse {
		t.Errorf("of %d findings %d are worse than medium, but the others are not the rest", all, worse)
	}
	if got := findings(client.FindingQuery{Device: first.Devices[0].ID, Rules: []string{"default-community"}}); len(got) != 1 || got[0].ID != first.ID {
		t.Errorf("%+v", got)
	}
	var page api.List[api.Finding]
	var leafed []uint64
	for cursor := ""; ; cursor = page.Next {
		page = api.List[api.Finding]{}
		read(t, s, fmt.Sprintf("/api/v1/sites/%d/findings?limit=2&cursor=%s", site, cursor), &page)
		for _, f := range page.Items {
			leafed = append(leafed, f.ID)
		}
		if page.Next == "" {
			break
		}
	}
	if want := numbers(open); !slices.Equal(leafed, want) {
		t.Errorf("page by page there are %v, want %v", leafed, want)
	}
	counts, err := s.Client.CountFindings(ctx, site, client.FindingQuery{})
	if err != nil || len(counts) != 4 || counts[0].Rule != "default-community" || counts[0].Findings != 5 || counts[0].Title != "Default SNMP community" {
		t.Errorf("%+v, %v", counts, err)
	}

	until := func(years, months, days int) *time.Time { at := time.Now().AddDate(years, months, days); return &at }
	how := api.NewAct{Kind: "accept", Findings: []uint64{first.ID, open[1].ID, first.ID}, Text: "on loan", Until: until(0, 1, 0)}
	for _, tt := range []struct {
		what   string
		change func(*api.NewAct)
		status int
		says   string
	}{
		{"a day that has passed", func(a *api.NewAct) { a.Until = until(0, 0, -1) }, 422, "until: "},
		{"a day in a lifetime", func(a *api.NewAct) { a.Until = until(40, 0, 0) }, 422, "at most 10 years"},
		{"no reason", func(a *api.NewAct) { a.Text = " " }, 422, "text: say why"},
		{"one that is not there", func(a *api.NewAct) { a.Findings = append(a.Findings, 99999) }, 404, "not found"},
		{"no day", func(a *api.NewAct) { a.Until = nil }, 422, "until: "},
		{"a filter of rules that there are not", func(a *api.NewAct) { a.Findings, a.Filter = nil, "rule=none" }, 422, "no device or finding is meant"},
	} {
		wrong := how
		wrong.Findings = slices.Clone(how.Findings)
		tt.change(&wrong)
		_, err := s.Client.Act(ctx, site, wrong)
		wantProblem(t, tt.what, err, tt.status, tt.says)
	}
	if accepted := findings(client.FindingQuery{States: []string{"accepted"}}); len(accepted) != 0 {
		t.Fatalf("what was refused was accepted: %+v", accepted)
	}
	if _, err := s.Client.Act(ctx, site, how); err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.Act(ctx, site, how)
	wantProblem(t, "the same again", err, 422, "it is so already")
	longer := how
	longer.Until = until(1, 0, 0)
	extended, err := s.Client.Act(ctx, site, longer)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.UndoAct(ctx, extended.ID); err != nil {
		t.Fatal(err)
	}
	accepted := findings(client.FindingQuery{States: []string{"accepted"}})
	if len(accepted) != 2 || accepted[0].Accepted == nil || accepted[0].Accepted.Reason != "on loan" || accepted[0].Accepted.Until.After(*until(0, 2, 0)) || accepted[0].Accepted.By == "" {
		t.Fatalf("%+v", accepted)
	}
	sweepOf(t, s, "10.40.1.20-10.40.1.24")
	if still := findings(client.FindingQuery{States: []string{"accepted"}}); len(still) != 2 {
		t.Errorf("after another sweep %d are accepted", len(still))
	}
	if err := s.Client.ReopenFindings(ctx, site, numbers(accepted)); err != nil {
		t.Fatal(err)
	}
	if again := findings(client.FindingQuery{}); len(again) != len(open) {
		t.Errorf("%d are open again, want %d", len(again), len(open))
	}
}

func numbers(list []api.Finding) (all []uint64) {
	for _, f := range list {
		all = append(all, f.ID)
	}
	return all
}

// A finding goes where the register, the rules or the networks say otherwise, and says by which; where a sweep did not look it stays.
func TestFindingsFollowWhatIsSaid(t *testing.T) {
	t.Parallel()
	s, findings := judged(t)
	ctx, site := t.Context(), s.Site.ID
	closedBy := func(rule string) string {
		t.Helper()
		var ways []string
		for _, f := range findings(client.FindingQuery{Rules: []string{rule}, States: []string{"closed"}}) {
			ways = append(ways, f.ClosedBy)
		}
		return strings.Join(slices.Compact(ways), "|")
	}
	before := len(findings(client.FindingQuery{}))
	sweepOf(t, s, "10.40.1.2")
	if now := len(findings(client.FindingQuery{Device: findings(client.FindingQuery{})[0].Devices[0].ID})); now == 0 || len(findings(client.FindingQuery{})) <= before {
		t.Error("a sweep elsewhere has closed what it did not look at")
	}
	if _, err := s.Client.ImportRegister(ctx, site, demoRegister(t), client.Import{}); err != nil {
		t.Fatal(err)
	}
	if got := closedBy("unmanaged"); got != "register" {
		t.Errorf("what is managed now was closed by %q", got)
	}
	wantProblem(t, "an unknown rule", s.Client.SetFindingRule(ctx, site, "no-such", api.FindingSetting{On: true}), 422, `no rule "no-such"`)
	wantProblem(t, "an unknown parameter", s.Client.SetFindingRule(ctx, site, "slow", api.FindingSetting{On: true, Params: map[string]string{"tiems": "3"}}), 422, "it has milliseconds, times, least, answers")
	wantProblem(t, "a wrong figure", s.Client.SetFindingRule(ctx, site, "slow", api.FindingSetting{On: true, Params: map[string]string{"times": "few"}}), 422, "want a number from 1.5 to 1000")
	if err := s.Client.SetFindingRule(ctx, site, "clear-text-sign-in", api.FindingSetting{}); err != nil {
		t.Fatal(err)
	}
	if got := closedBy("clear-text-sign-in"); got != "settings" {
		t.Errorf("what a rule remarked that is off was closed by %q", got)
	}
	if err := s.Client.SetFindingRule(ctx, site, "default-community", api.FindingSetting{On: true, Severity: "critical"}); err != nil {
		t.Fatal(err)
	}
	if got := rulesOf(findings(client.FindingQuery{Severity: "critical"})); got != "critical default-community open" {
		t.Error(got)
	}
	rules, err := s.Client.FindingRules(ctx, site)
	if err != nil || !slices.ContainsFunc(rules, func(r api.FindingRule) bool {
		return r.Rule == "default-community" && r.Severity == "critical" && r.Usual == "high"
	}) ||
		!slices.ContainsFunc(rules, func(r api.FindingRule) bool { return r.Rule == "clear-text-sign-in" && !r.On }) {
		t.Errorf("%+v, %v", rules, err)
	}

	wantProblem(t, "a wrong list", s.Client.SetEndsOfSupport(ctx, site, "pattern,date,source\nMarrowby Print Ink*,soon,maker\n"), 422, "line 2 (date)")
	if err := s.Client.SetEndsOfSupport(ctx, site, "pattern,date,source\nMarrowby Print Ink*,2020-01-31,maker\n"); err != nil {
		t.Fatal(err)
	}
	if ended := findings(client.FindingQuery{Rules: []string{"end-of-support"}}); len(ended) != 3 || !strings.Contains(ended[0].Says, "ended on 2020-01-31 (maker)") {
		t.Errorf("%+v", ended)
	}
	wantProblem(t, "a gateway beyond", second(s.Client.SetNetwork(ctx, site, api.Network{Name: "offices", Subnet: "10.40.1.0/24", Gateway: "10.40.2.1"})), 422, "gateway: ")
	wantProblem(t, "a pool beyond", second(s.Client.SetNetwork(ctx, site, api.Network{Name: "offices", Subnet: "10.40.1.0/24", Pool: "10.40.1.9-10.40.2.3"})), 422, "reaches beyond")
	wantProblem(t, "no network", second(s.Client.SetNetwork(ctx, site, api.Network{Subnet: "10.49.1.0/24"})), 404, "not found")
}

func second[T any](_ T, err error) error { return err }

// Rules of the site's own judge once they are on, after they were tried.
func TestOwnRulesJudge(t *testing.T) {
	t.Parallel()
	s, findings := judged(t)
	ctx, site := t.Context(), s.Site.ID
	const text = "rules:\n  - rule: raw-printing\n    severity: high\n    title: <b>Raw</b> printing\n    because: Paper is dear.\n    do: Switch it off.\n    when: [{keys: [tcp.open], is: \"9100\"}]\n"
	file := api.NewRuleFile{Name: "printing", Text: text, Purpose: "judge"}
	wrong := file
	wrong.Text = strings.Replace(text, "severity: high", "severity: worst", 1)
	wantProblem(t, "a wrong severity", second(s.Client.TryRules(ctx, site, wrong)), 422, "line 3")
	wrong.Text, wrong.Purpose = text, "identify"
	wantProblem(t, "another purpose", second(s.Client.SaveRules(ctx, site, wrong)), 422, "unknown field")
	trial, err := s.Client.TryRules(ctx, site, file)
	if err != nil || trial.Devices == 0 || len(trial.Findings) != trial.Devices || trial.Findings[0].Severity != "high" || len(findings(client.FindingQuery{Rules: []string{"raw-printing"}})) != 0 {
		t.Fatalf("%+v, %v", trial, err)
	}
	saved, err := s.Client.SaveRules(ctx, site, file)
	if err != nil || saved.Active || saved.Purpose != "judge" {
		t.Fatalf("%+v, %v", saved, err)
	}
	wrong = file
	wrong.Name = "again"
	wantProblem(t, "a rule twice", second(s.Client.SaveRules(ctx, site, wrong)), 409, `has a rule "raw-printing" already`)
	if _, err := s.Client.SwitchRules(ctx, saved.ID, true); err != nil {
		t.Fatal(err)
	}
	if on := findings(client.FindingQuery{Rules: []string{"raw-printing"}}); len(on) != trial.Devices || on[0].Title != "<b>Raw</b> printing" || on[0].Do != "Switch it off." {
		t.Errorf("%+v", on)
	}
	if err := s.Client.RemoveRules(ctx, saved.ID); err != nil {
		t.Fatal(err)
	}
	if off := findings(client.FindingQuery{Rules: []string{"raw-printing"}, States: []string{"closed"}}); len(off) != trial.Devices || off[0].ClosedBy != "settings" {
		t.Errorf("%+v", off)
	}
}

// What devices say of themselves is text in every form in which findings go out, and never a formula.
func TestHostileWordsInFindings(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	sweepOf(t, s, "10.40.1.160-10.40.1.165")
	_, text := get(t, http.DefaultClient, http.MethodGet, fmt.Sprintf("%s/api/v1/sites/%d/findings.csv", s.URL, s.Site.ID), map[string]string{"Authorization": "Bearer " + s.Token}, "")
	table, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil || len(table) < 5 {
		t.Fatalf("%d lines, %v", len(table), err)
	}
	for _, row := range table[1:] {
		for i, field := range row {
			if field != "" && strings.ContainsAny(field[:1], "=+-@\t\r") || strings.ContainsAny(field, "\x1b\x00") {
				t.Errorf("the column %s holds %q", table[0][i], field)
			}
		}
	}
}

// What is at the sites is told in figures to programs that watch, whatever a site is called.
func TestMetrics(t *testing.T) {
	t.Parallel()
	s, findings := judged(t)
	if _, err := s.Client.CreateSite(t.Context(), api.NewSite{Name: `north\ "wing"`, Networks: []api.Network{{Subnet: "10.60.0.0/24"}}}); err != nil {
		t.Fatal(err)
	}
	status, text := get(t, http.DefaultClient, http.MethodGet, s.URL+"/metrics", map[string]string{"Authorization": "Bearer " + s.Token}, "")
	if status != http.StatusOK || !strings.HasSuffix(text, "# EOF\n") {
		t.Fatalf("%d %s", status, text)
	}
	for _, line := range []string{
		`airdrift_devices{kind="printer",site="Fernhollow Botanic Garden",standing="unmanaged"} 3.0`,
		fmt.Sprintf(`airdrift_findings{severity="high",site="Fernhollow Botanic Garden",state="open"} %d.0`, len(findings(client.FindingQuery{Severity: "high"}))),
		`airdrift_sweeps{site="Fernhollow Botanic Garden",state="done"} 1.0`, "airdrift_sweeps_running 0.0", "airdrift_spool_sweeps 0.0", "# TYPE airdrift_spool_bytes gauge",
	} {
		if !strings.Contains(text, line+"\n") {
			t.Errorf("%s is missing in\n%s", line, text)
		}
	}
	if status, _ := get(t, http.DefaultClient, http.MethodGet, s.URL+"/metrics", nil, ""); status != http.StatusUnauthorized {
		t.Errorf("without signing in the answer is %d", status)
	}
}
