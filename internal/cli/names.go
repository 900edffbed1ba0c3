package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/server"
)

func (t *terminal) names() *cobra.Command {
	return group("names", "Map names that applications ask for to models and presets", t.namesSet(), t.namesList(), t.namesDrain(true), t.namesDrain(false), t.namesRemove())
}

func (t *terminal) namesSet() *cobra.Command {
	var flags clientFlags
	var strategy, shadow string
	var shares, keys, headers []string
	var shadowShare float64
	cmd := &cobra.Command{
		Use:   "set NAME MODEL...",
		Short: "Set which models or presets serve a name; \"*\" catches all other names",
		Long: `Have models or presets serve a name, from now on, without a restart. Answers in progress stay where they are.

Of several targets one is chosen by --strategy: in_order (the first that can), least_busy, weighted (by chance, in the proportions of --share) or
prefix_affinity (the one that has read the conversation). Only healthy targets are chosen that can do what a request needs, and the next one
follows where one fails before its first token; the answer's header Kindred-Answered-By says which it was.`,
		Example: `  kindred names set timetable harbour-4m
  kindred names set helper attic/harbour-4m harbour-4m
  kindred names set helper attic/harbour-4m cellar/harbour-4m --strategy weighted --share attic/harbour-4m=3
  kindred names set helper harbour-4m --shadow attic/harbour-8m --shadow-share 0.1
  kindred names set "*" harbour-4m`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usageError{fmt.Errorf("give a name, and the models or presets that answer")}
			}
			return nil
		},
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			n := catalog.Name{Name: args[0]}
			if err := n.Strategy.UnmarshalText([]byte(strings.ReplaceAll(strategy, "-", "_"))); err != nil {
				return err
			}
			for _, to := range args[1:] {
				n.Of = append(n.Of, catalog.Target{To: to})
			}
			err := forTargets(n.Of, "--share", shares, func(target *catalog.Target, value string) (err error) {
				target.Share, err = strconv.Atoi(value)
				return err
			})
			if err == nil {
				err = forTargets(n.Of, "--for-key", keys, func(target *catalog.Target, value string) error {
					target.Keys = append(target.Keys, value)
					return nil
				})
			}
			if err == nil {
				err = forTargets(n.Of, "--for-header", headers, func(target *catalog.Target, value string) error {
					target.Header = value
					return nil
				})
			}
			if err != nil {
				return err
			}
			if shadow != "" {
				n.Shadow = &catalog.Shadow{To: shadow, Share: shadowShare}
			}
			if err := gate.call(c.Context(), http.MethodPut, "/gate/names", n, &n); err != nil {
				return err
			}
			_, err = fmt.Fprintf(t.out, "%s serves %s from now on.\n", n.Said(), asked(n.Name))
			return err
		}),
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&strategy, "strategy", "", "how one of several targets is chosen: in_order, least_busy, weighted, prefix_affinity or placement")
	formerly(cmd.Flags(), "any", "strategy")
	cmd.Flags().StringArrayVar(&shares, "share", nil, "a target's share, as MODEL=3")
	cmd.Flags().StringArrayVar(&keys, "for-key", nil, "keep a target for a key or a group of keys, as MODEL=LABEL")
	cmd.Flags().StringArrayVar(&headers, "for-header", nil, "keep a target for requests with a header, as MODEL=\"x-tier: gold\"")
	cmd.Flags().StringVar(&shadow, "shadow", "", "a model or preset that some requests also go to; its answers are compared, and not given")
	cmd.Flags().Float64Var(&shadowShare, "shadow-share", 1, "the share of requests for the shadow, from 0 to 1")
	return cmd
}

// forTargets reads values of a flag, each for one of the targets.
func forTargets(of []catalog.Target, flag string, values []string, set func(target *catalog.Target, value string) error) error {
	for _, v := range values {
		to, value, ok := strings.Cut(v, "=")
		i := slices.IndexFunc(of, func(t catalog.Target) bool { return t.To == to })
		if !ok || i < 0 {
			return usageError{fmt.Errorf("%s is %q; it must be one of the targets, \"=\" and a value", flag, v)}
		}
		if err := set(&of[i], value); err != nil {
			return usageError{fmt.Errorf("%s is %q; %q is no number", flag, v, value)}
		}
	}
	return nil
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
		rows = [][]string{{"NAME", "SERVED BY"}}
		for _, n := range got.Names {
			name := n.Name
			if name == catalog.AnyName {
				name = "* (all others)"
			}
			rows = append(rows, []string{name, n.Said()})
		}
		return rows, ""
	})
}

// namesDrain takes a target of a name out of use, or back into it.
func (t *terminal) namesDrain(drain bool) *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "drain NAME MODEL",
		Short: "Send nothing new to a target of a name; what is in progress there finishes",
		Args:  exactly("a name", "the target"),
	}
	if !drain {
		cmd.Use, cmd.Short = "restore NAME MODEL", "Send requests to a drained target again"
	}
	cmd.RunE = flags.run(func(c *cobra.Command, gate *client, args []string) error {
		var list server.NameList
		if err := gate.call(c.Context(), http.MethodGet, "/gate/names", nil, &list); err != nil {
			return err
		}
		i := slices.IndexFunc(list.Names, func(n catalog.Name) bool { return n.Name == args[0] })
		if i < 0 {
			return fmt.Errorf("there is no public name %s; \"kindred names list\" shows them", asked(args[0]))
		}
		n, found := list.Names[i], false
		for j := range n.Of {
			if n.Of[j].To == args[1] {
				n.Of[j].Drained, found = drain, true
			}
		}
		if !found {
			return fmt.Errorf("%s is not served by %q; its targets: %s", asked(n.Name), args[1], n.Said())
		}
		if err := gate.call(c.Context(), http.MethodPut, "/gate/names", n, &n); err != nil {
			return err
		}
		_, err := fmt.Fprintf(t.out, "%s serves %s from now on.\n", n.Said(), asked(n.Name))
		return err
	})
	flags.add(cmd)
	return cmd
}

func (t *terminal) namesRemove() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:     "remove NAME",
		Aliases: otherwiseRemove,
		Short:   "Remove a public name; its models and presets stay",
		Args:    exactly("a name"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			if err := gate.call(c.Context(), http.MethodDelete, "/gate/names?name="+url.QueryEscape(args[0]), nil, nil); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "Nothing serves %s any more.\n", asked(args[0]))
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}
