package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/kept"
	"kindredgate/internal/record"
	"kindredgate/internal/server"
)

// showContent prints recorded content: the prompt piece by piece with where each comes from, or the request where no prompt is known, and the
// answers.
func (t *terminal) showContent(c kept.Content) error {
	strong, quiet := paint(t.out, color.Bold), paint(t.out, color.Faint)
	if len(c.Prompt) == 0 {
		var request bytes.Buffer
		if err := json.Indent(&request, c.Request, "  ", "  "); err != nil {
			return err
		}
		fmt.Fprintf(t.out, "\n%s\n  %s\n", strong("The request"), shown(request.String()))
	} else {
		fmt.Fprintf(t.out, "\n%s\n", strong("The prompt"))
	}
	if c.Problem != "" {
		fmt.Fprintf(t.out, "  %s\n", shown(c.Problem))
	}
	for _, p := range c.Prompt {
		origin := p.Origin
		if origin == "" {
			origin = "template"
		}
		fmt.Fprintf(t.out, "  %s\n    %s\n", quiet(fmt.Sprintf("%s, %d tokens", shown(origin), p.Tokens)), shown(p.Text))
	}
	for i, a := range c.Answers {
		title := "The answer"
		if len(c.Answers) > 1 {
			title = fmt.Sprintf("Answer %d", i+1)
		}
		fmt.Fprintf(t.out, "\n%s\n", strong(title))
		if a.Reasoning != "" {
			fmt.Fprintf(t.out, "  %s\n    %s\n", quiet("reasoning"), shown(a.Reasoning))
		}
		if a.Text != "" {
			fmt.Fprintf(t.out, "    %s\n", shown(a.Text))
		}
		for _, call := range a.Calls {
			fmt.Fprintf(t.out, "    %s(%s)\n", shown(call.Name), shown(call.Arguments))
			if call.Result != nil {
				fmt.Fprintf(t.out, "      → %s\n", shown(cut(*call.Result, 500)))
			}
		}
	}
	return nil
}

func (t *terminal) trafficJobs() *cobra.Command {
	return looking(t, "jobs", "Show conversations and agent runs: exchanges that continue one another", exactly(), func(ctx context.Context, gate *client, _ []string) (got server.JobList, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/jobs", nil, &got)
	}, func(got server.JobList) error {
		if len(got.Jobs) == 0 {
			_, err := fmt.Fprintln(t.out, "There is no conversation of several requests yet.")
			return err
		}
		rows := [][]string{{"BEGUN", "KEY", "MODEL", "REQUESTS", "PROMPT GREW", "REPEATED", "ANSWERED", "IN REQUESTS", "BETWEEN", "JOB"}}
		for _, j := range slices.Backward(got.Jobs) {
			rows = append(rows, []string{j.Begun.Local().Format("01-02 15:04:05"), j.Label, j.Model, count(j.Requests), fmt.Sprintf("%d to %d", j.First, j.Last),
				fmt.Sprintf("%d of %d", j.Repeated, j.Prompt), count(j.Answered), record.Took(j.Busy), record.Took(j.Between), j.ID})
		}
		return table(t.out, rows...)
	})
}

func (t *terminal) trafficRefused() *cobra.Command {
	whole := false
	return looking(t, "refused [ID]", "Show the last requests that were refused; with an id what it sent", func(_ *cobra.Command, args []string) error {
		if len(args) > 1 {
			return usageError{fmt.Errorf("it takes the id of one request, or none")}
		}
		return nil
	}, func(ctx context.Context, gate *client, args []string) (got server.RefusalList, err error) {
		if err := gate.call(ctx, http.MethodGet, "/gate/refusals", nil, &got); err != nil || len(args) == 0 {
			return got, err
		}
		whole = true
		got.Refusals = slices.DeleteFunc(got.Refusals, func(r server.Refusal) bool { return r.ID != args[0] })
		if len(got.Refusals) == 0 {
			return got, fmt.Errorf("there is no request %s among the last that were refused; they are kept in memory, until the gate stops", args[0])
		}
		return got, nil
	}, func(got server.RefusalList) error { return t.showRefusals(got, whole) })
}

func (t *terminal) showRefusals(got server.RefusalList, whole bool) error {
	if whole {
		r := got.Refusals[0]
		if err := table(t.out, []string{"  at", r.At.Local().Format("2006-01-02 15:04:05")}, []string{"  asked", r.Path}, []string{"  key", r.Label}, []string{"  from", r.Client + "  " + r.Agent},
			[]string{"  answered", fmt.Sprintf("%d %s", r.Status, r.Code)}, []string{"  because", r.Error}, []string{"  sent", fmt.Sprintf("%d bytes of %s", r.Bytes, r.Type)}); err != nil {
			return err
		}
		_, err := fmt.Fprintf(t.out, "\n%s\n", shown(indented(r.Body)))
		return err
	}
	if len(got.Refusals) == 0 {
		_, err := fmt.Fprintln(t.out, "No request was refused since the gate was started.")
		return err
	}
	rows := [][]string{{"TIME", "KEY", "ASKED", "ANSWERED", "BECAUSE", "REQUEST"}}
	for _, r := range slices.Backward(got.Refusals) {
		rows = append(rows, []string{r.At.Local().Format("15:04:05"), r.Label, r.Path, fmt.Sprintf("%d %s", r.Status, r.Code), cut(r.Error, 60), r.ID})
	}
	return table(t.out, rows...)
}

// indented lays out JSON, if it is that.
func indented(body string) string {
	var doc any
	if json.Unmarshal([]byte(body), &doc) != nil {
		return body
	}
	raw, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return body
	}
	return string(raw)
}

// cut shortens a text to so many characters.
func cut(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}

func (t *terminal) trafficPurge() *cobra.Command {
	var flags clientFlags
	var by, before string
	var all bool
	cmd := &cobra.Command{
		Use:   "purge",
		Short: "Delete recorded content; the exchanges stay in the ledger",
		Example: `  kindred traffic purge --by "timetable bot"
  kindred traffic purge --before 7d
  kindred traffic purge --all`,
		Args: exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if all == (by != "" || before != "") {
				return usageError{fmt.Errorf("say what is to be removed: --by KEY, --before TIME, or --all")}
			}
			query := url.Values{}
			if by != "" {
				query.Set("key", by)
			}
			if before != "" {
				at, err := passed("--before", before, time.Now())
				if err != nil {
					return usageError{err}
				}
				query.Set("before", at.UTC().Format(time.RFC3339))
			}
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			var got server.Purged
			if err := gate.call(c.Context(), http.MethodDelete, "/gate/contents?"+query.Encode(), nil, &got); err != nil {
				return err
			}
			_, err = fmt.Fprintf(t.out, "The content of %d exchanges is deleted.\n", got.Removed)
			return err
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&by, "by", "", "content of one key, by its id or its label")
	cmd.Flags().StringVar(&before, "before", "", "content from before then: a time such as 24h or 7d ago, or a day such as 2031-01-31")
	cmd.Flags().BoolVar(&all, "all", false, "all that was said")
	return cmd
}
