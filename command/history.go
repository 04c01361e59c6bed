package command

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func (p Program) deviceHistory() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "a device's life: what it held, what changed and what people said, the earliest first", ArgsUsage: "DEVICE",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "sightings", Usage: "list when and where each sweep saw it instead"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			if c.Bool("sightings") {
				return p.listSeen(ctx, c, cl, id)
			}
			events, err := lifeOf(ctx, cl, id)
			if err != nil {
				return err
			}
			g := grid{headings: []string{"At", "Sweep", "What", "Detail"}}
			for _, e := range events {
				sweep := ""
				if e.Sweep != 0 {
					sweep = strconv.FormatUint(e.Sweep, 10)
				}
				g.add(at(&e.At), sweep, e.What, e.Detail)
			}
			return write(p.Out, c.String("output"), g, events)
		},
	}
}

func (p Program) listSeen(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
	list, err := cl.History(ctx, id)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"Sweep", "At", "Address|addr", "MAC", "Facts"}}
	for _, h := range list {
		g.add(strconv.FormatUint(h.Sweep, 10), at(&h.At), h.Addr, h.MAC, strconv.Itoa(h.Facts))
	}
	return write(p.Out, c.String("output"), g, list)
}

// lifeEvent is one thing that happened to a device.
type lifeEvent struct {
	At     time.Time `json:"at"`
	Sweep  uint64    `json:"sweep,omitempty"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
}

// maxLife is how many events of each sort a device's life is put together from.
const maxLife = 10_000

// lifeOf puts together what is known of a device's life, the earliest first.
func lifeOf(ctx context.Context, cl *client.Client, id uint64) ([]lifeEvent, error) {
	device, err := cl.Device(ctx, id)
	if err != nil {
		return nil, err
	}
	tenures, err := cl.Tenures(ctx, device.Site, client.TenureQuery{Device: id}, maxLife)
	if err != nil {
		return nil, err
	}
	changes, err := cl.Changes(ctx, device.Site, client.ChangeQuery{Device: id}, maxLife)
	if err != nil {
		return nil, err
	}
	decisions, err := cl.Decisions(ctx, id)
	if err != nil {
		return nil, err
	}
	events := []lifeEvent{}
	for _, t := range tenures {
		events = append(events, tenureEvent(t))
	}
	for _, change := range changes {
		events = append(events, lifeEvent{change.Began, change.Sweep, changeText(change), beforeAfter(change)})
	}
	for _, d := range decisions {
		what := d.Says
		if !d.Holds {
			what += " (no longer holds)"
		}
		events = append(events, lifeEvent{At: d.At, What: what, Detail: strings.TrimSuffix(d.By+": "+d.Text, ": ")})
	}
	slices.SortStableFunc(events, func(a, b lifeEvent) int { return a.At.Compare(b.At) })
	return events, nil
}

func tenureEvent(t api.Tenure) lifeEvent {
	detail := t.Addr
	if t.MAC != "" {
		detail += " with " + t.MAC
	}
	if t.Unit != "" {
		detail += " as " + t.Unit
	}
	until := "still"
	if t.Ended {
		until = "until " + localTime(&t.Until)
	}
	return lifeEvent{t.Since, t.SinceSweep, "held", detail + ", " + until + ", seen from " + t.Vantage}
}

func beforeAfter(c api.Change) string {
	switch {
	case c.Before == "":
		return c.After
	case c.After == "":
		return c.Before
	}
	return c.Before + " → " + c.After
}
