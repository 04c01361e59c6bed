package service

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/books"
	"airdrift/core/drift"
	"airdrift/core/finding"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/store"
)

func (s *Service) registerActs(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-drift", Method: http.MethodGet, Path: "/api/v1/sites/{site}/drift", Summary: "Where the register and what was observed differ, attribute by attribute",
		Tags: []string{"register"}, Extensions: needs(Look),
	}, s.listDrift)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "act", Method: http.MethodPost, Path: "/api/v1/sites/{site}/acts", Summary: "Do something to many devices or findings at once, all or nothing; or say what would come of it",
		Tags: []string{"devices"}, Extensions: once(Sweep),
	}, s.act)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-acts", Method: http.MethodGet, Path: "/api/v1/sites/{site}/acts", Summary: "What was done to many devices at once, the newest first",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listActs)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "undo-act", Method: http.MethodPost, Path: "/api/v1/acts/{act}/undo", Summary: "Take back what an act has done, but for what somebody has changed since",
		Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, s.undoAct)
}

// driftPart is how many devices are read at once in search of differences.
const driftPart = 500

func (s *Service) listDrift(ctx context.Context, in *struct {
	SiteInput
	PageInput
	Attribute []string `query:"attribute,explode" doc:"Only those in these attributes"`
}) (*listOutput[api.DriftLine], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	var behind uint64
	if _, err := in.mark(&behind); err != nil {
		return nil, problem(ctx, err)
	}
	lines := []api.DriftLine{}
	for len(lines) < in.Limit {
		devices, err := s.store.RegisteredDevices(ctx, in.Site, behind, driftPart)
		if err != nil {
			return nil, problem(ctx, err)
		}
		for i, d := range devices {
			behind = d.ID
			lines = append(lines, driftOf(d, in.Attribute)...)
			if len(lines) >= in.Limit && (i < len(devices)-1 || len(devices) == driftPart) {
				return s.driftPage(ctx, in.Site, lines, behind)
			}
		}
		if len(devices) < driftPart {
			break
		}
	}
	return s.driftPage(ctx, in.Site, lines, 0)
}

// driftOf gives the lines of a device; of some attributes where they are named.
func driftOf(d ledger.Device, attributes []string) (lines []api.DriftLine) {
	for _, line := range drift.Of(d) {
		if attributes != nil && !slices.Contains(attributes, line.Attribute) {
			continue
		}
		out := api.DriftLine{Device: d.ID, Name: inventory.Called(d), Entry: d.Entry.ID, Attribute: line.Attribute, Expected: line.Expected, Observed: line.Observed, Strength: line.Strength, Certain: line.Certain}
		if len(d.Addrs) > 0 {
			out.Addr = d.Addrs[0].String()
		}
		lines = append(lines, out)
	}
	return lines
}

// driftPage adds to lines the findings that carry them. behind is the last device of the page, 0 of the last page.
func (s *Service) driftPage(ctx context.Context, site uint64, lines []api.DriftLine, behind uint64) (*listOutput[api.DriftLine], error) {
	var devices []uint64
	for _, line := range lines {
		devices = append(devices, line.Device)
	}
	found, err := s.store.Findings(ctx, store.FindingQuery{Site: site, Rules: []string{finding.DriftRule}, States: []string{string(finding.Open), string(finding.Accepted)}, Devices: append(devices, 0), Limit: everyFinding})
	if err != nil {
		return nil, problem(ctx, err)
	}
	for i := range lines {
		for _, f := range found {
			if f.About == lines[i].Attribute && slices.Contains(f.Devices, lines[i].Device) {
				lines[i].Finding, lines[i].State, lines[i].Confirmed = f.ID, string(f.State), f.Confirmed != nil
			}
		}
	}
	out := listOf(lines)
	if behind != 0 {
		out.Body.Next = cursorOf(behind)
	}
	return out, nil
}

// acting reads what somebody wants done.
func (s *Service) acting(ctx context.Context, site uint64, body api.NewAct) (a books.Acting, err error) {
	a = books.Acting{Site: site, Kind: body.Kind, By: personOf(ctx).name, Text: strings.TrimSpace(body.Text), Attributes: body.Attributes, Devices: unique(body.Devices), Findings: unique(body.Findings)}
	switch {
	case (a.Kind == books.ActAside || a.Kind == books.ActAccept) && a.Text == "":
		return a, refuse(http.StatusUnprocessableEntity, "text: say why")
	case a.Kind == books.ActAside && len(a.Text) > maxReason || a.Kind == books.ActAccept && len(a.Text) > maxReason:
		return a, refuse(http.StatusUnprocessableEntity, "text: at most %d bytes", maxReason)
	case a.Kind == books.ActGroup && len(a.Text) > maxGroup:
		return a, refuse(http.StatusUnprocessableEntity, "text: the name of a group has at most %d bytes", maxGroup)
	case a.Kind == books.ActAccept:
		if err := checkUntil(body.Until); err != nil {
			return a, err
		}
		a.Until = body.Until.UTC().Truncate(time.Microsecond) // as the database keeps it
	}
	for _, line := range body.Lines {
		if a.Lines == nil {
			a.Lines = map[uint64][]string{}
		}
		a.Lines[line.Device] = append(a.Lines[line.Device], line.Attribute)
		a.Devices = append(a.Devices, line.Device)
	}
	a.Devices = unique(a.Devices)
	ofFindings := a.Kind == books.ActAccept || a.Kind == books.ActConfirm
	chosen := len(a.Devices) > 0 && !ofFindings || len(a.Findings) > 0 && ofFindings
	switch {
	case chosen && body.Filter != "":
		return a, refuse(http.StatusUnprocessableEntity, "filter: either a filter or numbers say what is meant, not both")
	case chosen:
		return a, nil
	case ofFindings:
		a.Findings, err = s.findingsMeant(ctx, site, body.Filter)
	default:
		a.Devices, err = s.devicesMeant(ctx, site, body.Filter)
	}
	return a, err
}

const (
	maxReason = 1000
	maxGroup  = 200
)

// checkUntil checks the day up to which findings are accepted.
func checkUntil(until *time.Time) error {
	now := time.Now().UTC()
	switch {
	case until == nil:
		return refuse(http.StatusUnprocessableEntity, "until: give the day on which it is looked at again")
	case !until.After(now):
		return refuse(http.StatusUnprocessableEntity, "until: %s has passed: give a day to come, on which it is looked at again", until.Format(time.DateOnly))
	case until.After(now.AddDate(maxAccepted, 0, 0)):
		return refuse(http.StatusUnprocessableEntity, "until: at most %d years from now", maxAccepted)
	}
	return nil
}

// devicesMeant gives the numbers of the devices that a filter lets through, one more than may be at the most.
func (s *Service) devicesMeant(ctx context.Context, site uint64, filter string) ([]uint64, error) {
	f, err := parseFilter(filter)
	if err != nil {
		return nil, err
	}
	query, _, err := s.deviceQuery(ctx, site, f, nil, books.MostActed+1)
	if err != nil {
		return nil, err
	}
	page, err := s.store.ListDevices(ctx, query)
	numbers := make([]uint64, len(page.Lines))
	for i, line := range page.Lines {
		numbers[i] = line.ID
	}
	if page.Next != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "filter: %d devices are meant, and at most %d may be at once: narrow it", page.Total, books.MostActed)
	}
	return numbers, err
}

// findingsMeant gives the numbers of the findings that a filter lets through.
func (s *Service) findingsMeant(ctx context.Context, site uint64, filter string) ([]uint64, error) {
	values, err := url.ParseQuery(filter)
	if err != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "filter: %v", err)
	}
	query := store.FindingQuery{Site: site, States: []string{string(finding.Open)}, Limit: books.MostActed + 1}
	for name, given := range values {
		switch name {
		case "state":
			query.States = given
		case "rule":
			query.Rules = given
		case "severity":
			if query.Severity, err = finding.ParseSeverity(given[0]); err != nil {
				return nil, refuse(http.StatusUnprocessableEntity, "filter: severity: %v", err)
			}
		case "worst":
			if query.Worst, err = finding.ParseSeverity(given[0]); err != nil {
				return nil, refuse(http.StatusUnprocessableEntity, "filter: worst: %v", err)
			}
		case "device":
			if query.Device, err = strconv.ParseUint(given[0], 10, 64); err != nil {
				return nil, refuse(http.StatusUnprocessableEntity, "filter: device: %v", err)
			}
		default:
			return nil, refuse(http.StatusUnprocessableEntity, "filter: findings have no %q: want state, rule, severity, worst or device", name)
		}
	}
	found, err := s.store.Findings(ctx, query)
	numbers := make([]uint64, len(found))
	for i, f := range found {
		numbers[i] = f.ID
	}
	return numbers, err
}

func (s *Service) act(ctx context.Context, in *struct {
	SiteInput
	Body api.NewAct
}) (*struct{ Body api.Act }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	acting, err := s.acting(ctx, in.Site, in.Body)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if in.Body.Preview {
		p, err := s.books.Propose(ctx, acting)
		if err != nil {
			return nil, problem(ctx, err)
		}
		out := toAct(store.Act{Kind: acting.Kind, Text: acting.Text, By: acting.By, Steps: p.Steps}, p.Left)
		out.Tag = p.Tag()
		return &struct{ Body api.Act }{out}, nil
	}
	act, left, err := s.books.Perform(ctx, acting, in.Body.Tag)
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s: %d, act %d", act.Kind, len(act.Steps), act.ID)
	return &struct{ Body api.Act }{toAct(act, left)}, nil
}

// mostSteps is how many steps of an act are told.
const mostSteps = 200

func toAct(a store.Act, left []store.Step) api.Act {
	out := api.Act{ID: a.ID, Kind: a.Kind, Text: a.Text, By: a.By, At: known(a.At), Count: len(a.Steps), Steps: toSteps(a.Steps), LeftOut: len(left), Left: toSteps(left), UndoneBy: a.UndoneBy, UndoneAt: known(a.UndoneAt)}
	return out
}

func toSteps(steps []store.Step) []api.ActStep {
	out := []api.ActStep{}
	for _, s := range steps[:min(len(steps), mostSteps)] {
		out = append(out, api.ActStep{Device: s.Device, Finding: s.Finding, Name: s.Name, Field: s.Field, Was: s.Was, Becomes: s.Becomes})
	}
	return out
}

func (s *Service) listActs(ctx context.Context, in *struct {
	SiteInput
	PageInput
}) (*listOutput[api.Act], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	var below uint64
	if _, err := in.mark(&below); err != nil {
		return nil, problem(ctx, err)
	}
	acts, err := s.store.Acts(ctx, in.Site, below, in.Limit+1)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return pageOf(acts, in.Limit, func(a store.Act) api.Act { return toAct(a, nil) }, func(a store.Act) any { return a.ID }), nil
}

func (s *Service) undoAct(ctx context.Context, in *struct {
	Act uint64 `path:"act" doc:"Number of the act"`
}) (*struct{ Body api.Undone }, error) {
	remark(ctx, "%d", in.Act)
	back, left, err := s.books.UndoAct(ctx, personOf(ctx).name, in.Act)
	if errors.Is(err, store.ErrUndone) {
		err = refuse(http.StatusConflict, "%v", err)
	}
	return &struct{ Body api.Undone }{api.Undone{Back: back, Left: left}}, problem(ctx, err)
}
