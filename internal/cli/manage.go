package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/prompt"
	"kindredgate/internal/server"
)

// table prints rows in columns; the first row is the head.
func table(out io.Writer, rows ...[]string) error {
	w := tabwriter.NewWriter(out, 0, 4, 3, ' ', 0)
	for _, r := range rows {
		cells := make([]string, len(r))
		for i, cell := range r {
			cells[i] = shown(strings.Join(strings.Fields(cell), " ")) // a row is a line
			if i == 0 {
				cells[i] = cell[:len(cell)-len(strings.TrimLeft(cell, " "))] + cells[i]
			}
		}
		fmt.Fprintln(w, strings.TrimRight(strings.Join(cells, "\t"), "\t"))
	}
	return w.Flush()
}

func (t *terminal) keys() *cobra.Command {
	return group("keys", "Issue, list and revoke the keys of applications", t.keysIssue(), t.keysList(), t.keysRevoke())
}

func (t *terminal) keysIssue() *cobra.Command {
	var flags clientFlags
	var label string
	var models []string
	var asJSON bool
	cmd := &cobra.Command{
		Use:     "issue --label NAME",
		Short:   "Issue a key for an application",
		Example: `  kindred keys issue --label "timetable bot" --models harbour-4m`,
		Args:    exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if label == "" {
				return usageError{fmt.Errorf("a key needs a label, to tell it from the others: --label \"timetable bot\"")}
			}
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			var k server.IssuedKey
			if err := gate.call(c.Context(), http.MethodPost, "/gate/keys", map[string]any{"label": label, "models": append([]string{}, models...)}, &k); err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(k)
			}
			if !isTerminal(t.out) {
				_, err := fmt.Fprintln(t.out, k.Key) // for scripts: the key alone
				return err
			}
			_, err = fmt.Fprintf(t.out, "%s\n\nThis is the key for %q. It is shown this once: copy it now.\n", paint(t.out, color.Bold)(k.Key), k.Label)
			return err
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&label, "label", "", "what the key is for")
	cmd.Flags().StringSliceVar(&models, "models", nil, "models that it may use (default all)")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

func (t *terminal) keysList() *cobra.Command {
	return listing(t, "List the keys; none is shown whole", func(ctx context.Context, gate *client) (list []server.KeyInfo, err error) {
		var got struct {
			Keys []server.KeyInfo `json:"keys"`
		}
		err = gate.call(ctx, http.MethodGet, "/gate/keys", nil, &got)
		return got.Keys, err
	}, func(keys []server.KeyInfo) (rows [][]string, empty string) {
		rows = [][]string{{"KEY", "LABEL", "MODELS", "ISSUED", "LAST USED", "STATE"}}
		for _, k := range keys {
			rows = append(rows, []string{k.ID + "…", k.Label, keyModels(k), ago(k.Created), agoOr(k.LastUsed, "never"), keyState(k)})
		}
		return rows, ""
	})
}

func keyModels(k server.KeyInfo) string {
	if len(k.Models) == 0 {
		return "all"
	}
	return strings.Join(k.Models, ", ")
}

func keyState(k server.KeyInfo) string {
	switch {
	case k.Revoked != nil:
		return "revoked " + ago(*k.Revoked)
	case k.Owner:
		return "valid, manages the gate"
	}
	return "valid"
}

func agoOr(at *time.Time, otherwise string) string {
	if at == nil {
		return otherwise
	}
	return ago(*at)
}

// ago says how long something is past, roughly.
func ago(at time.Time) string {
	switch d := time.Since(at); {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	default:
		return at.Format(time.DateOnly)
	}
}

func (t *terminal) keysRevoke() *cobra.Command {
	var flags clientFlags
	cmd := &cobra.Command{
		Use:   "revoke KEY",
		Short: "Make a key invalid, by the beginning that the list shows or by its label",
		Args:  exactly("a key"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			var k server.RevokedKey
			ref := strings.TrimSuffix(args[0], "…")
			if err := gate.call(c.Context(), http.MethodDelete, "/gate/keys/"+url.PathEscape(ref), nil, &k); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "%s… (%s) is revoked: requests with it are refused from now on.\n", k.ID, k.Label)
			if k.Warning != "" {
				fmt.Fprintf(t.err, "kindred: %s\n", k.Warning)
			}
			return nil
		}),
	}
	flags.add(cmd)
	return cmd
}

// instructionsPlace says where instructions stand in the prompt.
func instructionsPlace(a *prompt.Abilities) string {
	if a.System {
		return "in a system turn"
	}
	return "at the head of the first user turn; the template has no system turn"
}

// toolAbilities says what the template shows of tools.
func toolAbilities(a *prompt.Abilities) string {
	if !a.Tools {
		return "not shown to the model by its template"
	}
	list := []string{"offered"}
	if a.ParallelCalls {
		list = append(list, "several calls in a turn")
	} else if a.Calls {
		list = append(list, "one call in a turn")
	}
	if a.Results {
		list = append(list, "results taken")
	}
	return strings.Join(list, ", ")
}

// reasoningAbility says whether the model can be asked to reason first.
func reasoningAbility(a *prompt.Abilities) string {
	if a.Thinking {
		return "on request"
	}
	return "no switch in the template"
}

// sampling writes sampling values in a row.
func sampling(d catalog.Defaults) string {
	var list []string
	if v := d.Temperature; v != nil {
		list = append(list, fmt.Sprintf("temperature %g", *v))
	}
	if v := d.TopP; v != nil {
		list = append(list, fmt.Sprintf("top_p %g", *v))
	}
	if v := d.TopK; v != nil {
		list = append(list, fmt.Sprintf("top_k %d", *v))
	}
	if v := d.MinP; v != nil {
		list = append(list, fmt.Sprintf("min_p %g", *v))
	}
	if v := d.RepetitionPenalty; v != nil && *v != 1 {
		list = append(list, fmt.Sprintf("repetition_penalty %g", *v))
	}
	return strings.Join(list, ", ")
}

// count writes a large number as people say it, 3.7 M, and nothing for 0: it is then not known.
func count(n int64) string {
	if n == 0 {
		return ""
	}
	for _, u := range []struct {
		at   float64
		unit string
	}{{1e9, " B"}, {1e6, " M"}, {1e3, " k"}} {
		if v := float64(n) / u.at; v >= 1 {
			return fmt.Sprintf("%.3g%s", v, u.unit)
		}
	}
	return fmt.Sprint(n)
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", n)
}

// size writes a number of bytes as people say it: 4.0 MB.
func size(n int64) string {
	for _, u := range []struct {
		at   float64
		unit string
	}{{1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if v := float64(n) / u.at; v >= 1 {
			return fmt.Sprintf("%.1f %s", v, u.unit)
		}
	}
	return fmt.Sprintf("%d B", n)
}
