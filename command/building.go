package command

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"airdrift/simsite"
)

// tapName is the interface by which the kernel meets the simulated building.
const tapName = "fern0"

func (p Program) buildingCommand() *cli.Command {
	return &cli.Command{
		Name:  "building",
		Usage: "plug this machine into a simulated building, so that any program can meet it (Linux, root)",
		Description: "Makes a network namespace of the given name with an interface that is plugged into the building, and keeps both\n" +
			"until Ctrl-C. Programs run in it by: ip netns exec NAME PROGRAM. No packet leaves the namespace.\n" +
			"With --here the interface is made in the present namespace instead.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "scenario", Usage: "`FILE` that describes the building; the demo's where left out"},
			&cli.StringFlag{Name: "namespace", Usage: "`NAME` of the network namespace to make", Value: "fernhollow"},
			&cli.StringFlag{Name: "interface", Usage: "`NAME` of the interface to make", Value: tapName},
			&cli.BoolFlag{Name: "here", Usage: "make the interface in the present namespace"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			scenario, _, err := loadScenario(c.String("scenario"))
			if err != nil {
				return err
			}
			namespace := c.String("namespace")
			if c.Bool("here") {
				namespace = ""
			}
			return p.runBuilding(ctx, scenario, namespace, c.String("interface"))
		},
	}
}

// runBuilding keeps a building running until ctx ends.
func (p Program) runBuilding(ctx context.Context, scenario *simsite.Scenario, namespace, name string) error {
	site, err := simsite.Start(scenario)
	if err != nil {
		return err
	}
	defer site.Close()
	leave, err := plugIn(site, namespace, name)
	if err != nil {
		return err
	}
	defer leave()
	link := site.Link()
	fmt.Fprintf(p.Err, "%s (%d devices, simulated) is at the interface %s, address %s, gateway %s.\n", scenario.Name, len(scenario.Devices), name, link.Prefixes[0], link.Gateway)
	if namespace != "" {
		fmt.Fprintf(p.Err, "Meet it by: ip netns exec %s PROGRAM\n", namespace)
	}
	fmt.Fprintln(p.Err, "Ctrl-C ends it.")
	<-ctx.Done()
	return nil
}
