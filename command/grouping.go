package command

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func reasonFlags(more ...cli.Flag) []cli.Flag {
	return append(more, &cli.StringFlag{Name: "reason", Usage: "`WHY`, for those who come after"}, &cli.BoolFlag{Name: "preview", Usage: "only show what would follow"})
}

func (p Program) deviceMerge() *cli.Command {
	return &cli.Command{
		Name: "merge", Usage: "say that two devices are one; device decisions --undo takes it back", ArgsUsage: "DEVICE OTHER",
		Flags: reasonFlags(&cli.BoolFlag{Name: "despite", Usage: "even if something speaks against it"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return wrongUse("want two devices, each by its number, address, MAC address or name")
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			one, err := findDevice(ctx, cl, c, c.Args().Get(0))
			if err != nil {
				return err
			}
			other, err := findDevice(ctx, cl, c, c.Args().Get(1))
			if err != nil {
				return err
			}
			done, err := cl.Merge(ctx, one, api.Merging{Other: other, Reason: c.String("reason"), Despite: c.Bool("despite"), Preview: c.Bool("preview")})
			if err != nil {
				return err
			}
			return p.writeGrouping(c, done)
		},
	}
}

func (p Program) deviceSplit() *cli.Command {
	return &cli.Command{
		Name: "split", Usage: "say that a part of a device is another one; device decisions --undo takes it back", ArgsUsage: "DEVICE",
		Flags: reasonFlags(&cli.StringSliceFlag{Name: "address", Usage: "IP `ADDRESS` of the part; may be given again"}, &cli.StringSliceFlag{Name: "mac", Usage: "`MAC` address of the part; may be given again"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			done, err := cl.Split(ctx, id, api.Splitting{Addrs: c.StringSlice("address"), MACs: c.StringSlice("mac"), Reason: c.String("reason"), Preview: c.Bool("preview")})
			if err != nil {
				return err
			}
			return p.writeGrouping(c, done)
		},
	}
}

func (p Program) devicePin() *cli.Command {
	return &cli.Command{
		Name: "pin", Usage: "say that whoever is met at an address, or with a MAC address, is a device", ArgsUsage: "DEVICE ADDRESS",
		Flags: reasonFlags(&cli.BoolFlag{Name: "despite", Usage: "even if something speaks against it"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return wrongUse("want a device, and the IP address or MAC address to pin it to")
			}
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			done, err := cl.Pin(ctx, id, api.Pinning{At: c.Args().Get(1), Reason: c.String("reason"), Despite: c.Bool("despite"), Preview: c.Bool("preview")})
			if err != nil {
				return err
			}
			return p.writeGrouping(c, done)
		},
	}
}

func (p Program) deviceLink() *cli.Command {
	return &cli.Command{
		Name: "link", Usage: "say which entry of the register a device is; device decisions --undo takes it back", ArgsUsage: "DEVICE ENTRY",
		Description: "airdrift register show lists the entries with their numbers, and register show --missing those that no device is taken for.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "`WHY`, for those who come after"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			entry, err := strconv.ParseUint(c.Args().Get(1), 10, 64)
			if c.Args().Len() != 2 || err != nil {
				return wrongUse("want a device and the number of an entry of the register")
			}
			cl, id, err := connectDevice(ctx, c)
			if err != nil {
				return err
			}
			decision, err := cl.Link(ctx, id, api.Linking{Entry: entry, Reason: c.String("reason")})
			if err != nil {
				return err
			}
			fmt.Fprintf(p.Err, "Decided; decision %d takes it back when it is undone.\n", decision)
			return p.showDevice(ctx, c, cl, id)
		},
	}
}

func (p Program) deviceGroup() *cli.Command {
	return &cli.Command{
		Name: "group", Usage: "say what a device belongs to, as a floor or a rack; without a name take it out", ArgsUsage: "DEVICE [NAME ...]",
		Action: p.changing(func(ctx context.Context, c *cli.Command, cl *client.Client, id uint64) error {
			return cl.SetGroup(ctx, id, strings.Join(c.Args().Tail(), " "))
		}),
	}
}

func (p Program) writeGrouping(c *cli.Command, done api.Grouping) error {
	if done.Decision == 0 {
		fmt.Fprintln(p.Err, "Nothing is changed. This would follow:")
	} else {
		fmt.Fprintf(p.Err, "Decided; decision %d takes it back when it is undone.\n", done.Decision)
	}
	return p.writeDevices(c.String("output"), done.Devices)
}
