package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/access"
	"osprey/publishing"
	"osprey/records"
)

// keysCommand returns "osprey keys", which makes, lists and revokes keys of client programs.
func keysCommand() *cli.Command {
	return &cli.Command{
		Name:  "keys",
		Usage: "make, list and revoke keys of client programs",
		Description: "A key is kept by a running service that has records, or listed in osprey.yaml. It is shown when it\n" +
			"is made, and never again: only a slow hash of it is kept. A client sends it with each request:\n" +
			"Authorization: Bearer osprey_…\n\n" +
			"Example:\n   osprey keys add board --role screen\n   osprey keys make board --role screen",
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "make a key, which a running service keeps", ArgsUsage: "NAME",
				Description: "The key holds at once, on all services that share the records.\n\nExample:\n   osprey keys add board --role screen --for 8760h",
				Flags: append(serviceFlags("to"), append(keyFlags(),
					&cli.StringFlag{Name: "by", Usage: "who makes it (default: user@host), where the service does not know it"},
					&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"})...),
				OnUsageError: usageError, Action: addKey,
			},
			{
				Name: "list", Usage: "list the keys that a running service keeps",
				Description: "Example:\n   osprey keys list",
				Flags:       append(serviceFlags("url"), &cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"}), OnUsageError: usageError, Action: listKeys,
			},
			{
				Name: "revoke", Usage: "end a key, or all keys of a name", ArgsUsage: "ID|NAME",
				Description: "It holds no more within a second, on all services that share the records.\n\nExample:\n   osprey keys revoke board",
				Flags:       append(serviceFlags("to"), &cli.StringFlag{Name: "by", Usage: "who revokes it (default: user@host), where the service does not know it"}), OnUsageError: usageError, Action: revokeKey,
			},
			{
				Name: "make", Usage: "make a key to be listed in osprey.yaml, without any service", ArgsUsage: "NAME",
				Description: "Prints the key, and what to write under access: keys:.\n\nExample:\n   osprey keys make board --role screen",
				Flags:       keyFlags(), OnUsageError: usageError, Action: makeKey,
			},
		},
		OnUsageError:    usageError,
		CommandNotFound: notFound,
	}
}

func keyFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "role", Usage: "what it may; may be given several times"},
		&cli.DurationFlag{Name: "for", Usage: "how long it holds, such as 8760h (default: for ever)"},
	}
}

// keyName reads the only argument of a command, the name of a client program, and how long its key holds.
func keyName(c *cli.Command) (name string, until *time.Time, err error) {
	if c.Args().Len() != 1 || strings.TrimSpace(c.Args().First()) == "" {
		return "", nil, wrongUse("say for which client program: osprey keys %s board", c.Name)
	}
	switch d := c.Duration("for"); {
	case d < 0:
		return "", nil, wrongUse("--for is a length of time such as 8760h, found %s", d)
	case d > 0:
		at := time.Now().Add(d).UTC().Truncate(time.Second)
		until = &at
	}
	return c.Args().First(), until, nil
}

func addKey(ctx context.Context, c *cli.Command) error {
	name, until, err := keyName(c)
	if err != nil {
		return err
	}
	if f := c.String("format"); f != "text" && f != "json" {
		return wrongUse("--format is %q; it is text or json", f)
	}
	by := c.String("by")
	if by == "" {
		by = publishing.Myself()
	}
	roles := c.StringSlice("role")
	if roles == nil {
		roles = []string{}
	}
	var made struct {
		records.Key
		Secret string `json:"key"`
	}
	if err := callService(keyed(ctx, c), http.MethodPost, c.String("to"), "/api/v1/keys", map[string]any{"name": name, "roles": roles, "until": until, "by": by}, &made); err != nil {
		return err
	}
	if c.String("format") == "json" {
		return printJSON(c.Root().Writer, made)
	}
	fmt.Fprintln(c.Root().Writer, made.Secret)
	fmt.Fprintf(c.Root().ErrWriter, "osprey: this is the key of %s, and is not shown again; osprey keys revoke %s ends it\n", made.Name, made.ID)
	return nil
}

func listKeys(ctx context.Context, c *cli.Command) error {
	if f := c.String("format"); f != "text" && f != "json" {
		return wrongUse("--format is %q; it is text or json", f)
	}
	var list struct {
		Keys []records.Key `json:"keys"`
	}
	if err := callService(keyed(ctx, c), http.MethodGet, c.String("url"), "/api/v1/keys", nil, &list); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.String("format") == "json" {
		return printJSON(w, list)
	}
	if len(list.Keys) == 0 {
		fmt.Fprintln(w, "no keys are kept; osprey keys add makes one")
		return nil
	}
	t := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
	fmt.Fprintln(t, "ID\tNAME\tROLES\tMADE\tBY\tLAST USE\tSTATE")
	for _, k := range list.Keys {
		var roles []string
		if err := json.Unmarshal(k.Roles, &roles); err != nil {
			return unreachable(fmt.Errorf("what answers at %s is not an Osprey service", c.String("url")))
		}
		state := "holds"
		switch {
		case k.Revoked != nil:
			state = "revoked by " + *k.RevokedBy
		case k.Until != nil && time.Now().After(*k.Until):
			state = "has ended"
		case k.Until != nil:
			state = "until " + k.Until.Local().Format(time.DateOnly)
		}
		used := "-"
		if k.Used != nil {
			used = hourOf(*k.Used)
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", k.ID, k.Name, strings.Join(roles, ", "), hourOf(k.Made), k.By, used, state)
	}
	return t.Flush()
}

func revokeKey(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return wrongUse("say which key: osprey keys revoke ID, or NAME; osprey keys list tells them")
	}
	by := c.String("by")
	if by == "" {
		by = publishing.Myself()
	}
	id := c.Args().First()
	if err := callService(keyed(ctx, c), http.MethodDelete, c.String("to"), "/api/v1/keys/"+url.PathEscape(id)+"?by="+url.QueryEscape(by), nil, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "%s holds no more\n", id)
	return nil
}

// makeKey makes a key for osprey.yaml.
func makeKey(_ context.Context, c *cli.Command) error {
	name, until, err := keyName(c)
	if err != nil {
		return err
	}
	made := access.Make()
	entry := fmt.Sprintf("%s: { name: %q, hash: %q", made.ID, name, made.Hash)
	if roles := c.StringSlice("role"); len(roles) > 0 {
		text, err := json.Marshal(roles) // which YAML reads as well
		if err != nil {
			return err
		}
		entry += ", roles: " + string(text)
	}
	if until != nil {
		entry += fmt.Sprintf(", until: %q", until.Format(time.RFC3339))
	}
	fmt.Fprintln(c.Root().Writer, made)
	fmt.Fprintf(c.Root().ErrWriter, "osprey: this is the key of %s, and is not shown again; write into osprey.yaml:\n\naccess:\n  keys:\n    %s }\n", name, entry)
	return nil
}
