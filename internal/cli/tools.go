package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/spf13/cobra"

	"kindredgate/demo/ferry"
	"kindredgate/internal/loop"
	"kindredgate/internal/server"
	"kindredgate/internal/tool"
)

func (t *terminal) tools() *cobra.Command {
	return group("tools", "Show the tools that the gate runs for models (tools, in the configuration), and try them", t.toolsList(), t.toolsShow(), t.toolsTry(), t.toolsCheck(), t.toolsApprovals(), t.toolsApprove())
}

func toolList(ctx context.Context, gate *client, query string) (got server.ToolList, err error) {
	return got, gate.call(ctx, http.MethodGet, "/gate/tools"+query, nil, &got)
}

func (t *terminal) toolsList() *cobra.Command {
	return listing(t, "List tools and how they do", func(ctx context.Context, gate *client) (server.ToolList, error) { return toolList(ctx, gate, "") }, func(got server.ToolList) (rows [][]string, empty string) {
		if len(got.Servers) == 0 {
			return nil, "No tool server is set up: \"tools\" in the configuration names them, and docs/tools.md says how."
		}
		rows = [][]string{{"TOOL", "CALLS", "FAILED", "MEAN", "READ ONLY", "DESCRIPTION"}}
		for _, s := range got.Servers {
			if s.Tools == 0 {
				rows = append(rows, []string{s.Name, "-", "-", "-", "-", serverState(s)})
			}
			for _, one := range got.Tools {
				if one.Server == s.Name {
					rows = append(rows, []string{one.ID(), fmt.Sprint(one.Calls), fmt.Sprint(one.Failed), milliseconds(one.MeanMS), yesNo(one.ReadOnly), cut(one.Description, 60)})
				}
			}
		}
		return rows, ""
	})
}

func yesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// serverState says in a word or two how a server does.
func serverState(s server.ToolServerInfo) string {
	if s.Error != "" {
		return string(s.State) + ": " + cut(s.Error, 100)
	}
	return string(s.State)
}

func (t *terminal) toolsShow() *cobra.Command {
	return looking(t, "show SERVER[/TOOL]", "Show a tool server, or a tool and its schema", exactly("a server or tool"), func(ctx context.Context, gate *client, args []string) (got server.ToolList, err error) {
		all, err := toolList(ctx, gate, "")
		if err != nil {
			return got, err
		}
		name, _, single := strings.Cut(args[0], "/")
		got.Servers = slices.DeleteFunc(slices.Clone(all.Servers), func(s server.ToolServerInfo) bool { return s.Name != name })
		got.Tools = slices.DeleteFunc(slices.Clone(all.Tools), func(one server.ToolInfo) bool {
			return one.Server != name || single && one.ID() != args[0]
		})
		if len(got.Servers) == 0 || single && len(got.Tools) == 0 {
			return got, fmt.Errorf("there is no tool or tool server %q; these are: %s", args[0], strings.Join(toolNames(all), ", "))
		}
		return got, nil
	}, t.showTools)
}

func toolNames(all server.ToolList) (names []string) {
	for _, s := range all.Servers {
		names = append(names, s.Name)
	}
	for _, one := range all.Tools {
		names = append(names, one.ID())
	}
	if names == nil {
		return []string{"none"}
	}
	return names
}

func (t *terminal) showTools(got server.ToolList) error {
	s := got.Servers[0]
	rows := [][]string{{"server", s.Name}, {"reached by", s.Kind}, {"state", serverState(s) + ", " + ago(s.Since)}}
	for _, line := range s.Skipped {
		rows = append(rows, []string{"left out", line})
	}
	for _, line := range s.Tail[max(0, len(s.Tail)-10):] {
		rows = append(rows, []string{"it wrote", line})
	}
	for _, one := range got.Tools {
		rows = append(rows, []string{"", ""}, []string{"tool", cmp.Or(one.Title, one.Name) + " (" + one.ID() + ")"}, []string{"description", one.Description}, []string{"read only", yesNo(one.ReadOnly)},
			[]string{"calls", fmt.Sprintf("%d, %d of them failed, %s each", one.Calls, one.Failed, milliseconds(one.MeanMS))}, []string{"schema", string(one.Schema)})
	}
	return table(t.out, rows...)
}

func (t *terminal) toolsTry() *cobra.Command {
	cmd := looking(t, "try SERVER/TOOL [ARGUMENTS]", "Call a tool with arguments (a JSON object), and show what it gives", oneOrTwo("a tool", "its arguments"), func(ctx context.Context, gate *client, args []string) (got server.ToolTried, err error) {
		name, one, single := strings.Cut(args[0], "/")
		if !single {
			return got, usageError{fmt.Errorf("a tool has the name SERVER/TOOL; %q is none", args[0])}
		}
		arguments := json.RawMessage("{}")
		if len(args) > 1 {
			if arguments = json.RawMessage(args[1]); !json.Valid(arguments) {
				return got, usageError{fmt.Errorf("the arguments must be a JSON object, such as '{\"island\": \"Osmer\"}'; %s is none", args[1])}
			}
		}
		return got, gate.call(ctx, http.MethodPost, "/gate/tools/try", map[string]any{"server": name, "name": one, "arguments": arguments}, &got)
	}, func(got server.ToolTried) error {
		fmt.Fprintln(t.out, got.Output)
		fmt.Fprintf(t.err, "%s, %d bytes\n", milliseconds(got.MS), got.Bytes)
		if got.Error != nil {
			return fmt.Errorf("the call failed: %s", strings.ReplaceAll(string(got.Error.Kind), "_", " "))
		}
		return nil
	})
	cmd.Example = "  kindred tools try ferry/next_sailing '{\"island\": \"Osmer\", \"after\": \"10:00\"}'"
	return cmd
}

func (t *terminal) toolsCheck() *cobra.Command {
	return looking(t, "check", "Ask every tool server what it offers, and say what is wrong", exactly(), func(ctx context.Context, gate *client, _ []string) (server.ToolList, error) {
		return toolList(ctx, gate, "?check=true")
	}, func(got server.ToolList) error {
		if len(got.Servers) == 0 {
			_, err := fmt.Fprintln(t.out, "No tool server is set up.")
			return err
		}
		bad := 0
		for _, s := range got.Servers {
			word := "ok"
			switch {
			case s.State == tool.Down:
				word = "error"
				bad++
			case len(s.Skipped) > 0:
				word = "warning"
			}
			fmt.Fprintf(t.out, "%-8s %s: %d tools, %s\n", word, s.Name, s.Tools, serverState(s))
			for _, line := range append(slices.Clone(s.Skipped), s.Tail[max(0, len(s.Tail)-5):]...) {
				fmt.Fprintf(t.out, "         %s\n", shown(line))
			}
		}
		if bad > 0 {
			return fmt.Errorf("%d of %d tool servers cannot be used", bad, len(got.Servers))
		}
		return nil
	})
}

// approvalList is what waits for an approval.
type approvalList struct {
	Approvals []loop.Pending `json:"approvals"`
}

func (t *terminal) toolsApprovals() *cobra.Command {
	return looking(t, "approvals", "List calls of responses in the background that wait for an approval", exactly(), func(ctx context.Context, gate *client, _ []string) (got approvalList, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/approvals", nil, &got)
	}, func(got approvalList) error {
		if len(got.Approvals) == 0 {
			_, err := fmt.Fprintln(t.out, "No call waits for an approval.")
			return err
		}
		rows := [][]string{{"APPROVAL", "TOOL", "ARGUMENTS", "KEY", "SINCE", "LAPSES IN"}}
		for _, p := range got.Approvals {
			rows = append(rows, []string{p.ID, p.Server + "/" + p.Name, cut(p.Arguments, 60), p.Key, ago(p.Since), time.Until(p.Until).Round(time.Second).String()})
		}
		return table(t.out, rows...)
	})
}

func (t *terminal) toolsApprove() *cobra.Command {
	var refuse bool
	var reason string
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "approve APPROVAL",
		Short: "Approve a call that waits, or refuse it",
		Args:  exactly("an approval, as \"kindred tools approvals\" lists them"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var got struct{ Approve bool }
			if err := gate.call(c.Context(), http.MethodPost, "/gate/approvals/"+url.PathEscape(args[0]), map[string]any{"approve": !refuse, "reason": reason}, &got); err != nil {
				return err
			}
			word := "approved"
			if refuse {
				word = "refused"
			}
			_, err := fmt.Fprintf(t.out, "%s is %s.\n", args[0], word)
			return err
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&refuse, "refuse", false, "the call is not to be made")
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the model")
	return cmd
}

// demoTools is the tool server of the sample data. The demo starts it.
func (t *terminal) demoTools() *cobra.Command {
	return &cobra.Command{
		Use:    "demo-tools",
		Short:  "Be the tool server of the sample data, over standard input and output",
		Hidden: true,
		Args:   exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			return ferry.Server(Version).Run(c.Context(), &mcp.IOTransport{Reader: io.NopCloser(t.in), Writer: unclosed{t.out}})
		},
	}
}

// unclosed is a writer that others close.
type unclosed struct{ io.Writer }

func (unclosed) Close() error { return nil }
