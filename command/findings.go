package command

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/finding"
)

func (p Program) findingsCommand() *cli.Command {
	return &cli.Command{
		Name: "findings", Usage: "what is wrong at a site, the worst first, and what to do about it",
		Description: "Examples: airdrift findings --severity high, airdrift findings --rule shared-address, airdrift findings show 17,\n" +
			"airdrift findings accept 17 18 --reason 'on loan until spring' --until 2027-04-01, airdrift findings --fail-on high",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "severity", Usage: "only this `SEVERITY` or worse: info, low, medium, high, critical"},
			&cli.StringSliceFlag{Name: "rule", Usage: "only of this `RULE` (several); airdrift findings rules lists them"},
			&cli.StringSliceFlag{Name: "state", Usage: "only in this `STATE`: open, accepted, closed (several); open where left out"},
			&cli.StringFlag{Name: "device", Usage: "only of this `DEVICE`: its number, address, MAC address or name"},
			&cli.IntFlag{Name: "limit", Usage: "at most so `MANY`; all where left out"},
			&cli.StringFlag{Name: "fail-on", Usage: "exit with 3 where any that is shown is of this `SEVERITY` or worse, for scripts"},
		},
		Action: p.findings,
		Commands: []*cli.Command{
			{Name: "show", Usage: "one finding whole: what follows of it, what to do, and the evidence", ArgsUsage: "NUMBER ...", Action: p.showFinding},
			{
				Name: "accept", Usage: "take findings upon yourself until a day; from then on they are open again", ArgsUsage: "NUMBER ...", Action: p.acceptFindings,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "reason", Usage: "`WHY` they are accepted", Required: true},
					&cli.StringFlag{Name: "until", Usage: "`DAY` on which it ends, such as 2027-04-01", Required: true},
				},
			},
			{Name: "reopen", Usage: "take the acceptance of findings back", ArgsUsage: "NUMBER ...", Action: p.reopenFindings},
			{
				Name: "rules", Usage: "the rules by which the site is judged, as it has set them", Action: p.findingRules,
				Commands: []*cli.Command{{
					Name: "set", Usage: "switch a rule on or off, and give it a severity and parameters", ArgsUsage: "RULE", Action: p.setFindingRule,
					Description: "Example: airdrift findings rules set certificate-expiring --param days=60 --severity high",
					Flags: []cli.Flag{
						&cli.BoolFlag{Name: "off", Usage: "switch it off"},
						&cli.StringFlag{Name: "severity", Usage: "give it this `SEVERITY`; its own where left out"},
						&cli.StringSliceFlag{Name: "param", Usage: "`NAME=VALUE` of a parameter (several); those left out have their usual values"},
					},
				}},
			},
			{
				Name: "support", Usage: "the site's list of ends of support: CSV with pattern, date, source; with a FILE it is replaced", ArgsUsage: "[FILE]", Action: p.endsOfSupport,
			},
		},
	}
}

func (p Program) findings(ctx context.Context, c *cli.Command) error {
	failOn := finding.Severity(0)
	var err error
	if text := c.String("fail-on"); text != "" {
		if failOn, err = finding.ParseSeverity(text); err != nil {
			return wrongUse("--fail-on: %v", err)
		}
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	query := client.FindingQuery{States: c.StringSlice("state"), Severity: c.String("severity"), Rules: c.StringSlice("rule")}
	if wanted := c.String("device"); wanted != "" {
		if query.Device, err = findDevice(ctx, cl, c, wanted); err != nil {
			return err
		}
	}
	list, err := cl.Findings(ctx, site.ID, query, c.Int("limit"))
	if err != nil {
		return err
	}
	if err := write(p.Out, c.String("output"), findingGrid(list), list); err != nil {
		return err
	}
	if failOn == 0 {
		return nil
	}
	bad := slices.DeleteFunc(slices.Clone(list), func(f api.Finding) bool {
		severity, err := finding.ParseSeverity(f.Severity)
		return err != nil || severity < failOn
	})
	if len(bad) > 0 {
		return &foundError{fmt.Sprintf("there %s of severity %s or worse", thereAre(len(bad), "finding"), failOn)}
	}
	return nil
}

func findingGrid(list []api.Finding) grid {
	g := grid{headings: []string{"No|id", "Severity", "Finding|title", "Device|devices", "Address|addresses", "What is so|says", "Since", "State", "Rule"}}
	for _, f := range list {
		var numbers, names, addrs []string
		for _, d := range f.Devices {
			numbers, addrs = append(numbers, strconv.FormatUint(d.ID, 10)), append(addrs, d.Addr)
			name := d.Name
			if name == "" {
				name = "device " + strconv.FormatUint(d.ID, 10)
			}
			names = append(names, name)
		}
		g.add(f.ID, f.Severity, f.Title, cell{shortList(names), strings.Join(numbers, " ")}, several(addrs), f.Says, at(&f.Since), f.State, f.Rule)
	}
	return g
}

// findingNumbers reads the numbers of findings on the command line.
func findingNumbers(c *cli.Command) ([]uint64, error) {
	if !c.Args().Present() {
		return nil, wrongUse("want the numbers of findings, such as 17: airdrift findings lists them")
	}
	var numbers []uint64
	for _, text := range c.Args().Slice() {
		number, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			return nil, wrongUse("%q is no number of a finding: airdrift findings lists them", text)
		}
		numbers = append(numbers, number)
	}
	return numbers, nil
}

func (p Program) showFinding(ctx context.Context, c *cli.Command) error {
	numbers, err := findingNumbers(c)
	if err != nil {
		return err
	}
	cl, err := connect(c)
	if err != nil {
		return err
	}
	for i, number := range numbers {
		f, err := cl.Finding(ctx, number)
		if err != nil {
			return err
		}
		if c.String("output") == "json" {
			err = writeJSON(p.Out, f)
		} else {
			err = p.tellFinding(f, i > 0)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (p Program) tellFinding(f api.Finding, gap bool) error {
	out := &paragraphs{w: p.Out}
	if gap {
		out.line("")
	}
	out.line("%s (%s, %s)", f.Title, f.Severity, f.State)
	out.pair("So it is", f.Says)
	out.pair("Because", f.Because)
	out.pair("To do", f.Do)
	for _, d := range f.Devices {
		out.pair("Device", strings.Join(strings.Fields(strings.Join([]string{strconv.FormatUint(d.ID, 10), d.Addr, d.Name, d.Vendor, d.Model, d.Kind}, " ")), " "))
	}
	for _, fact := range f.Evidence {
		out.pair("Evidence", fact)
	}
	since := localTime(&f.Since)
	if f.Sweep != 0 {
		since += fmt.Sprintf(", by sweep %d", f.Sweep)
	}
	out.pair("Since", since)
	if a := f.Accepted; a != nil {
		out.pair("Accepted", fmt.Sprintf("by %s until %s: %s", a.By, a.Until.Local().Format(time.DateOnly), a.Reason))
	}
	if f.ClosedAt != nil {
		out.pair("Closed", localTime(f.ClosedAt)+", by "+closedBy(f))
	}
	return out.err
}

func closedBy(f api.Finding) string {
	switch f.ClosedBy {
	case "sweep":
		return fmt.Sprintf("sweep %d, which looked", f.Closing)
	case "register":
		return "a change of the register, or of what is said of the device"
	case "settings":
		return "a change of the rules or the site's networks"
	}
	if f.ClosedBy == "time" {
		return "time that has passed"
	}
	return "the device's being gone"
}

func (p Program) acceptFindings(ctx context.Context, c *cli.Command) error {
	numbers, err := findingNumbers(c)
	if err != nil {
		return err
	}
	until, err := time.ParseInLocation(time.DateOnly, c.String("until"), time.Local)
	if err != nil {
		return wrongUse("--until: %q is no day such as 2027-04-01", c.String("until"))
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	act, err := cl.Act(ctx, site.ID, api.NewAct{Kind: "accept", Findings: numbers, Text: c.String("reason"), Until: &until})
	if err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "Accepted until %s: %s. To undo it: airdrift devices undo %d\n", until.Format(time.DateOnly), counted(act.Count, "finding"), act.ID)
	return nil
}

func (p Program) reopenFindings(ctx context.Context, c *cli.Command) error {
	numbers, err := findingNumbers(c)
	if err != nil {
		return err
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	if err := cl.ReopenFindings(ctx, site.ID, numbers); err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "No longer accepted: %s.\n", counted(len(numbers), "finding"))
	return nil
}

func (p Program) findingRules(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	list, err := cl.FindingRules(ctx, site.ID)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"Rule", "State", "Severity", "Finding|title", "Parameters|params", "Source"}}
	for _, r := range list {
		state := "on"
		if !r.On {
			state = "off"
		}
		var params []string
		for _, param := range r.Params {
			params = append(params, param.Name+"="+param.Value)
		}
		g.add(r.Rule, state, r.Severity, r.Title, strings.Join(params, " "), r.Source)
	}
	return write(p.Out, c.String("output"), g, list)
}

func (p Program) setFindingRule(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return wrongUse("want the name of one rule: airdrift findings rules lists them")
	}
	setting := api.FindingSetting{On: !c.Bool("off"), Severity: c.String("severity"), Params: map[string]string{}}
	for _, text := range c.StringSlice("param") {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return wrongUse("--param: %q is no NAME=VALUE", text)
		}
		setting.Params[name] = value
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	return cl.SetFindingRule(ctx, site.ID, c.Args().First(), setting)
}

func (p Program) endsOfSupport(ctx context.Context, c *cli.Command) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	if !c.Args().Present() {
		list, err := cl.EndsOfSupport(ctx, site.ID)
		if err != nil {
			return err
		}
		if c.String("output") == "json" {
			return writeJSON(p.Out, list)
		}
		_, err = fmt.Fprint(forTerminal(p.Out), list.Text)
		return err
	}
	text, err := os.ReadFile(c.Args().First())
	if err != nil {
		return err
	}
	return cl.SetEndsOfSupport(ctx, site.ID, string(text))
}
