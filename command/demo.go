package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
	"airdrift/scenarios"
	"airdrift/service"
	"airdrift/simsite"
)

func (p Program) demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "sweep a simulated building and show what nobody manages there",
		Description: "Starts a service with a simulated building as its only vantage, imports its register, sweeps it on each day of the\n" +
			"auditor's week, and prints what each visit found changed and the inventory of unmanaged devices. No packet leaves this\n" +
			"machine. The console stays open until Ctrl-C.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "once", Usage: "end after the inventory"},
			&cli.IntFlag{Name: "visits", Usage: "only so `MANY` of the auditor's visits; all where left out"},
			&cli.BoolFlag{Name: "kernel", Usage: "meet the building through this machine's own network stack, in a network namespace made for it (Linux, root; with --once)"},
			&cli.StringFlag{Name: "scenario", Usage: "`FILE` that describes another building"},
			listenFlag(),
		},
		Action: p.demo,
	}
}

func (p Program) demo(ctx context.Context, c *cli.Command) error {
	if c.Bool("kernel") && !c.Bool("once") {
		return wrongUse("--kernel goes with --once: from outside its network namespace the console could not be reached")
	}
	if c.Bool("kernel") && !inNamespace() {
		return reenter(ctx, p)
	}
	scenario, registerText, err := loadScenario(c.String("scenario"))
	if err != nil {
		return err
	}
	building, vantages, err := openBuilding(scenario, c.Bool("kernel"))
	if err != nil {
		return err
	}
	defer building.Close()
	data, tidy, err := demoData(c)
	if err != nil {
		return err
	}
	defer tidy()
	fmt.Fprintf(p.Err, "Starting the service and %s (%d devices, simulated) ...\n", scenario.Name, len(scenario.Devices))
	listen := c.String("listen")
	if c.Bool("once") && !c.IsSet("listen") {
		listen = "127.0.0.1:0"
	}
	in, err := service.Run(ctx, service.InstanceConfig{Data: data, Listen: listen, Vantages: vantages, Console: p.Console})
	if err != nil {
		return err
	}
	err = p.tour(ctx, c, client.Local(data), building, registerText)
	if err == nil && !c.Bool("once") {
		err = p.stayOpen(ctx, in, data)
	}
	return errors.Join(err, in.Close())
}

// loadScenario reads a building and its register, the demo's where no file is named.
func loadScenario(path string) (*simsite.Scenario, []byte, error) {
	name, read := scenarios.Demo, scenarios.Files.ReadFile
	if path != "" {
		name, read = path, os.ReadFile
	}
	text, err := read(name)
	if err != nil {
		return nil, nil, fmt.Errorf("scenario: %w", err)
	}
	scenario, err := simsite.Load(name, text)
	if err != nil {
		return nil, nil, &useError{err.Error()}
	}
	if scenario.Register == "" {
		return scenario, nil, nil
	}
	registerText, err := read(beside(name, scenario.Register))
	if err != nil {
		return nil, nil, fmt.Errorf("register of the scenario: %w", err)
	}
	return scenario, registerText, nil
}

// beside gives the path of a file in the directory of another. Both kinds of path here use slashes.
func beside(path, name string) string {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i+1] + name
	}
	return name
}

// building is a simulated building, and how it becomes another day there.
type building struct {
	*simsite.Scenario
	turn  func(day int) error // nil where it stays the first day
	Close func() error
}

// openBuilding starts a building and plugs the auditor in, by a stack of the simulation's or by the kernel's. Through the kernel the building
// stays as it is on its first day.
func openBuilding(scenario *simsite.Scenario, kernel bool) (*building, service.Vantages, error) {
	if !kernel {
		calendar, err := simsite.NewCalendar(scenario)
		if err != nil {
			return nil, nil, err
		}
		return &building{scenario, calendar.Turn, calendar.Close}, calendar, nil
	}
	site, err := simsite.Start(scenario.Day(0))
	if err != nil {
		return nil, nil, err
	}
	vantages, err := kernelVantages(site)
	if err != nil {
		return nil, nil, errors.Join(err, site.Close())
	}
	return &building{scenario, nil, site.Close}, vantages, nil
}

// demoData gives the directory to work in: a new one that goes away, unless one is named.
func demoData(c *cli.Command) (dir string, tidy func(), err error) {
	if c.IsSet("data") {
		return c.String("data"), func() {}, nil
	}
	dir, err = os.MkdirTemp("", "airdrift-demo-")
	if err == nil {
		err = os.Chmod(dir, 0o711) // the database's user must pass through
	}
	return dir, func() { _ = os.RemoveAll(dir) }, err
}

// tour does the main job through the API: enter the site, import the register, sweep it on each visit, show what has changed and the
// inventory.
func (p Program) tour(ctx context.Context, c *cli.Command, cl *client.Client, b *building, registerText []byte) error {
	site, err := demoSite(ctx, cl, b.Scenario)
	if err != nil {
		return err
	}
	if registerText != nil {
		if _, err := cl.ImportRegister(ctx, site.ID, bytes.NewReader(registerText), client.Import{Replace: true}); err != nil {
			return err
		}
	}
	visits := b.Days()
	if most := c.Int("visits"); most > 0 {
		visits = min(visits, most)
	}
	if b.turn == nil {
		visits = 1
	}
	for day := range visits {
		if day > 0 {
			if err := b.turn(day); err != nil {
				return err
			}
		}
		if err := p.visit(ctx, c, cl, site.ID, b.Scenario, day); err != nil {
			return err
		}
	}
	overview, err := cl.Overview(ctx, site.ID)
	if err != nil {
		return err
	}
	unmanaged, err := allDevices(ctx, cl, site.ID, client.DeviceQuery{Filter: url.Values{"standing": {"unmanaged"}}})
	if err != nil {
		return err
	}
	if form := c.String("output"); form != "table" {
		all, err := allDevices(ctx, cl, site.ID, client.DeviceQuery{})
		if err != nil {
			return err
		}
		return p.writeDevices(form, all)
	}
	summarise(p.Out, overview)
	fmt.Fprintf(p.Out, "\nNobody manages these %d devices:\n", overview.Counts.Unmanaged)
	return p.writeDevices("table", unmanaged)
}

// visit sweeps the building on one day, and shows what has changed since the visit before.
func (p Program) visit(ctx context.Context, c *cli.Command, cl *client.Client, site uint64, scenario *simsite.Scenario, day int) error {
	vantages, err := cl.Vantages(ctx)
	if err != nil {
		return err
	}
	wanted := api.NewSweep{Vantage: vantages[len(vantages)-1].Name, Pace: "brisk"}
	if day < len(scenario.Visits) {
		wanted.Name = scenario.Visits[day].Name
		fmt.Fprintf(p.Err, "\n%s:\n", visible(wanted.Name, false))
	}
	sweep, err := p.sweepAndWatch(ctx, cl, site, wanted)
	if err != nil {
		return err
	}
	if sweep.State != "done" {
		return fmt.Errorf("the sweep is %s: %s", sweep.State, sweep.Failure)
	}
	if day == 0 || c.String("output") != "table" {
		return nil // all devices have appeared
	}
	changes, err := cl.Changes(ctx, site, client.ChangeQuery{Sweep: sweep.ID}, maxDemoChanges)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.Out, "\n%s, what has changed:\n", visible(sweep.Name, false))
	return write(p.Out, "table", changeGrid(changes), changes)
}

// maxDemoChanges is how many changes of a visit are shown.
const maxDemoChanges = 100

// demoSite enters the building as a site, or finds it where an earlier demo has.
func demoSite(ctx context.Context, cl *client.Client, scenario *simsite.Scenario) (api.Site, error) {
	if site, err := findSite(ctx, cl, scenario.Name); err == nil {
		return site, nil
	}
	return cl.EnterSite(ctx, scenario.NewSite(), scenario.NewCredentials())
}

func (p Program) stayOpen(ctx context.Context, in *service.Instance, data string) error {
	password, err := os.ReadFile(in.PasswordFile())
	if err != nil {
		return err
	}
	fmt.Fprintf(p.Err, "\nThe console is at %s  name administrator  password %s\nThe command line finds this service with --data %s\nCtrl-C ends the demo.\n",
		in.URL, strings.TrimSpace(string(password)), data)
	return in.Wait(ctx)
}
