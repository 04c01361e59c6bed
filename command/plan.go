package command

import (
	"context"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

// readPlan reads what else is asked of a sweep; nil where nothing is.
func readPlan(c *cli.Command) (*api.Plan, error) {
	plan := api.Plan{LeaveOut: c.StringSlice("leave-out"), Quiet: c.StringSlice("quiet"), Read: c.Bool("read")}
	for _, text := range c.StringSlice("never") {
		port, err := strconv.ParseUint(text, 10, 16)
		if err != nil || port == 0 {
			return nil, wrongUse("--never %s: want a port from 1 to 65535", text)
		}
		plan.Never = append(plan.Never, uint16(port))
	}
	for _, text := range c.StringSlice("pace-for") {
		pace, ranges, ok := strings.Cut(text, "=")
		if !ok {
			return nil, wrongUse("--pace-for %s: want a pace and a part of the ranges, such as gentle=10.40.3.0/24", text)
		}
		plan.Paces = append(plan.Paces, api.PartPace{Pace: strings.TrimSpace(pace), Ranges: strings.TrimSpace(ranges)})
	}
	if text := c.String("waits"); text != "" {
		waits, err := readWaits(text)
		if err != nil {
			return nil, err
		}
		plan.Waits = &waits
	}
	if patience := (api.Patience{Sweeps: c.Int("patience-sweeps"), Days: c.Int("patience-days")}); patience != (api.Patience{}) {
		plan.Patience = &patience
	}
	if len(plan.LeaveOut)+len(plan.Never)+len(plan.Paces)+len(plan.Quiet) == 0 && plan.Waits == nil && plan.Patience == nil && !plan.Read {
		return nil, nil
	}
	return &plan, nil
}

// readWaits reads waits in milliseconds; those left out are as usual.
func readWaits(text string) (api.Waits, error) {
	waits := api.Waits{First: 1000, Least: 300, Most: 4000, Last: 2000}
	of := map[string]*int{"first": &waits.First, "least": &waits.Least, "most": &waits.Most, "last": &waits.Last}
	for part := range strings.SplitSeq(text, ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		n, err := strconv.Atoi(value)
		if err != nil || of[key] == nil {
			return waits, wrongUse("%q is no wait: want first, least, most and last in milliseconds, such as first=1000,last=2000", part)
		}
		*of[key] = n
	}
	return waits, nil
}

func (p Program) protocolsCommand() *cli.Command {
	return &cli.Command{
		Name: "protocols", Usage: "list the protocols that devices are asked by, each of which a sweep may leave out",
		Action: p.listProtocols,
	}
}

// listProtocols shows what a sweep may leave out.
func (p Program) listProtocols(ctx context.Context, c *cli.Command) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	protocols, err := cl.Protocols(ctx)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"Protocol", "Cost to a device", "Parts"}}
	for _, protocol := range protocols {
		var parts []string
		for _, part := range protocol.Parts {
			parts = append(parts, protocol.Name+"."+part)
		}
		g.add(protocol.Name, protocol.Cost, strings.Join(parts, ", "))
	}
	return write(p.Out, c.String("output"), g, protocols)
}
