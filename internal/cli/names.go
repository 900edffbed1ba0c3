package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/server"
)

func (t *terminal) names() *cobra.Command {
	return group("names", "Decide which model or preset answers under a name that applications ask for", t.namesSet(), t.namesList(), t.namesForget())
}

func (t *terminal) namesSet() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "set NAME MODEL",
		Short: "Have a model or preset answer under a name, from now on; \"*\" is the name for all others",
		Example: `  kindred names set timetable harbour-4m
  kindred names set "*" harbour-4m`,
		Args: exactly("a name", "the model or preset that answers"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var n catalog.Name
			if err := gate.call(c.Context(), http.MethodPut, "/gate/names", catalog.Name{Name: args[0], Target: args[1]}, &n); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "%s answers under %s from now on.\n", n.Target, asked(n.Name))
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}

// asked is how a public name is spoken of.
func asked(name string) string {
	if name == catalog.AnyName {
		return "every name that nothing else has"
	}
	return fmt.Sprintf("%q", name)
}

func (t *terminal) namesList() *cobra.Command {
	return listing(t, "List the public names", func(ctx context.Context, gate *client) (got server.NameList, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/names", nil, &got)
	}, func(got server.NameList) (rows [][]string, empty string) {
		if len(got.Names) == 0 {
			return nil, "There is no public name yet: \"kindred names set\" makes one."
		}
		rows = [][]string{{"NAME", "ANSWERED BY"}}
		for _, n := range got.Names {
			name := n.Name
			if name == catalog.AnyName {
				name = "* (all others)"
			}
			rows = append(rows, []string{name, n.Target})
		}
		return rows, ""
	})
}

func (t *terminal) namesForget() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "forget NAME",
		Short: "Forget a public name; what answered under it stays",
		Args:  exactly("a name"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			if err := gate.call(c.Context(), http.MethodDelete, "/gate/names?name="+url.QueryEscape(args[0]), nil, nil); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "Nothing answers under %s any more.\n", asked(args[0]))
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}
