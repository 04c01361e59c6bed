package command

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/inventory"
)

// attributeFlag names attributes of drift.
func attributeFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "attribute", Usage: "only in this `ATTRIBUTE`: " + strings.Join(inventory.Names(inventory.Drifting()), ", ") + "; may be given again"}
}

// previewFlag has an act shown and not done.
func previewFlag() cli.Flag {
	return &cli.BoolFlag{Name: "preview", Usage: "only say what would come of it"}
}

func (p Program) driftCommand() *cli.Command {
	side := func(name, usage, kind string) *cli.Command {
		return &cli.Command{
			Name: name, Usage: usage, ArgsUsage: "[DEVICE ...]",
			Flags:  []cli.Flag{attributeFlag(), &cli.StringFlag{Name: "filter", Usage: "all devices that this `QUERY` lets through, such as kind=printer&network=offices"}, &cli.BoolFlag{Name: "all", Usage: "all devices of the site"}, previewFlag()},
			Action: func(ctx context.Context, c *cli.Command) error { return p.chooseSide(ctx, c, kind) },
		}
	}
	return &cli.Command{
		Name: "drift", Usage: "where the register and what was observed differ; take the one, or keep the other",
		Description: "Examples: airdrift drift, airdrift drift --attribute address, airdrift drift take shop-desk --attribute address,\n" +
			"airdrift drift take --filter kind=printer --preview, airdrift drift keep 17, airdrift devices undo 3",
		Flags: []cli.Flag{attributeFlag(), &cli.IntFlag{Name: "limit", Usage: "at most so `MANY`; all where left out"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, site, err := connectSite(ctx, c)
			if err != nil {
				return err
			}
			lines, err := cl.Drift(ctx, site.ID, c.StringSlice("attribute"), c.Int("limit"))
			if err != nil {
				return err
			}
			return write(p.Out, c.String("output"), driftGrid(lines), lines)
		},
		Commands: []*cli.Command{
			side("take", "the observation takes the place of what the register says", "take"),
			side("keep", "the register is right: the difference is a finding, to be put right at the device", "keep-register"),
		},
	}
}

func driftGrid(lines []api.DriftLine) grid {
	g := grid{headings: []string{"Device|device", "Name", "Address", "Attribute", "Register says|expected", "Observed", "Confidence|strength", "Finding", "State"}}
	for _, l := range lines {
		state := l.State
		if l.Confirmed {
			state = "confirmed"
		}
		finding := any("")
		if l.Finding != 0 {
			finding = l.Finding
		}
		g.add(l.Device, l.Name, l.Addr, l.Attribute, l.Expected, l.Observed, cell{confidence(l), strconv.Itoa(l.Strength)}, finding, state)
	}
	return g
}

// confidence writes how sure an observation is, as odds; what was seen on the network itself is certain.
func confidence(l api.DriftLine) string {
	if l.Certain {
		return "certain"
	}
	return odds(l.Strength) + " to 1"
}

func (p Program) chooseSide(ctx context.Context, c *cli.Command, kind string) error {
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	act := api.NewAct{Kind: kind, Attributes: c.StringSlice("attribute"), Filter: c.String("filter"), Preview: c.Bool("preview")}
	if err := meant(ctx, cl, c, &act); err != nil {
		return err
	}
	return p.perform(ctx, c, cl, site, act)
}

// meant reads which devices an act is about: those that are named, those of a filter, or all.
func meant(ctx context.Context, cl *client.Client, c *cli.Command, act *api.NewAct) error {
	for _, wanted := range c.Args().Slice() {
		id, err := findDevice(ctx, cl, c, wanted)
		if err != nil {
			return err
		}
		act.Devices = append(act.Devices, id)
	}
	if act.Devices == nil && act.Filter == "" && !c.Bool("all") {
		return wrongUse("say which devices: name them, or give --filter or --all")
	}
	return nil
}

func (p Program) perform(ctx context.Context, c *cli.Command, cl *client.Client, site api.Site, act api.NewAct) error {
	done, err := cl.Act(ctx, site.ID, act)
	if err != nil {
		return err
	}
	form := c.String("output")
	if err := write(p.Out, form, stepsGrid(done), done); err != nil || form != "table" {
		return err
	}
	tellAct(p.Out, done)
	return nil
}

func stepsGrid(a api.Act) grid {
	g := grid{headings: []string{"Device|device", "Name", "What|field", "Was", "Becomes"}}
	for _, s := range append(a.Steps, a.Left...) {
		g.add(s.Device, s.Name, s.Field, s.Was, s.Becomes)
	}
	return g
}

// tellAct says below the table what was done, and how it is undone.
func tellAct(w io.Writer, a api.Act) {
	if a.ID == 0 {
		fmt.Fprintf(w, "\nNothing is done yet: %d would be changed, %d left as they are.\n", a.Count, a.LeftOut)
		return
	}
	fmt.Fprintf(w, "\n%d changed, %d left as they are. To undo it: airdrift devices undo %d\n", a.Count, a.LeftOut, a.ID)
}

// actKinds says what there is to do to many devices at once.
const actKinds = "set-aside, note, group, register, take, keep-register; for findings accept, confirm"

func (p Program) actCommands() []*cli.Command {
	return []*cli.Command{
		{
			Name: "act", Usage: "do something to many devices or findings at once: " + actKinds, ArgsUsage: "WHAT [DEVICE ...]",
			Description: "Examples: airdrift devices act set-aside --filter 'vendor=Ravelin&network=visitors' --text 'guests' --preview,\n" +
				"airdrift devices act register --filter standing=unmanaged, airdrift devices act group --text 'second floor' 10.40.1.7 hall-printer,\n" +
				"airdrift devices act accept --filter rule=old-tls --text 'until the spring' --until 2027-04-01",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "filter", Usage: "all that this `QUERY` lets through, such as kind=printer&network=offices; of findings such as rule=old-tls"},
				&cli.BoolFlag{Name: "all", Usage: "all devices of the site"},
				&cli.StringFlag{Name: "text", Usage: "the `TEXT`: reason, note or name of the group"},
				&cli.StringFlag{Name: "until", Usage: "`DAY` until which findings are accepted, such as 2027-04-01"},
				attributeFlag(), previewFlag(),
			},
			Action: p.act,
		},
		{
			Name: "acts", Usage: "what was done to many devices at once, the newest first",
			Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Usage: "at most so `MANY`", Value: 20}},
			Action: func(ctx context.Context, c *cli.Command) error {
				cl, site, err := connectSite(ctx, c)
				if err != nil {
					return err
				}
				acts, err := cl.Acts(ctx, site.ID, c.Int("limit"))
				if err != nil {
					return err
				}
				g := grid{headings: []string{"No|id", "At", "By", "What|kind", "Text", "Devices|count", "Undone by|undoneBy"}}
				for _, a := range acts {
					g.add(a.ID, at(a.At), a.By, a.Kind, a.Text, a.Count, a.UndoneBy)
				}
				return write(p.Out, c.String("output"), g, acts)
			},
		},
		{
			Name: "undo", Usage: "take back what an act has done, but for what somebody has changed since", ArgsUsage: "NUMBER",
			Action: func(ctx context.Context, c *cli.Command) error {
				number, err := strconv.ParseUint(c.Args().First(), 10, 64)
				if err != nil {
					return wrongUse("want the number of an act, such as 3: airdrift devices acts lists them")
				}
				cl, err := connect(c)
				if err != nil {
					return err
				}
				undone, err := cl.UndoAct(ctx, number)
				if err != nil {
					return err
				}
				fmt.Fprintf(p.Out, "%d taken back, %d left", undone.Back, undone.Left)
				if undone.Left > 0 {
					fmt.Fprint(p.Out, ", as somebody has changed them since")
				}
				fmt.Fprintln(p.Out, ".")
				return nil
			},
		},
	}
}

func (p Program) act(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return wrongUse("say what to do: %s", actKinds)
	}
	cl, site, err := connectSite(ctx, c)
	if err != nil {
		return err
	}
	act := api.NewAct{Kind: c.Args().First(), Attributes: c.StringSlice("attribute"), Filter: c.String("filter"), Text: c.String("text"), Preview: c.Bool("preview")}
	if text := c.String("until"); text != "" {
		until, err := time.Parse(time.DateOnly, text)
		if err != nil {
			return wrongUse("--until: %q is no day such as 2027-04-01", text)
		}
		act.Until = &until
	}
	ofFindings := act.Kind == "accept" || act.Kind == "confirm"
	for _, wanted := range c.Args().Tail() {
		id, err := findMeant(ctx, cl, c, wanted, ofFindings)
		if err != nil {
			return err
		}
		if ofFindings {
			act.Findings = append(act.Findings, id)
		} else {
			act.Devices = append(act.Devices, id)
		}
	}
	if len(act.Devices)+len(act.Findings) == 0 && act.Filter == "" && !c.Bool("all") {
		return wrongUse("say which are meant: name them, or give --filter or --all")
	}
	return p.perform(ctx, c, cl, site, act)
}

// findMeant reads the number of a finding, or finds a device.
func findMeant(ctx context.Context, cl *client.Client, c *cli.Command, wanted string, finding bool) (uint64, error) {
	if !finding {
		return findDevice(ctx, cl, c, wanted)
	}
	number, err := strconv.ParseUint(strings.TrimSpace(wanted), 10, 64)
	if err != nil {
		return 0, wrongUse("%q is no number of a finding: airdrift findings lists them", wanted)
	}
	return number, nil
}
