package command

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"airdrift/api"
	"airdrift/client"
)

func roleFlag() cli.Flag {
	return &cli.StringFlag{Name: "role", Usage: "`ROLE`: look reads; sweep also sweeps, writes notes and keeps the register; administer also keeps sites, fences and users", Value: "look"}
}

func (p Program) userCommand() *cli.Command {
	return &cli.Command{
		Name:        "user",
		Usage:       "who may sign in, and what each may do",
		Description: "Passwords are read from standard input.\nExamples: airdrift user add mason --role sweep, airdrift user role mason --role look",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list all users", Action: func(ctx context.Context, c *cli.Command) error {
				cl, err := connect(c)
				if err != nil {
					return err
				}
				return p.listUsers(ctx, c, cl)
			}},
			{Name: "add", Usage: "add a user", ArgsUsage: "NAME", Flags: []cli.Flag{roleFlag()}, Action: p.onUser(
				func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					password, err := p.secrets().read("Password of "+name+": ", "password")
					if err != nil {
						return err
					}
					_, err = cl.CreateUser(ctx, api.NewUser{Name: name, Role: c.String("role"), Password: password})
					return err
				})},
			{Name: "role", Usage: "change what a user may do", ArgsUsage: "NAME", Flags: []cli.Flag{roleFlag()}, Action: p.onUser(
				func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					return cl.SetRole(ctx, name, c.String("role"))
				})},
			{Name: "password", Usage: "give a user a new password", ArgsUsage: "NAME", Action: p.onUser(
				func(ctx context.Context, _ *cli.Command, cl *client.Client, name string) error {
					password, err := p.secrets().read("New password of "+name+": ", "password")
					if err != nil {
						return err
					}
					return cl.ResetPassword(ctx, name, password)
				})},
			{Name: "delete", Usage: "delete a user, tokens and sessions included", ArgsUsage: "NAME", Action: p.onUser(
				func(ctx context.Context, _ *cli.Command, cl *client.Client, name string) error {
					return cl.DeleteUser(ctx, name)
				})},
			{Name: "access", Usage: "list the sessions and tokens of a user", ArgsUsage: "NAME", Action: p.showAccess},
			{Name: "revoke", Usage: "end the sessions and delete the tokens of a user", ArgsUsage: "NAME", Action: p.onUser(
				func(ctx context.Context, _ *cli.Command, cl *client.Client, name string) error {
					return cl.RevokeUserAccess(ctx, name)
				})},
			{Name: "reset-second-factor", Usage: "turn the second factor of a user off who has lost it", ArgsUsage: "NAME", Action: p.onUser(
				func(ctx context.Context, _ *cli.Command, cl *client.Client, name string) error {
					return cl.ResetSecondFactor(ctx, name)
				})},
		},
	}
}

// onUser makes an action on the user that the only argument names, after which all users are listed.
func (p Program) onUser(act func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if c.Args().Len() != 1 {
			return wrongUse("want one name of a user")
		}
		cl, err := connect(c)
		if err != nil {
			return err
		}
		if err := act(ctx, c, cl, c.Args().First()); err != nil {
			return err
		}
		return p.listUsers(ctx, c, cl)
	}
}

func (p Program) listUsers(ctx context.Context, c *cli.Command, cl *client.Client) error {
	list, err := cl.Users(ctx)
	if err != nil {
		return err
	}
	g := grid{headings: []string{"User|name", "Role", "Second factor", "Since"}}
	for _, u := range list {
		second := "no"
		if u.SecondFactor {
			second = "yes"
		}
		g.add(u.Name, u.Role, second, at(&u.Created))
	}
	return write(p.Out, c.String("output"), g, list)
}

func (p Program) showAccess(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return wrongUse("want one name of a user")
	}
	cl, err := connect(c)
	if err != nil {
		return err
	}
	access, err := cl.UserAccess(ctx, c.Args().First())
	if err != nil {
		return err
	}
	g := grid{headings: []string{"Opens", "For", "Since", "Used", "Until"}}
	for _, s := range access.Sessions {
		g.add("session", s.Origin, at(&s.Began), at(&s.Used), "")
	}
	for _, t := range access.Tokens {
		g.add("token", t.Label, at(&t.Created), usedText(t), at(&t.Expires))
	}
	return write(p.Out, c.String("output"), g, access)
}

func usedText(t api.Token) cell {
	if t.Used.IsZero() {
		return cell{shown: "never"}
	}
	return at(&t.Used)
}

func (p Program) tokenCommand() *cli.Command {
	return &cli.Command{
		Name:  "token",
		Usage: "your tokens, for a command line on another machine",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list your tokens", Action: func(ctx context.Context, c *cli.Command) error {
				cl, err := connect(c)
				if err != nil {
					return err
				}
				list, err := cl.Tokens(ctx)
				if err != nil {
					return err
				}
				return p.writeTokens(c, list)
			}},
			{Name: "add", Usage: "make a token; it is told once", ArgsUsage: "LABEL", Flags: []cli.Flag{
				&cli.IntFlag{Name: "days", Usage: "for how many `DAYS` it is good, up to 366", Value: 90},
			}, Action: func(ctx context.Context, c *cli.Command) error {
				if c.Args().Len() != 1 {
					return wrongUse("want a label that says what the token is for")
				}
				cl, err := connect(c)
				if err != nil {
					return err
				}
				token, err := cl.CreateToken(ctx, c.Args().First(), c.Int("days"))
				if err != nil {
					return err
				}
				if c.String("output") == "table" {
					_, err = fmt.Fprintln(p.Out, token.Secret)
					return err
				}
				return p.writeTokens(c, []api.Token{token})
			}},
			{Name: "delete", Usage: "delete a token", ArgsUsage: "NUMBER", Action: func(ctx context.Context, c *cli.Command) error {
				id, err := strconv.ParseUint(c.Args().First(), 10, 64)
				if err != nil {
					return wrongUse("want the number of a token: airdrift token list shows them")
				}
				cl, err := connect(c)
				if err != nil {
					return err
				}
				return cl.DeleteToken(ctx, id)
			}},
		},
	}
}

func (p Program) writeTokens(c *cli.Command, list []api.Token) error {
	g := grid{headings: []string{"No|id", "Label", "Since", "Used", "Until"}}
	for _, t := range list {
		g.add(strconv.FormatUint(t.ID, 10), t.Label, at(&t.Created), usedText(t), at(&t.Expires))
	}
	return write(p.Out, c.String("output"), g, list)
}

func (p Program) auditCommand() *cli.Command {
	return &cli.Command{
		Name:  "audit",
		Usage: "who did what, when and from where; the newest first",
		Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Usage: "at most so many `LINES`; all where left out"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			list, err := cl.Audit(ctx, c.Int("limit"))
			if err != nil {
				return err
			}
			g := grid{headings: []string{"At", "Who", "Role", "From", "Action", "Subject", "Outcome"}}
			for _, l := range list {
				g.add(atSecond(l.At), l.Who, l.Role, l.Origin, l.Action, l.Subject, strconv.Itoa(l.Outcome))
			}
			return write(p.Out, c.String("output"), g, list)
		},
	}
}
