package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"github.com/spf13/cobra"

	"kindredgate/internal/record"
	"kindredgate/internal/server"
)

// sums are totals added up.
type sums struct {
	what                                 string
	requests, failed, prompt, completion int64
	cost, busy                           int64
	share                                float64
}

func (t *terminal) costs() *cobra.Command {
	var flags clientFlags
	var month, by string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "costs",
		Short: "Show usage and cost of a month, by key, group or model",
		Long: `Show usage and cost of a month. Prices of tokens and of the machine are set in the configuration (prices). The cost of the machine is
shared in proportion to the time in the model.`,
		Example: `  kindred costs
  kindred costs --by model --month 2031-01`,
		Args: exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if !slices.Contains([]string{"key", "group", "model"}, by) {
				return usageError{fmt.Errorf("--by is %q; it must be key, group or model", by)}
			}
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			gate.exact = asJSON
			got, err := gate.costs(c.Context(), month)
			if err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(got)
			}
			return t.printCosts(got, by)
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&month, "month", "", "the month, such as 2031-01 (default this one)")
	cmd.Flags().StringVar(&by, "by", "key", "group by key, group or model")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

func (c *client) costs(ctx context.Context, month string) (got server.CostList, err error) {
	return got, c.call(ctx, http.MethodGet, "/gate/costs?"+url.Values{"month": {month}}.Encode(), nil, &got)
}

func (t *terminal) printCosts(got server.CostList, by string) error {
	if len(got.Totals) == 0 {
		_, err := fmt.Fprintf(t.out, "Nothing was asked in %s.\n", got.Month)
		return err
	}
	var list []*sums
	whole := &sums{what: "in all"}
	for _, one := range got.Totals {
		what := map[string]string{"key": one.Label, "group": one.Group, "model": one.Model}[by]
		if what == "" {
			what = "(none)"
		}
		i := slices.IndexFunc(list, func(s *sums) bool { return s.what == what })
		if i < 0 {
			list = append(list, &sums{what: what})
			i = len(list) - 1
		}
		for _, s := range []*sums{list[i], whole} {
			s.requests, s.failed, s.prompt, s.completion = s.requests+one.Requests, s.failed+one.Failed, s.prompt+one.Prompt, s.completion+one.Completion
			s.cost, s.busy, s.share = s.cost+one.Cost, s.busy+one.Busy, s.share+one.Share
		}
	}
	slices.SortStableFunc(list, func(a, b *sums) int { return int(max(-1, min(1, b.cost-a.cost))) })
	if len(list) > 1 {
		list = append(list, whole)
	}
	heading := map[string]string{"key": "KEY", "group": "GROUP", "model": "MODEL"}[by]
	rows := [][]string{{heading, "REQUESTS", "FAILED", "PROMPT", "ANSWER", "IN THE MODEL", "TOKENS COST", "MACHINE"}}
	for _, s := range list {
		rows = append(rows, []string{s.what, count(s.requests), count(s.failed), count(s.prompt), count(s.completion),
			record.Took(float64(s.busy)), fmt.Sprintf("%.4f %s", float64(s.cost)/1e6, got.Currency), fmt.Sprintf("%.2f %s", s.share, got.Currency)})
	}
	fmt.Fprintf(t.out, "%s\n\n", got.Month)
	return table(t.out, rows...)
}
