package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"
)

// listing makes the command that lists something of a gate, as a table or as JSON. fetch gives the list, and rows its table with the
// heading, or a sentence that says that there is nothing.
func listing[T any](t *terminal, short string, fetch func(ctx context.Context, gate *client) (T, error), rows func(T) (table [][]string, empty string)) *cobra.Command {
	return looking(t, "list", short, exactly(), func(ctx context.Context, gate *client, _ []string) (T, error) { return fetch(ctx, gate) }, func(list T) error {
		cells, empty := rows(list)
		if empty != "" {
			_, err := fmt.Fprintln(t.out, empty)
			return err
		}
		return table(t.out, cells...)
	})
}

// looking makes a command that shows something of a gate, to a person or as JSON.
func looking[T any](t *terminal, use, short string, args cobra.PositionalArgs, fetch func(ctx context.Context, gate *client, args []string) (T, error), show func(T) error) *cobra.Command {
	return lookingWith(t, clientFlags{}, use, short, args, fetch, show)
}

// lookingWith is looking, with what is known of the key to use.
func lookingWith[T any](t *terminal, flags clientFlags, use, short string, args cobra.PositionalArgs, fetch func(ctx context.Context, gate *client, args []string) (T, error), show func(T) error) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   use,
		Short: short,
		Args:  args,
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			gate.exact = asJSON
			got, err := fetch(c.Context(), gate, args)
			if err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(got)
			}
			return show(got)
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}
