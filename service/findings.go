package service

import (
	"bytes"
	"context"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/finding"
	"airdrift/core/wording"
	"airdrift/store"
)

func (s *Service) registerFindings(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-findings", Method: http.MethodGet, Path: "/api/v1/sites/{site}/findings", Summary: "What is wrong at a site, the worst first",
		Tags: []string{"findings"}, Extensions: needs(Look),
	}, s.listFindings)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-finding", Method: http.MethodGet, Path: "/api/v1/findings/{finding}", Summary: "One finding",
		Tags: []string{"findings"}, Extensions: needs(Look),
	}, s.getFinding)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "count-findings", Method: http.MethodGet, Path: "/api/v1/sites/{site}/findings/counts", Summary: "How many findings there are of each rule, in each state",
		Tags: []string{"findings"}, Extensions: needs(Look),
	}, s.countFindings)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-findings", Method: http.MethodGet, Path: "/api/v1/sites/{site}/findings.csv", Summary: "Findings as CSV",
		Tags: []string{"findings"}, Extensions: exports(Look),
	}, s.exportFindings)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "reopen-findings", Method: http.MethodPost, Path: "/api/v1/sites/{site}/findings/reopen", Summary: "Take the acceptance of findings back; all or none",
		DefaultStatus: http.StatusNoContent, Tags: []string{"findings"}, Extensions: needs(Sweep),
	}, s.reopenFindings)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-finding-rules", Method: http.MethodGet, Path: "/api/v1/sites/{site}/finding-rules", Summary: "The rules by which a site is judged, as it has set them",
		Tags: []string{"findings"}, Extensions: needs(Look),
	}, s.listFindingRules)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-finding-rule", Method: http.MethodPut, Path: "/api/v1/sites/{site}/finding-rules/{rule}", Summary: "Switch a rule on or off, and give it a severity and parameters; all is judged anew",
		DefaultStatus: http.StatusNoContent, Tags: []string{"findings"}, Extensions: needs(Administer),
	}, s.setFindingRule)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-ends-of-support", Method: http.MethodGet, Path: "/api/v1/sites/{site}/ends-of-support", Summary: "From when on models and systems are no longer supported, by the site's list",
		Tags: []string{"findings"}, Extensions: needs(Look),
	}, s.getEnds)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-ends-of-support", Method: http.MethodPut, Path: "/api/v1/sites/{site}/ends-of-support", Summary: "Replace the list of ends of support; all is judged anew",
		DefaultStatus: http.StatusNoContent, Tags: []string{"findings"}, Extensions: needs(Administer),
	}, s.setEnds)
}

// FindingsInput says which findings are meant.
type FindingsInput struct {
	SiteInput
	State    []string `query:"state,explode" enum:"open,accepted,closed" doc:"Only those in these states; open ones where left out"`
	Severity string   `query:"severity" enum:"info,low,medium,high,critical" doc:"Only those that are as bad or worse"`
	Worst    string   `query:"worst" enum:"info,low,medium,high,critical" doc:"Only those that are no worse"`
	Rule     []string `query:"rule,explode" maxLength:"63" doc:"Only those of these rules"`
	Device   uint64   `query:"device" doc:"Only those of this device"`
}

func (in FindingsInput) query() store.FindingQuery {
	q := store.FindingQuery{Site: in.Site, States: in.State, Rules: in.Rule, Device: in.Device}
	if len(in.State) == 0 {
		q.States = []string{string(finding.Open)}
	}
	q.Severity, _ = finding.ParseSeverity(in.Severity) // none where it is left out
	q.Worst, _ = finding.ParseSeverity(in.Worst)
	return q
}

func (s *Service) listFindings(ctx context.Context, in *struct {
	FindingsInput
	PageInput
}) (*listOutput[api.Finding], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query := in.query()
	query.Limit = in.Limit + 1
	var mark store.FindingMark
	switch behind, err := in.mark(&mark); {
	case err != nil:
		return nil, problem(ctx, err)
	case behind:
		query.After = &mark
	}
	found, own, err := s.findings(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return pageOf(found, in.Limit, func(f store.Found) api.Finding { return toFinding(f, own) }, func(f store.Found) any { return f.Mark() }), nil
}

// findings gives findings, and the rules of the site's own in whose words some of them are told.
func (s *Service) findings(ctx context.Context, query store.FindingQuery) ([]store.Found, []finding.OwnRule, error) {
	found, err := s.store.Findings(ctx, query)
	if err != nil {
		return nil, nil, err
	}
	own, err := s.books.OwnRules(ctx, query.Site, nil)
	return found, own, err
}

func (s *Service) getFinding(ctx context.Context, in *struct {
	Finding uint64 `path:"finding" doc:"Number of the finding"`
}) (*struct{ Body api.Finding }, error) {
	found, site, err := s.store.Finding(ctx, in.Finding)
	if err != nil {
		return nil, problem(ctx, err)
	}
	own, err := s.books.OwnRules(ctx, site, nil)
	return &struct{ Body api.Finding }{toFinding(found, own)}, problem(ctx, err)
}

func toFinding(f store.Found, own []finding.OwnRule) api.Finding {
	text, _ := finding.TextOf(wording.Default, f.Rule, own)
	title, says := f.Said(wording.Default, own)
	out := api.Finding{
		ID: f.ID, Rule: f.Rule, Severity: f.Severity.String(), State: string(f.State), Title: title, Says: says, Because: text.Because, Do: text.Do, About: strings.TrimSpace(strings.ReplaceAll(f.About, "\t", " ")),
		Evidence: texts(f.Evidence), Devices: []api.FindingDevice{}, Since: f.Since, Sweep: f.Sweep, Times: f.Times, ClosedBy: string(f.ClosedBy), Closing: f.Closing,
	}
	if !f.ClosedAt.IsZero() {
		out.ClosedAt = &f.ClosedAt
	}
	for _, d := range f.On {
		out.Devices = append(out.Devices, api.FindingDevice(d))
	}
	if c := f.Confirmed; c != nil {
		out.Confirmed = &api.FindingConfirmed{By: c.By, At: c.At}
	}
	if a := f.Accepted; a != nil {
		out.Accepted = &api.Acceptance{By: a.By, At: a.At, Reason: a.Reason, Until: a.Until}
	}
	return out
}

func (s *Service) countFindings(ctx context.Context, in *FindingsInput) (*listOutput[api.FindingCount], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query := in.query()
	if len(in.State) == 0 {
		query.States = nil
	}
	counts, err := s.store.CountFindings(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	own, err := s.books.OwnRules(ctx, in.Site, nil)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.FindingCount, len(counts))
	for i, c := range counts {
		title, _ := finding.Remark{Rule: c.Rule}.Said(wording.Default, own)
		list[i] = api.FindingCount{Rule: c.Rule, Title: title, Severity: c.Severity.String(), State: string(c.State), Findings: c.Findings}
	}
	return listOf(list), nil
}

// everyFinding is more findings than a site has.
const everyFinding = 10_000_000

func (s *Service) exportFindings(ctx context.Context, in *FindingsInput) (*huma.StreamResponse, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query := in.query()
	query.Limit = everyFinding
	found, own, err := s.findings(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	var rows [][]string
	for _, one := range found {
		f := toFinding(one, own)
		var numbers, names, addrs []string
		for _, d := range f.Devices {
			numbers, names, addrs = append(numbers, strconv.FormatUint(d.ID, 10)), append(names, d.Name), append(addrs, d.Addr)
		}
		rows = append(rows, []string{
			strconv.FormatUint(f.ID, 10), f.Severity, f.State, f.Rule, f.Title, f.Says, f.Do, strings.Join(numbers, " "), strings.Join(addrs, " "), strings.Join(names, "; "),
			f.Since.UTC().Format(time.RFC3339), strings.Join(f.Evidence, "; "),
		})
	}
	return csvResponse("findings.csv", []string{"No", "Severity", "State", "Rule", "Finding", "What is so", "What to do", "Devices", "Addresses", "Names", "Since", "Evidence"}, rows), nil
}

// maxAccepted is for how many years at most a finding is accepted.
const maxAccepted = 10

func (s *Service) reopenFindings(ctx context.Context, in *struct {
	SiteInput
	Body api.FindingNumbers
}) (*struct{}, error) {
	remark(ctx, "%d", len(in.Body.Findings))
	return nil, problem(ctx, s.store.ReopenFindings(ctx, in.Site, unique(in.Body.Findings)))
}

// unique gives numbers once each, in ascending order.
func unique(numbers []uint64) []uint64 {
	return slices.Compact(slices.Sorted(slices.Values(numbers)))
}

func (s *Service) listFindingRules(ctx context.Context, in *SiteInput) (*listOutput[api.FindingRule], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	settings, err := s.store.FindingSettings(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	own, err := s.books.OwnRules(ctx, in.Site, nil)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := []api.FindingRule{}
	for _, rule := range finding.RulesWith(own) {
		at := slices.IndexFunc(settings, func(f finding.Setting) bool { return f.Rule == rule.ID })
		setting := finding.Setting{}
		if at >= 0 {
			setting = settings[at]
		}
		list = append(list, toFindingRule(rule, setting, own))
	}
	return listOf(list), nil
}

func toFindingRule(rule finding.Rule, setting finding.Setting, own []finding.OwnRule) api.FindingRule {
	text, _ := finding.TextOf(wording.Default, rule.ID, own)
	out := api.FindingRule{
		Rule: rule.ID, Title: text.Title, Because: text.Because, Do: text.Do, Source: rule.Source, On: !setting.Off, Severity: rule.Severity.String(), Usual: rule.Severity.String(), Params: []api.FindingParam{},
		Own: slices.ContainsFunc(own, func(r finding.OwnRule) bool { return r.ID == rule.ID }),
	}
	if setting.Severity != 0 {
		out.Severity = setting.Severity.String()
	}
	for _, p := range rule.Params {
		value, given := setting.Params[p.Name]
		if !given {
			value = p.Default
		}
		out.Params = append(out.Params, api.FindingParam{Name: p.Name, Kind: string(p.Kind), Value: value, Usual: p.Default, Text: p.Text})
	}
	return out
}

func (s *Service) setFindingRule(ctx context.Context, in *struct {
	SiteInput
	Rule string `path:"rule" maxLength:"63" doc:"Name of the rule"`
	Body api.FindingSetting
}) (*struct{}, error) {
	remark(ctx, "%s", in.Rule)
	own, err := s.books.OwnRules(ctx, in.Site, nil)
	if err != nil {
		return nil, problem(ctx, err)
	}
	setting := finding.Setting{Rule: in.Rule, Off: !in.Body.On, Params: in.Body.Params}
	if in.Body.Severity != "" {
		if setting.Severity, err = finding.ParseSeverity(in.Body.Severity); err != nil {
			return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "severity: %v", err))
		}
	}
	if err := setting.Check(finding.RulesWith(own)); err != nil {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%v", err))
	}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	return nil, problem(ctx, s.books.Resettings(ctx, in.Site, func() error { return s.store.SetFindingSetting(ctx, in.Site, setting) }))
}

func (s *Service) getEnds(ctx context.Context, in *SiteInput) (*struct{ Body api.ListText }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	list, err := s.store.FindingList(ctx, in.Site, store.EndsOfSupport)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := api.ListText{Text: list.Text, ChangedBy: list.ChangedBy}
	if !list.ChangedAt.IsZero() {
		out.ChangedAt = &list.ChangedAt
	}
	return &struct{ Body api.ListText }{out}, nil
}

func (s *Service) setEnds(ctx context.Context, in *struct {
	SiteInput
	Body api.ListText
}) (*struct{}, error) {
	if strings.TrimSpace(in.Body.Text) != "" {
		ends, err := finding.ReadEnds("list", bytes.NewReader([]byte(in.Body.Text)))
		if err != nil {
			return nil, problem(ctx, err)
		}
		remark(ctx, "%d lines", len(ends))
	}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	list := store.FindingList{SiteID: in.Site, Name: store.EndsOfSupport, Text: in.Body.Text, ChangedBy: personOf(ctx).name, ChangedAt: time.Now().UTC()}
	return nil, problem(ctx, s.books.Resettings(ctx, in.Site, func() error { return s.store.SaveFindingList(ctx, list) }))
}

// judgeEvery is how often it is looked whether findings change as time passes.
const judgeEvery = 15 * time.Minute

// keepJudging judges what is due of each site, at the latest when as much time has passed.
func (s *Service) keepJudging(ctx context.Context) {
	ticker := time.NewTicker(judgeEvery)
	defer ticker.Stop()
	for {
		if sites, err := s.store.Sites(ctx); err == nil { // else the health says that the database is away
			for _, site := range sites {
				if err := s.books.Judge(ctx, site.ID); err != nil && ctx.Err() == nil {
					slog.WarnContext(ctx, "what is due of a site could not be judged", "site", site.Name, "error", err)
				}
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-s.books.Unjudged():
		case <-ticker.C:
		}
	}
}
