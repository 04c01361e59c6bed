package service_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/report"
	"airdrift/service/servicetest"
	"airdrift/store"
	"airdrift/store/storetest"
)

// linesOf writes lines of drift.
func linesOf(lines []api.DriftLine) string {
	var all []string
	for _, l := range lines {
		state := l.State
		if l.Confirmed {
			state = "confirmed"
		}
		all = append(all, fmt.Sprintf("%s %s: %s > %s (%s)", l.Name, l.Attribute, l.Expected, l.Observed, state))
	}
	slices.Sort(all)
	return strings.Join(all, "|")
}

// Register and observation differ in three attributes; one side is taken for each, seen before and undone again.
func TestDrift(t *testing.T) {
	t.Parallel()
	s, findings := judged(t)
	ctx, site := t.Context(), s.Site.ID
	file := "name,mac,address,vendor,model,kind\noffice printer,c4:ca:f5:03:30:14,10.40.1.77,Marrowby Print,Inkwell 220,scanner\nherbarium printer,c4:ca:f5:06:59:25,10.40.1.21,Marrowby Print,Inkwell 300,printer\n"
	if _, err := s.Client.ImportRegister(ctx, site, strings.NewReader(file), client.Import{}); err != nil {
		t.Fatal(err)
	}
	drift := func() []api.DriftLine {
		t.Helper()
		lines, err := s.Client.Drift(ctx, site, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		return lines
	}
	before := "herbarium printer model: Inkwell 300 > Inkwell 220 (open)|office printer address: 10.40.1.77 > 10.40.1.20 (open)|office printer kind: scanner > printer (open)"
	if got := linesOf(drift()); got != before {
		t.Fatal(got)
	}
	if one, err := s.Client.Drift(ctx, site, []string{"kind"}, 0); err != nil || len(one) != 1 {
		t.Errorf("%+v, %v", one, err)
	}
	var office uint64
	for _, l := range drift() {
		if l.Attribute == "kind" {
			office = l.Device
		}
	}
	take := api.NewAct{Kind: "take", Lines: []api.ActLine{{Device: office, Attribute: "address"}}, Preview: true}
	shown, err := s.Client.Act(ctx, site, take)
	if err != nil || shown.Count != 1 || shown.ID != 0 || shown.Steps[0].Was != "10.40.1.77" || shown.Steps[0].Becomes != "10.40.1.20" || shown.Tag == "" {
		t.Fatalf("%+v, %v", shown, err)
	}
	if got := linesOf(drift()); got != before {
		t.Errorf("a preview has changed something: %s", got)
	}
	take.Preview, take.Tag = false, strings.Repeat("0", 32)
	_, err = s.Client.Act(ctx, site, take)
	wantProblem(t, "something else than was seen", err, 412, "somebody has changed this meanwhile")
	take.Tag = shown.Tag
	taken, err := s.Client.Act(ctx, site, take)
	if err != nil || taken.ID == 0 {
		t.Fatalf("%+v, %v", taken, err)
	}
	if got := linesOf(drift()); strings.Contains(got, "address") || !strings.Contains(got, "kind") {
		t.Errorf("after taking the address: %s", got)
	}
	kept, err := s.Client.Act(ctx, site, api.NewAct{Kind: "keep-register", Devices: []uint64{office}})
	if err != nil || kept.Count != 1 {
		t.Fatalf("%+v, %v", kept, err)
	}
	if got := linesOf(drift()); !strings.Contains(got, "office printer kind: scanner > printer (confirmed)") {
		t.Error(got)
	}
	if open := findings(client.FindingQuery{Rules: []string{"drift"}}); len(open) != 2 || open[0].Confirmed == nil && open[1].Confirmed == nil {
		t.Errorf("%+v", open)
	}
	_, err = s.Client.Act(ctx, site, api.NewAct{Kind: "keep-register", Devices: []uint64{office}})
	wantProblem(t, "what is confirmed already", err, 422, "nothing to do")
	for _, act := range []uint64{kept.ID, taken.ID} {
		if undone, err := s.Client.UndoAct(ctx, act); err != nil || undone.Back != 1 || undone.Left != 0 {
			t.Errorf("%+v, %v", undone, err)
		}
	}
	if got := linesOf(drift()); got != before {
		t.Errorf("after undoing both: %s", got)
	}
	_, err = s.Client.UndoAct(ctx, taken.ID)
	wantProblem(t, "undone twice", err, 409, "undone before")
}

// What is done to many devices at once is undone where nobody has changed it since, and refused where it cannot be done.
func TestActs(t *testing.T) {
	t.Parallel()
	s, findings := judged(t)
	ctx, site := t.Context(), s.Site.ID
	devices := func(q client.DeviceQuery) []api.DeviceLine {
		t.Helper()
		page, err := s.Client.Devices(ctx, site, q)
		if err != nil {
			t.Fatal(err)
		}
		return page.Items
	}
	all := devices(client.DeviceQuery{})
	aside, err := s.Client.Act(ctx, site, api.NewAct{Kind: "set-aside", Filter: "kind=label-printer", Text: "the shop's own"})
	if err != nil || aside.Count != 2 {
		t.Fatalf("%+v, %v", aside, err)
	}
	if got := devices(client.DeviceQuery{Filter: url.Values{"standing": {"set aside"}}}); len(got) != 2 {
		t.Errorf("%d are set aside", len(got))
	}
	if err := s.Client.SetAside(ctx, aside.Steps[0].Device, "another reason"); err != nil {
		t.Fatal(err)
	}
	if undone, err := s.Client.UndoAct(ctx, aside.ID); err != nil || undone.Back != 1 || undone.Left != 1 {
		t.Errorf("%+v, %v", undone, err)
	}
	registered, err := s.Client.Act(ctx, site, api.NewAct{Kind: "register", Filter: "standing=unmanaged"})
	if err != nil || registered.Count != len(all)-1 || len(devices(client.DeviceQuery{Filter: url.Values{"standing": {"managed"}}})) != registered.Count {
		t.Fatalf("%+v, %v", registered, err)
	}
	if again, err := s.Client.Act(ctx, site, api.NewAct{Kind: "register", Filter: "", Preview: true}); err != nil || again.Count != 1 || again.LeftOut != registered.Count || !strings.Contains(again.Left[0].Becomes, "already") {
		t.Errorf("%+v, %v", again, err)
	}
	if undone, err := s.Client.UndoAct(ctx, registered.ID); err != nil || undone.Back != registered.Count {
		t.Errorf("%+v, %v", undone, err)
	}
	if got := devices(client.DeviceQuery{Filter: url.Values{"standing": {"managed"}}}); len(got) != 0 {
		t.Errorf("%d are managed after undoing", len(got))
	}
	grouped, err := s.Client.Act(ctx, site, api.NewAct{Kind: "group", Devices: []uint64{all[0].ID, all[1].ID}, Text: "hall"})
	if err != nil || grouped.Count != 2 || len(devices(client.DeviceQuery{Filter: url.Values{"group": {"hall"}}})) != 2 {
		t.Errorf("%+v, %v", grouped, err)
	}
	until := time.Now().AddDate(0, 1, 0)
	// That of the device which is still set aside is closed.
	accepted, err := s.Client.Act(ctx, site, api.NewAct{Kind: "accept", Filter: "rule=default-community", Text: "until spring", Until: &until})
	if err != nil || accepted.Count != 4 || len(findings(client.FindingQuery{States: []string{"accepted"}})) != 4 {
		t.Errorf("%+v, %v", accepted, err)
	}
	if undone, err := s.Client.UndoAct(ctx, accepted.ID); err != nil || undone.Back != 4 || len(findings(client.FindingQuery{States: []string{"accepted"}})) != 0 {
		t.Errorf("%+v, %v", undone, err)
	}
	if acts, err := s.Client.Acts(ctx, site, 0); err != nil || len(acts) != 4 || acts[0].ID != accepted.ID || acts[0].UndoneBy == "" || acts[1].UndoneBy != "" {
		t.Errorf("%+v, %v", acts, err)
	}
	past := time.Now().AddDate(0, 0, -1)
	for _, tt := range []struct {
		what string
		act  api.NewAct
		says string
	}{
		{"no reason", api.NewAct{Kind: "set-aside", Filter: "kind=printer"}, "text: say why"},
		{"a filter by what there is not", api.NewAct{Kind: "note", Text: "x", Filter: "kin=printer"}, `devices have no "kin"`},
		{"a filter by a value that there is not", api.NewAct{Kind: "note", Text: "x", Filter: "standing=lost"}, `there is no "lost"`},
		{"findings by what there is not", api.NewAct{Kind: "confirm", Filter: "kind=printer"}, `findings have no "kind"`},
		{"both filter and numbers", api.NewAct{Kind: "note", Text: "x", Filter: "kind=printer", Devices: []uint64{1}}, "either a filter or numbers"},
		{"a network that there is not", api.NewAct{Kind: "note", Text: "x", Filter: "network=attic"}, `none called "attic"`},
		{"nobody", api.NewAct{Kind: "note", Text: "x", Filter: "kind=ups"}, "nothing to do"},
		{"a day that has passed", api.NewAct{Kind: "accept", Filter: "rule=unmanaged", Text: "x", Until: &past}, "until: "},
		{"no day", api.NewAct{Kind: "accept", Filter: "rule=unmanaged", Text: "x"}, "until: "},
	} {
		_, err := s.Client.Act(ctx, site, tt.act)
		wantProblem(t, tt.what, err, 422, tt.says)
	}
	_, err = s.Client.Act(ctx, site, api.NewAct{Kind: "note", Text: "x", Devices: []uint64{999_999}})
	wantProblem(t, "a device that is not there", err, 404, "not found")
}

// Filters are saved, used by name, and refused where they say what there is not.
func TestViews(t *testing.T) {
	t.Parallel()
	s, _ := judged(t)
	ctx, site := t.Context(), s.Site.ID
	for kind, view := range map[string]api.SavedView{
		"view": {Filter: "kind=printer,label-printer&network=offices&at=3", Columns: []string{"name", "firmware"}}, "group": {Filter: "kind=label-printer"}, "extract": {Filter: "kind=printer", Audience: "the printer people"},
	} {
		if err := s.Client.SaveView(ctx, site, kind, "paper", view); err != nil {
			t.Fatal(err)
		}
	}
	views, err := s.Client.Views(ctx, site)
	var got []string
	for _, v := range views {
		got = append(got, fmt.Sprintf("%s %s %d %s%s", v.Kind, v.Name, v.Devices, v.Audience, v.Fault))
	}
	if err != nil || strings.Join(got, "|") != "view paper 5 |extract paper 3 the printer people|group paper 2 " {
		t.Errorf("%q, %v", got, err)
	}
	count := func(q client.DeviceQuery) int {
		t.Helper()
		page, err := s.Client.Devices(ctx, site, q)
		if err != nil {
			t.Fatal(err)
		}
		return len(page.Items)
	}
	if count(client.DeviceQuery{Filter: url.Values{"view": {"paper"}}}) != 5 || count(client.DeviceQuery{Filter: url.Values{"view": {"paper"}, "kind": {"printer"}}}) != 3 || count(client.DeviceQuery{Filter: url.Values{"group": {"paper"}}}) != 2 || count(client.DeviceQuery{Filter: url.Values{"network": {"10.40.2.0/24"}}}) != 0 ||
		count(client.DeviceQuery{Filter: url.Values{"severity": {"high"}}}) != 5 || count(client.DeviceQuery{Filter: url.Values{"severity": {"critical"}}}) != 0 {
		t.Error("the list does not go by what is saved")
	}
	for _, tt := range []struct {
		what, kind string
		view       api.SavedView
		says       string
	}{
		{"a column that is gone", "view", api.SavedView{Filter: "kind=printer", Columns: []string{"name", "colour"}}, `columns[1]: there is no column "colour"`},
		{"a filter that is none", "view", api.SavedView{Filter: "colour=red"}, `devices have no "colour"`},
		{"an extract for nobody", "extract", api.SavedView{Filter: "kind=ups"}, "for nobody"},
		{"a group by a group", "group", api.SavedView{Filter: "group=paper"}, "not filled by group"},
		{"a view by itself", "view", api.SavedView{Filter: "view=paper"}, "cannot go by another view"},
	} {
		wantProblem(t, tt.what, s.Client.SaveView(ctx, site, tt.kind, "wrong", tt.view), 422, tt.says)
	}
	if err := s.Client.DeleteView(ctx, site, "view", "paper"); err != nil {
		t.Fatal(err)
	}
	wantProblem(t, "deleted twice", s.Client.DeleteView(ctx, site, "view", "paper"), 404, "not found")
	_, err = s.Client.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"view": {"paper"}}})
	wantProblem(t, "a view that is gone", err, 404, "paper")
}

// The report and extracts come in each of their forms, and say what is refused.
func TestReports(t *testing.T) {
	t.Parallel()
	s, _ := judged(t)
	ctx, site := t.Context(), s.Site.ID
	made := func(q client.ReportQuery, extract bool) ([]byte, error) {
		var out bytes.Buffer
		write := s.Client.Report
		if extract {
			write = s.Client.Extract
		}
		err := write(ctx, site, q, &out)
		return out.Bytes(), err
	}
	for form, begins := range map[string]string{"html": "<!DOCTYPE html>", "pdf": "%PDF-", "json": "{"} {
		if content, err := made(client.ReportQuery{Form: form}, false); err != nil || !bytes.HasPrefix(content, []byte(begins)) {
			t.Errorf("%s: %.40q, %v", form, content, err)
		}
	}
	raw, _ := made(client.ReportQuery{Form: "json"}, false)
	var r report.Report
	if err := json.Unmarshal(raw, &r); err != nil || len(r.Devices) < 5 || len(r.Findings) == 0 || len(r.Sweeps) != 1 || len(r.Sweeps[0].Signature) != 64 || len(r.Networks) < 5 || r.Credentials[0] != "garden read" {
		t.Errorf("%d devices, %d findings, %+v, %+v, %v, %v", len(r.Devices), len(r.Findings), r.Sweeps, r.Networks, r.Credentials, err)
	}
	again, _ := made(client.ReportQuery{Form: "json"}, false)
	var second report.Report
	if err := json.Unmarshal(again, &second); err != nil || second.Sweeps[0].Signature != r.Sweeps[0].Signature {
		t.Error("the same sweep has two signatures")
	}
	var out bytes.Buffer
	if err := s.Client.Extract(ctx, site, client.ReportQuery{Form: "xlsx", Filter: "kind=label-printer"}, &out); err != nil {
		t.Fatal(err)
	}
	book, err := excelize.OpenReader(&out)
	if err != nil {
		t.Fatal(err)
	}
	if rows, err := book.GetRows("Devices"); err != nil || len(rows) != 3 {
		t.Errorf("%q, %v", rows, err)
	}
	// What a finding shares with devices of others is told without them.
	sweepOf(t, s, "10.40.1.66") // a till and a display have the same address
	shared, err := s.Client.Findings(ctx, site, client.FindingQuery{Rules: []string{"shared-address"}}, 0)
	if err != nil || len(shared) != 1 || len(shared[0].Devices) != 2 {
		t.Fatalf("%+v, %v", shared, err)
	}
	out.Reset()
	if err := s.Client.Extract(ctx, site, client.ReportQuery{Form: "json", Filter: "vendor=Vesperlight Displays"}, &out); err != nil {
		t.Fatal(err)
	}
	var extract report.Report
	if err := json.Unmarshal(out.Bytes(), &extract); err != nil || len(extract.Devices) != 1 {
		t.Fatalf("%d devices, %v", len(extract.Devices), err)
	}
	told := false
	for _, f := range extract.Findings {
		told = told || f.ID == shared[0].ID && len(f.Devices) == 1 && f.Devices[0].ID == extract.Devices[0].ID
	}
	if !told {
		t.Errorf("%+v", extract.Findings)
	}
	out.Reset()
	if err := s.Client.Extract(ctx, site, client.ReportQuery{Form: "csv", Filter: "kind=label-printer", Sheet: "findings"}, &out); err != nil {
		t.Fatal(err)
	}
	if lines, err := csv.NewReader(&out).ReadAll(); err != nil || len(lines) < 3 || lines[0][1] != "Severity" {
		t.Errorf("%q, %v", lines, err)
	}
	for _, tt := range []struct {
		what    string
		q       client.ReportQuery
		extract bool
		says    string
	}{
		{"a day before the first sweep", client.ReportQuery{At: "2020-01-01"}, false, "nothing is known of 2020-01-01: the first sweep began on"},
		{"no day", client.ReportQuery{At: "yesterday"}, false, `at: "yesterday" is no day`},
		{"since a day to come", client.ReportQuery{Since: "2999-01-01"}, false, "since: "},
		{"an extract for nobody", client.ReportQuery{Filter: "kind=ups"}, true, "for nobody"},
		{"a filter that is none", client.ReportQuery{Filter: "colour=red"}, true, `devices have no "colour"`},
	} {
		_, err := made(tt.q, tt.extract)
		wantProblem(t, tt.what, err, 422, tt.says)
	}
	_, err = made(client.ReportQuery{Name: "lost"}, true)
	wantProblem(t, "an extract that is not saved", err, 404, "lost")
}

// Each address is drawn by what is there, and devices by their standing and network.
func TestPictures(t *testing.T) {
	t.Parallel()
	s, _ := judged(t)
	ctx, site := t.Context(), s.Site.ID
	if _, err := s.Client.ImportRegister(ctx, site, strings.NewReader("name,address\nspare printer,10.40.1.29\n"), client.Import{}); err != nil {
		t.Fatal(err)
	}
	p, err := s.Client.Addresses(ctx, site, "10.40.1.0/24")
	if err != nil || len(p.Cells) != 256 || p.Block != 1 || p.First != "10.40.1.0" || p.Network != "offices" {
		t.Fatalf("%d cells of %d from %s of %s, %v", len(p.Cells), p.Block, p.First, p.Network, err)
	}
	for last, want := range map[int]string{20: "seen", 24: "seen", 29: "register", 28: "free", 160: "dynamic"} {
		if got := p.Cells[last]; got.State != want || (got.Device != 0) != (want == "seen" || want == "register") {
			t.Errorf("10.40.1.%d is %+v, want %s", last, got, want)
		}
	}
	if six, err := s.Client.Addresses(ctx, site, "fd00:40:1::/64"); err != nil || len(six.Cells) != 0 {
		t.Errorf("%d cells of an IPv6 network, %v", len(six.Cells), err)
	}
	_, err = s.Client.Addresses(ctx, site, "10.99.0.0/24")
	wantProblem(t, "a network of elsewhere", err, 404, "not found")
	_, err = s.Client.Addresses(ctx, site, "nowhere")
	wantProblem(t, "no network", err, 422, "subnet: ")
	pictures, err := s.Client.Pictures(ctx, site)
	if err != nil || len(pictures.Networks) != 6 || len(pictures.Certificates) != 5 || len(pictures.Visits) != 1 || pictures.Visits[0].Seen != pictures.Visits[0].Unmanaged || pictures.Visits[0].Seen < 5 {
		t.Fatalf("%+v, %v", pictures, err)
	}
	for _, n := range pictures.Networks {
		if n.Subnet == "10.40.1.0/24" && (n.Unmanaged < 5 || n.Missing != 1) || n.Network == "voice" && n.Unmanaged+n.Missing > 0 {
			t.Errorf("%+v", n)
		}
	}
	times, err := s.Client.ResponseTimes(ctx, site, client.TimesQuery{}, 0)
	if err != nil || len(pictures.Times) == 0 {
		t.Fatalf("%+v, %v", pictures.Times, err)
	}
	for i, shown := range pictures.Times {
		if shown.Devices != times.Protocols[i].Devices && shown.Protocol == times.Protocols[i].Protocol || shown.Least > shown.Low || shown.Low > shown.Middle || shown.Middle > shown.High || shown.High > shown.Most || shown.Most <= 0 {
			t.Errorf("response times in %s lie at %+v; %+v", times.Protocols[i].Protocol, shown, times.Protocols[i])
		}
	}
	medians := make([]float64, len(times.Devices))
	for i, d := range times.Devices {
		medians[i] = d.Median
	}
	slices.Sort(medians)
	if first := pictures.Times[0]; first.Protocol != times.Protocol || first.Devices != len(medians) || first.Middle != medians[(len(medians)-1)/2] {
		t.Errorf("%+v is shown, of medians %v in %s", first, medians, times.Protocol)
	}
}

// A view of another version of the program that names a column or a filter which is gone says so, by its place, wherever it is used; nothing is shown in its
// stead, and the other views are there.
func TestViewsOfAnotherVersion(t *testing.T) {
	t.Parallel()
	dsn := storetest.DSN(t)
	s := servicetest.Demo(t, servicetest.Config{DSN: dsn})
	ctx, site := t.Context(), s.Site.ID
	st, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	for _, v := range []store.View{
		{Kind: store.KindView, Name: "colours", Filter: "kind=printer", Columns: []string{"name", "colour"}, ChangedAt: time.Now()},
		{Kind: store.KindView, Name: "red", Filter: "colour=red", ChangedAt: time.Now()},
		{Kind: store.KindExtract, Name: "red", Filter: "colour=red", ChangedAt: time.Now()},
		{Kind: store.KindGroup, Name: "red", Filter: "colour=red", ChangedAt: time.Now()},
		{Kind: store.KindView, Name: "whole", Filter: "kind=printer", ChangedAt: time.Now()},
	} {
		if err := st.SaveView(ctx, site, v); err != nil {
			t.Fatal(err)
		}
	}
	views, err := s.Client.Views(ctx, site)
	if err != nil || len(views) != 5 {
		t.Fatalf("%+v, %v", views, err)
	}
	for _, v := range views {
		want := map[string]string{"colours": `view "colours": columns[1]: there is no column "colour"`, "red": fmt.Sprintf(`%s "red": filter: devices have no "colour"`, v.Kind), "whole": ""}[v.Name]
		if !strings.HasPrefix(v.Fault, want) || (v.Fault == "") != (want == "") {
			t.Errorf("%s %q: %q, want %q", v.Kind, v.Name, v.Fault, want)
		}
	}
	for name, says := range map[string]string{"colours": "columns[1]", "red": `no "colour"`} {
		_, err := s.Client.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"view": {name}}})
		wantProblem(t, name, err, 422, says)
	}
	_, err = s.Client.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"group": {"red"}}})
	wantProblem(t, "a group of it", err, 422, `no "colour"`)
	var out bytes.Buffer
	wantProblem(t, "an extract of it", s.Client.Extract(ctx, site, client.ReportQuery{Name: "red"}, &out), 422, `no "colour"`)
}
