package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kindredgate/internal/record"
	"kindredgate/internal/runner/remote"
	"kindredgate/internal/server"
)

func (t *terminal) machines() *cobra.Command {
	return group("machines", "Show the machines whose models the gate offers, and have others join", t.machinesList(), t.machinesShow(), t.machinesProbe(), t.machinesInvite(), t.machinesRevoke(), t.machinesWhy())
}

func machineList(ctx context.Context, gate *client) (got server.MachineList, err error) {
	return got, gate.call(ctx, http.MethodGet, "/gate/machines", nil, &got)
}

func (t *terminal) machinesList() *cobra.Command {
	return listing(t, "List the machines and their health", machineList, func(got server.MachineList) (rows [][]string, empty string) {
		if len(got.Machines) == 0 {
			return nil, "There is no machine yet: \"runners\" in the configuration names servers (docs/runners.md), and \"kindred machines invite\" has others join (docs/fleet.md)."
		}
		rows = [][]string{{"MACHINE", "KIND", "STATE", "MODELS", "OPEN", "TTFT", "ADDRESS"}}
		for _, m := range got.Machines {
			rows = append(rows, []string{m.Name, string(m.Kind), health(m), fmt.Sprint(len(m.Models)), fmt.Sprint(m.Open), milliseconds(m.FirstMS), cmp.Or(m.URL, "-")})
		}
		return rows, ""
	})
}

// health says in a word or two how a machine does.
func health(m server.MachineState) string {
	switch {
	case m.Joined != nil && m.Healthy:
		return "healthy"
	case m.Joined != nil && m.Why != "":
		return "away: " + cut(m.Why, 80)
	case !m.Healthy:
		return "circuit open: " + cut(m.Why, 60)
	case m.Looked.IsZero() && m.Why != "":
		return "not seen yet: " + cut(m.Why, 60)
	case m.Looked.IsZero():
		return "not seen yet"
	case m.Why != "":
		return "healthy; last: " + cut(m.Why, 60)
	}
	return "healthy"
}

func milliseconds(ms float64) string {
	if ms == 0 {
		return "-"
	}
	return fmt.Sprintf("%.0f ms", ms)
}

func (t *terminal) machinesShow() *cobra.Command {
	return looking(t, "show MACHINE", "Show a machine, its models and their capabilities", exactly("a machine"), func(ctx context.Context, gate *client, args []string) (m server.MachineState, err error) {
		list, err := machineList(ctx, gate)
		if err != nil {
			return m, err
		}
		var names []string
		for _, m := range list.Machines {
			if m.Name == args[0] {
				return m, nil
			}
			names = append(names, m.Name)
		}
		return m, fmt.Errorf("there is no machine %q; these are: %s", args[0], strings.Join(names, ", "))
	}, t.showMachine)
}

func (t *terminal) showMachine(m server.MachineState) error {
	rows := [][]string{{"address", cmp.Or(m.URL, "none: it has joined by itself")}, {"state", health(m)}, {"prompts", map[string]string{"conversation": "rendered by the server", "prompt": "rendered here", "form": "in a form of its own"}[m.Mode]},
		{"open", fmt.Sprintf("%d answers", m.Open)}, {"first token", milliseconds(m.FirstMS)}, {"styles", canDo(m.Abilities, endpoints)}}
	if j := m.Joined; j != nil {
		most := "any number"
		if j.AtOnce > 0 {
			most = fmt.Sprint(j.AtOnce)
		}
		rows = append(rows, []string{"joined", j.Since.Local().Format(time.DateTime)}, []string{"version", j.Program}, []string{"line", fmt.Sprintf("%.1f ms", j.Line)}, []string{"clock", fmt.Sprintf("%+.1f s", j.Skew/1000)},
			[]string{"answers", fmt.Sprintf("%d in progress for all gates, %s at once", j.Open, most)})
		if j.Returns > 0 {
			rows = append(rows, []string{"reconnects", fmt.Sprintf("%d in the last 10 minutes", j.Returns)})
		}
	}
	if len(m.Pass) > 0 {
		rows = append(rows, []string{"passed on", strings.Join(m.Pass, ", ")})
	}
	if len(m.Faults) > 0 {
		var list []string
		for _, what := range slices.Sorted(maps.Keys(m.Faults)) {
			list = append(list, fmt.Sprintf("%s %d times", what, m.Faults[what]))
		}
		rows = append(rows, []string{"wrong in its answers", strings.Join(list, ", ")})
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	fmt.Fprintln(t.out)
	if m.Joined != nil {
		return t.showJoinedModels(m)
	}
	models := [][]string{{"MODEL", "CONTEXT", "CAN", "CANNOT"}}
	for _, one := range m.Models {
		context := "-"
		if one.Context > 0 {
			context = fmt.Sprint(one.Context)
		}
		can, cannot := canDo(one.Abilities, features), lacking(one.Abilities)
		if one.Probed.IsZero() && m.Mode != "form" {
			can, cannot = fmt.Sprintf("not probed yet: \"kindred machines probe %s\"", m.Name), ""
		}
		if one.Failing {
			can = "circuit open: it failed several times in a row"
		}
		models = append(models, []string{m.Name + "/" + one.Name, context, can, cannot})
	}
	return table(t.out, models...)
}

// showJoinedModels shows what a machine that has joined says of its models.
func (t *terminal) showJoinedModels(m server.MachineState) error {
	rows := [][]string{{"MODEL", "CONTEXT", "LOADED", "REQUESTS", "PROMPT TOKENS/S", "OUTPUT TOKENS/S", "CANNOT"}}
	speed := func(x float64) string {
		if x == 0 {
			return "-"
		}
		return fmt.Sprintf("%.0f", x)
	}
	for _, one := range m.Models {
		row := []string{m.Name + "/" + one.Name, fmt.Sprint(one.Context), "no", "0", "-", "-", lacking(one.Abilities)}
		for _, s := range m.Joined.Models {
			if s.Name != one.Name {
				continue
			}
			if s.Loaded {
				row[2] = "yes"
			}
			row[3], row[4], row[5] = fmt.Sprint(s.Queued), speed(s.Prefill), speed(s.Decode)
		}
		rows = append(rows, row)
	}
	return table(t.out, rows...)
}

func (t *terminal) machinesInvite() *cobra.Command {
	var flags clientFlags
	var valid time.Duration
	cmd := &cobra.Command{
		Use:   "invite NAME",
		Short: "Print the command by which another machine joins the gate; it works once",
		Example: `  kindred machines invite attic
  kindred machines invite attic --valid 2h`,
		Args: exactly("a name for the machine"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var i server.Invitation
			if err := gate.call(c.Context(), http.MethodPost, "/gate/machines", map[string]string{"name": args[0], "valid": valid.String()}, &i); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "On the machine that is to be %q, until %s:\n\n  %s\n", i.Name, i.Expires.Local().Format(time.DateTime), i.Command)
			return err
		}),
	}
	flags.add(cmd)
	cmd.Flags().DurationVar(&valid, "valid", 15*time.Minute, "how long it can be used")
	return cmd
}

func (t *terminal) machinesRevoke() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "revoke MACHINE",
		Short: "End a machine's leave to work for the gate; its answers in progress end",
		Args:  exactly("a machine"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			if err := gate.call(c.Context(), http.MethodDelete, "/gate/machines/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			_, err := fmt.Fprintf(t.out, "The machine %q is revoked: it is connected no more, and cannot come in again unless it is invited.\n", args[0])
			return err
		}),
	}
	flags.add(cmd)
	return cmd
}

func (t *terminal) machinesWhy() *cobra.Command {
	return looking(t, "why EXCHANGE", "Explain why a request went to the machine that answered it", exactly("the id of an exchange"), func(ctx context.Context, gate *client, args []string) (got server.ShownExchange, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/exchanges/"+url.PathEscape(args[0]), nil, &got)
	}, func(got server.ShownExchange) error {
		r := got.Record
		if len(r.Placed) == 0 {
			_, err := fmt.Fprintf(t.out, "%s was served by %s, which no placement chose: its name has one target, or another strategy.\n", r.ID, cmp.Or(r.Answered, "nothing"))
			return err
		}
		rows := [][]string{{"TARGET", "EXPECTED", "LINE", "LOAD", "QUEUE", "PROMPT", "ANSWER", "CACHED", "REQUESTS"}}
		for _, e := range r.Placed {
			target := e.Target
			if target == r.Answered || target == r.Preset {
				target += " (chosen)"
			}
			rows = append(rows, []string{target, record.Took(e.Total), record.Took(e.Line), record.Took(e.Load), record.Took(e.Queue), record.Took(e.Prefill), record.Took(e.Decode), fmt.Sprintf("%d tokens", e.Cached), fmt.Sprint(e.Queued)})
		}
		if err := table(t.out, rows...); err != nil {
			return err
		}
		for _, skipped := range r.PassedOver {
			fmt.Fprintf(t.out, "Skipped: %s\n", skipped)
		}
		_, err := fmt.Fprintf(t.out, "It took %s, and %s to the first token.\n", record.Took(r.Took), record.Took(r.FirstToken))
		return err
	})
}

// ability is something that a server can do, as it is spoken of.
type ability struct {
	name string
	of   func(remote.Abilities) remote.Answer
}

var endpoints = []ability{
	{"chat", func(a remote.Abilities) remote.Answer { return a.Chat }}, {"completion", func(a remote.Abilities) remote.Answer { return a.Raw }},
	{"response", func(a remote.Abilities) remote.Answer { return a.Responses }}, {"embedding", func(a remote.Abilities) remote.Answer { return a.Vectors }},
}

var features = []ability{
	{"streams", func(a remote.Abilities) remote.Answer { return a.Streams }}, {"usage in streams", func(a remote.Abilities) remote.Answer { return a.Usage }},
	{"tools", func(a remote.Abilities) remote.Answer { return a.Tools }}, {"formats", func(a remote.Abilities) remote.Answer { return a.Formats }},
	{"log-probabilities", func(a remote.Abilities) remote.Answer { return a.Scores }}, {"pictures", func(a remote.Abilities) remote.Answer { return a.Images }},
	{"prompts as tokens", func(a remote.Abilities) remote.Answer { return a.TokenPrompts }}, {"formats of completions", func(a remote.Abilities) remote.Answer { return a.RawFormats }},
}

func canDo(a remote.Abilities, list []ability) string { return abilities(a, list, remote.Yes) }

func lacking(a remote.Abilities) string { return abilities(a, features, remote.No) }

func abilities(a remote.Abilities, list []ability, want remote.Answer) string {
	var names []string
	for _, one := range list {
		if one.of(a) == want {
			names = append(names, one.name)
		}
	}
	if len(names) == 0 {
		return "-"
	}
	return strings.Join(names, ", ")
}

func (t *terminal) machinesProbe() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "probe MACHINE [MODEL]",
		Short: "Probe what a machine's models support, with short requests",
		Args:  cobra.RangeArgs(1, 2),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			body := map[string]string{}
			if len(args) == 2 {
				body["model"] = strings.TrimPrefix(args[1], args[0]+"/")
			}
			var m server.MachineState
			if err := gate.call(c.Context(), http.MethodPost, "/gate/machines/"+url.PathEscape(args[0])+"/probe", body, &m); err != nil {
				return err
			}
			return t.showMachine(m)
		}),
	}
	flags.add(cmd)
	return cmd
}
