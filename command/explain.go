package command

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

func (p Program) explainCommand() *cli.Command {
	return &cli.Command{
		Name:      "explain",
		Usage:     "why a device is believed to be what it is: evidence, rules, sums and the runner-up",
		ArgsUsage: deviceForms,
		Description: "For each attribute all values are shown that something speaks for, the strongest first, with each rule that spoke, the fact that\n" +
			"made it, and how much it added. Of one source only the strongest rule counts; what does not count is in brackets.\n" +
			"Example: airdrift explain 10.40.1.20",
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			device, err := cl.Device(ctx, id)
			if err != nil {
				return err
			}
			if c.String("output") == "table" {
				return writeExplanation(p.Out, device)
			}
			return write(p.Out, c.String("output"), reasonGrid(device), device.Claims)
		},
	}
}

// reasonGrid gives every reason as a row, for CSV.
func reasonGrid(d api.Device) grid {
	g := grid{headings: []string{"Attribute", "Value", "Sum", "Believed", "Adds", "Counts", "Rule", "Because", "Source", "Key", "Fact"}}
	for _, c := range d.Claims {
		for _, candidate := range c.Candidates {
			for i, r := range candidate.Reasons {
				g.add(c.Attribute, candidate.Value, strconv.Itoa(candidate.Strength), yesNo(candidate.Value == c.Value), strconv.Itoa(r.Strength),
					yesNo(counts(candidate.Reasons, i)), r.Rule, r.Because, r.Fact.Source, r.Fact.Key, r.Fact.Value)
			}
		}
	}
	return g
}

// counts reports whether a reason is the strongest of its source; reasons are in the order of their strength.
func counts(reasons []api.Reason, at int) bool {
	for _, r := range reasons[:at] {
		if r.Fact.Source == reasons[at].Fact.Source {
			return false
		}
	}
	return true
}

// writeExplanation writes the weighing for reading.
func writeExplanation(w io.Writer, d api.Device) error {
	out := &paragraphs{w: w}
	out.line("Device %d, %s: %d facts", d.ID, titleOf(d), len(d.Evidence))
	for _, c := range d.Claims {
		explainClaim(out, c)
	}
	return out.err
}

func explainClaim(out *paragraphs, c api.Claim) {
	out.heading(claimTitle(c))
	if c.Conflict != "" {
		out.line("  conflict: %s", c.Conflict)
	}
	for i, candidate := range c.Candidates {
		role := "also"
		switch {
		case candidate.Value == c.Value:
			role = "believed"
		case candidate.Besides:
			role = "besides"
		case candidate.BuiltOn != "":
			role = "closer"
		case i == 0:
			role = "leads"
		case i == 1 && c.Candidates[0].Value == c.Value:
			role = "runner-up"
		}
		out.line("  %-9s  %s = %d", role, candidate.Value, candidate.Strength)
		for j, r := range candidate.Reasons {
			adds := fmt.Sprintf("+%d", r.Strength)
			if !counts(candidate.Reasons, j) {
				adds = fmt.Sprintf("(+%d)", r.Strength)
			}
			out.line("    %6s  %s: %s", adds, r.Rule, r.Because)
			out.line("            %s %s%s = %s", r.Fact.Source, r.Fact.Key, portSuffix(r.Fact.Port), r.Fact.Value)
		}
	}
}

// claimTitle says what is believed, and where nothing is, why.
func claimTitle(c api.Claim) string {
	switch {
	case c.Value != "" && c.Value != "unknown":
		perhaps := ""
		if c.Perhaps != "" {
			perhaps = ", perhaps " + c.Perhaps
		}
		return fmt.Sprintf("%s: %s%s, odds of %s to 1", c.Attribute, c.Value, perhaps, odds(c.Strength))
	case len(c.Candidates) == 0:
		return c.Attribute + ": unknown, as nothing speaks of it"
	case len(c.Candidates) > 1 && c.Candidates[0].Strength-c.Candidates[1].Strength < 3 && c.Candidates[0].Strength >= 6:
		return c.Attribute + ": unknown, as no value leads the next by 3 decibans"
	}
	return c.Attribute + ": unknown, as no value has 6 decibans"
}

// odds gives what decibans mean.
func odds(decibans int) string {
	n, step := 1.0, 1.2589254117941673 // the tenth root of 10
	for range min(decibans, 90) {
		n *= step
	}
	return strconv.FormatFloat(n, 'f', 0, 64)
}

func portSuffix(port string) string {
	if port == "" {
		return ""
	}
	return " at " + port
}
