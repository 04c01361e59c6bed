package command

import (
	"context"

	"github.com/urfave/cli/v3"

	"airdrift/api"
)

func (p Program) vendorCommand() *cli.Command {
	return &cli.Command{
		Name:        "vendor",
		Usage:       "tell the makers of MAC addresses",
		ArgsUsage:   "MAC ...",
		Description: "Example: airdrift vendor 3c:5a:b4:01:02:03 3C-5A-B4-01-02-04",
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return wrongUse("want at least one MAC address, such as 3c:5a:b4:01:02:03")
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			var site uint64
			if found, err := findSite(ctx, cl, c.String("site")); err == nil {
				site = found.ID
			} else if c.String("site") != "" {
				return err
			}
			list := make([]api.Vendor, c.Args().Len())
			for i, mac := range c.Args().Slice() {
				if list[i], err = cl.Vendor(ctx, mac, site); err != nil {
					return err
				}
			}
			g := grid{headings: []string{"MAC", "Vendor", "Prefix", "Registered as", "Remark"}}
			for _, v := range list {
				g.add(v.MAC, v.Vendor, v.Prefix, v.Organisation, vendorRemark(v))
			}
			return write(p.Out, c.String("output"), g, list)
		},
	}
}

func vendorRemark(v api.Vendor) string {
	switch {
	case v.Group:
		return "names a group of stations, not a device"
	case v.Shared:
		return "a virtual router's, not one device's"
	case v.FromSite:
		return "by the site's own list"
	case v.Private:
		return "private: chosen by the device, tells no maker"
	case v.Organisation == "":
		return "not registered"
	}
	return ""
}
