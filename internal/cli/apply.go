package cli

import (
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"kindredgate/internal/config"
	"kindredgate/internal/server"
)

func (t *terminal) apply() *cobra.Command {
	var flags clientFlags
	var check, asJSON bool
	cmd := &cobra.Command{
		Use:   "apply FILE",
		Short: "Have the gate follow the names, presets and keys of a file",
		Long: `Have the gate follow the sections names, presets and keys of a file: all of it, or nothing if something in it is wrong. With --check it is
only shown what would change. A section that is not in the file is left alone; names and presets that a section does not have are
removed. Keys are found by their labels; one that is missing is created, and none is ever revoked.`,
		Example: `  kindred apply gate.yaml --check
  kindred apply gate.yaml`,
		Args: exactly("a file"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			return t.applyFile(c, gate, args[0], check, asJSON)
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&check, "check", false, "only show what would change")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

// arrange is what apply was called before, which only showed what it would do unless it was told otherwise.
func (t *terminal) arrange() *cobra.Command {
	var flags clientFlags
	var carryOut, asJSON bool
	cmd := &cobra.Command{
		Use: "arrange FILE", Hidden: true, Short: "What apply was called before",
		Args: exactly("a file"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			fmt.Fprintln(t.err, "kindred: \"arrange\" is called \"apply\" now, and \"apply --check\" only looks")
			return t.applyFile(c, gate, args[0], !carryOut, asJSON)
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&carryOut, "carry-out", false, "do it")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

func (t *terminal) applyFile(c *cobra.Command, gate *client, file string, check, asJSON bool) error {
	raw, err := config.Declarations(file)
	if err != nil {
		return err
	}
	path := "/gate/apply"
	if check {
		path += "?check=true"
	}
	gate.exact = asJSON
	var done server.Applied
	if err := gate.call(c.Context(), http.MethodPost, path, json.RawMessage(raw), &done); err != nil {
		return fmt.Errorf("%s: %w; nothing was changed", file, err)
	}
	if asJSON {
		return t.printJSON(done)
	}
	if len(done.Steps) == 0 {
		_, err := fmt.Fprintf(t.out, "The gate is as %s declares it.\n", shown(file))
		return err
	}
	head := "CHANGED"
	if check {
		head = "WOULD CHANGE"
	}
	rows := [][]string{{"WHAT", "NAME", head}}
	for _, s := range done.Steps {
		rows = append(rows, []string{s.What, s.Name, s.Change})
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	if check {
		_, err := fmt.Fprintln(t.out, "\nNothing was changed: --check only looks.")
		return err
	}
	fmt.Fprintf(t.out, "\nApplied: %d changes.\n", len(done.Steps))
	for _, s := range done.Steps {
		if s.Key != "" {
			fmt.Fprintf(t.out, "\n%s\n  the key of %q, shown this once\n", s.Key, shown(s.Name))
		}
	}
	return nil
}
