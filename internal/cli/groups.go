package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"kindredgate/internal/server"
)

func (t *terminal) groups() *cobra.Command {
	return group("groups", "Share limits among several keys", t.groupsSet(), t.groupsList(), t.groupsRemove())
}

func (t *terminal) groupsSet() *cobra.Command {
	var flags clientFlags
	var limits limitFlags
	cmd := &cobra.Command{
		Use:   "set NAME",
		Short: "Make a group of keys, or give it other limits; those that are not named are none",
		Example: `  kindred groups set harbour --tokens-per-day 500000
  kindred keys change "timetable bot" --group harbour`,
		Args: exactly("a name"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			if err := gate.call(c.Context(), http.MethodPut, "/gate/groups", map[string]any{"name": args[0], "limits": limits.given(c)}, nil); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "The group %q has these limits from its next request on.\n", args[0])
			return err
		}),
	}
	flags.add(cmd)
	limits.add(cmd)
	return cmd
}

func (t *terminal) groupsList() *cobra.Command {
	return listing(t, "List the groups, with what is left of their limits", func(ctx context.Context, gate *client) (got server.GroupList, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/groups", nil, &got)
	}, func(got server.GroupList) (rows [][]string, empty string) {
		if len(got.Groups) == 0 {
			return nil, "There is no group yet: \"kindred groups set\" makes one."
		}
		rows = [][]string{{"GROUP", "LIMIT", "REMAINING", "OF", "RESETS IN"}}
		for _, g := range got.Groups {
			if len(g.Standing) == 0 {
				rows = append(rows, []string{g.Name, "nothing in time", "", "", ""})
			}
			for _, s := range g.Standing {
				rows = append(rows, append([]string{g.Name, s.What}, standingCells(s)...))
			}
		}
		return rows, ""
	})
}

func (t *terminal) groupsRemove() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:     "remove NAME",
		Aliases: otherwiseRemove,
		Short:   "Remove a group that no valid key belongs to",
		Args:    exactly("a name"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			if err := gate.call(c.Context(), http.MethodDelete, "/gate/groups?name="+url.QueryEscape(args[0]), nil, nil); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "The group %q is removed.\n", args[0])
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}
