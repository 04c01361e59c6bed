package service

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/finding"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/store"
)

func (s *Service) registerRules(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-rules", Method: http.MethodGet, Path: "/api/v1/sites/{site}/rules", Summary: "Files of rules that a site has added to those of the program",
		Tags: []string{"rules"}, Extensions: needs(Look),
	}, s.listRules)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "try-rules", Method: http.MethodPost, Path: "/api/v1/sites/{site}/rules/trial", Summary: "Check rules, and try them on the stored evidence: what would change",
		Tags: []string{"rules"}, Extensions: needs(Sweep),
	}, s.tryRules)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "save-rules", Method: http.MethodPut, Path: "/api/v1/sites/{site}/rules", Summary: "Check a file of rules and save it, disabled; one of the same name is replaced",
		Tags: []string{"rules"}, Extensions: needs(Administer),
	}, s.saveRules)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "switch-rules", Method: http.MethodPut, Path: "/api/v1/rules/{file}/active", Summary: "Switch a file of rules on or off; all evidence is re-evaluated under the rules that are on",
		Tags: []string{"rules"}, Extensions: needs(Administer),
	}, s.switchRules)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "remove-rules", Method: http.MethodDelete, Path: "/api/v1/rules/{file}", Summary: "Delete a file of rules; where it was on, all evidence is re-evaluated without it",
		DefaultStatus: http.StatusNoContent, Tags: []string{"rules"}, Extensions: needs(Administer),
	}, s.removeRules)
}

// RuleFileInput names a file of rules in the path.
type RuleFileInput struct {
	File uint64 `path:"file" doc:"Number of the file of rules"`
}

// ruleOutput is a file of rules with its tag.
type ruleOutput struct {
	ETag string `header:"ETag"`
	Body api.RuleFile
}

func toRuleFile(f store.RuleFile) api.RuleFile {
	rules, _ := readRules(f.Purpose, f.Name, f.Text) // checked before it was kept
	return api.RuleFile{ID: f.ID, Purpose: f.Purpose, Name: f.Name, Text: f.Text, Rules: rules, Active: f.Active, Tag: ruleTag(f), ChangedBy: f.ChangedBy, ChangedAt: f.ChangedAt}
}

// readRules checks a file of rules for a purpose, and tells how many there are.
func readRules(purpose, name, text string) (rules int, err error) {
	if purpose == store.RulesJudge {
		own, err := finding.ReadRules(name, []byte(text))
		return len(own), err
	}
	added, err := identify.ReadRules(name, []byte(text))
	return len(added), err
}

func (s *Service) listRules(ctx context.Context, in *SiteInput) (*listOutput[api.RuleFile], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	files, err := s.store.RuleFiles(ctx, in.Site, "")
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.RuleFile, len(files))
	for i, f := range files {
		list[i] = toRuleFile(f)
	}
	return listOf(list), nil
}

func (s *Service) tryRules(ctx context.Context, in *struct {
	SiteInput
	Body api.NewRuleFile
}) (*struct{ Body api.RuleTrial }, error) {
	file := store.RuleFile{Purpose: in.Body.Purpose, Name: in.Body.Name, Text: in.Body.Text, Active: true}
	try := s.sweeper.tryRules
	if file.Purpose == store.RulesJudge {
		try = s.tryJudging
	}
	trial, err := try(ctx, in.Site, file)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.RuleTrial }{trial}, nil
}

// maxChanges is how many changes a trial names.
const maxChanges = 200

// tryRules reads the evidence that is stored of each device under other rules.
func (s *sweeper) tryRules(ctx context.Context, siteID uint64, file store.RuleFile) (api.RuleTrial, error) {
	trial := api.RuleTrial{Changes: []api.RuleChange{}}
	added, err := identify.ReadRules(file.Name, []byte(file.Text))
	if err != nil {
		return trial, err
	}
	trial.Rules = len(added)
	site, err := s.store.Site(ctx, siteID)
	if err != nil {
		return trial, err
	}
	rules, err := s.books.RulesOf(ctx, siteID, &file)
	if err != nil {
		return trial, err
	}
	engine := identify.New(rules, site.Overlay())
	err = s.store.EachDevice(ctx, siteID, func(d ledger.Device) error {
		if changes := changesUnder(engine, d); len(changes) > 0 {
			trial.Devices++
			trial.Changes = append(trial.Changes, changes[:min(len(changes), maxChanges-len(trial.Changes))]...)
		}
		return nil
	})
	return trial, err
}

// tryJudging judges each device by the rules of a file alone.
func (s *Service) tryJudging(ctx context.Context, siteID uint64, file store.RuleFile) (api.RuleTrial, error) {
	trial := api.RuleTrial{Changes: []api.RuleChange{}}
	own, err := finding.ReadRules(file.Name, []byte(file.Text))
	if err != nil {
		return trial, err
	}
	trial.Rules = len(own)
	site, err := s.books.Site(ctx, siteID, &file)
	if err != nil {
		return trial, err
	}
	judge := finding.NewJudge(site)
	err = s.store.EachDevice(ctx, siteID, func(d ledger.Device) error {
		met := false
		for _, r := range judge.Of(finding.Case{Device: d, Items: d.Items}).Remarks {
			if !slices.ContainsFunc(own, func(o finding.OwnRule) bool { return o.ID == r.Rule }) {
				continue
			}
			met = true
			if len(trial.Findings) < maxChanges {
				trial.Findings = append(trial.Findings, api.RuleFinding{Device: d.ID, Name: inventory.Called(d), Rule: r.Rule, Severity: r.Severity.String()})
			}
		}
		if met {
			trial.Devices++
		}
		return nil
	})
	return trial, err
}

func changesUnder(engine *identify.Engine, d ledger.Device) []api.RuleChange {
	if d.FirstSeen.IsZero() {
		return nil
	}
	var changes []api.RuleChange
	after := engine.Identify(d.Items)
	for _, attribute := range identify.Attributes {
		if old, fresh := d.Identity.Of(attribute), after.Of(attribute); old != fresh {
			changes = append(changes, api.RuleChange{Device: d.ID, Name: inventory.Called(d), Attribute: string(attribute), Before: old, After: fresh})
		}
	}
	return changes
}

func (s *Service) saveRules(ctx context.Context, in *struct {
	SiteInput
	MatchInput
	Body api.NewRuleFile
}) (*ruleOutput, error) {
	remark(ctx, "%s", in.Body.Name)
	if _, err := readRules(in.Body.Purpose, in.Body.Name, in.Body.Text); err != nil {
		return nil, problem(ctx, err)
	}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	files, err := s.store.RuleFiles(ctx, in.Site, "")
	if err != nil {
		return nil, problem(ctx, err)
	}
	if in.Body.Purpose == store.RulesJudge {
		if err := s.namesNoOther(ctx, in.Site, in.Body); err != nil {
			return nil, problem(ctx, err)
		}
	}
	file := store.RuleFile{SiteID: in.Site, Purpose: in.Body.Purpose, Name: in.Body.Name}
	if at := slices.IndexFunc(files, func(f store.RuleFile) bool { return f.Name == in.Body.Name }); at >= 0 {
		if err := in.check(ruleTag(files[at])); err != nil {
			return nil, problem(ctx, err)
		}
		if file = files[at]; file.Active {
			return nil, problem(ctx, refuse(http.StatusConflict, "the file of rules %q is on: switch it off before it is replaced, or give this one another name", file.Name))
		}
	}
	if file.Purpose != in.Body.Purpose {
		return nil, problem(ctx, refuse(http.StatusConflict, "the file of rules %q is there for another purpose: give this one another name", file.Name))
	}
	file.Text, file.ChangedBy, file.ChangedAt = in.Body.Text, personOf(ctx).name, time.Now().UTC()
	if err := s.store.SaveRuleFile(ctx, &file); err != nil {
		return nil, problem(ctx, err)
	}
	return &ruleOutput{ruleTag(file), toRuleFile(file)}, nil
}

func (s *Service) switchRules(ctx context.Context, in *struct {
	RuleFileInput
	MatchInput
	Body api.Activity
}) (*ruleOutput, error) {
	file, err := s.store.RuleFile(ctx, in.File)
	if err == nil {
		err = in.check(ruleTag(file))
	}
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s", fmt.Sprintf("%s %s", file.Name, map[bool]string{true: "on", false: "off"}[in.Body.Active]))
	if file.Active != in.Body.Active {
		file.Active, file.ChangedBy, file.ChangedAt = in.Body.Active, personOf(ctx).name, time.Now().UTC()
		if err := s.changeRules(ctx, file, func() error { return s.store.SaveRuleFile(ctx, &file) }); err != nil {
			return nil, problem(ctx, err)
		}
	}
	return &ruleOutput{ruleTag(file), toRuleFile(file)}, nil
}

func (s *Service) removeRules(ctx context.Context, in *struct {
	RuleFileInput
	MatchInput
}) (*struct{}, error) {
	file, err := s.store.RuleFile(ctx, in.File)
	if err == nil {
		err = in.check(ruleTag(file))
	}
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s", file.Name)
	if !file.Active {
		return nil, problem(ctx, s.store.RemoveRuleFile(ctx, file.ID))
	}
	return nil, problem(ctx, s.changeRules(ctx, file, func() error { return s.store.RemoveRuleFile(ctx, file.ID) }))
}

// namesNoOther refuses rules that are called as rules of another file of the site are.
func (s *Service) namesNoOther(ctx context.Context, site uint64, file api.NewRuleFile) error {
	files, err := s.store.RuleFiles(ctx, site, store.RulesJudge)
	if err != nil {
		return err
	}
	added, err := finding.ReadRules(file.Name, []byte(file.Text))
	if err != nil {
		return err
	}
	for _, f := range files {
		others, err := finding.ReadRules(f.Name, []byte(f.Text))
		if err != nil || f.Name == file.Name {
			continue
		}
		for _, o := range others {
			if slices.ContainsFunc(added, func(a finding.OwnRule) bool { return a.ID == o.ID }) {
				return refuse(http.StatusConflict, "the file %q has a rule %q already: give this one another name", f.Name, o.ID)
			}
		}
	}
	return nil
}

// changeRules changes which rules a site has on, and reads all evidence again or judges all anew. What devices are is not told otherwise while a
// sweep runs, which has been given the rules as they are.
func (s *Service) changeRules(ctx context.Context, file store.RuleFile, change func() error) error {
	if file.Purpose == store.RulesJudge {
		return s.books.Resettings(ctx, file.SiteID, change)
	}
	if err := s.sweeper.aside(ctx, file.SiteID, change); err != nil {
		return err
	}
	return s.sweeper.renew(ctx, file.SiteID)
}

// namesOf gives the names that a device goes by, with who tells them.
func namesOf(identity identify.Identity) []api.Name {
	names := []api.Name{}
	best := identity.Of(identify.Name)
	for _, claim := range identity {
		if claim.Attribute != identify.Name {
			continue
		}
		for _, candidate := range claim.Others {
			n := api.Name{Name: candidate.Value, Best: candidate.Value == best, Sources: []string{}}
			for _, r := range candidate.Reasons {
				if source := string(r.Item.Source); !slices.Contains(n.Sources, source) {
					n.Sources = append(n.Sources, source)
				}
			}
			names = append(names, n)
		}
	}
	slices.SortStableFunc(names, func(a, b api.Name) int { return cmp.Compare(len(b.Sources), len(a.Sources)) })
	return names
}
