package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/dialect"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
	"kindredgate/internal/server"
)

// trafficFlags choose exchanges.
type trafficFlags struct {
	key, model, style, since, until, job string
	failed                               bool
	slow                                 time.Duration
	steps                                bool
	limit                                int
}

func (t *terminal) traffic() *cobra.Command {
	var flags clientFlags
	var f trafficFlags
	var follow, asJSON, everywhere bool
	cmd := &cobra.Command{
		Use:   "traffic",
		Short: "Show who asked what, how long it took and how it ended",
		Long:  "The newest exchanges, the latest at the end. Content is recorded only if the configuration (record) or a key says so.",
		Example: `  kindred traffic --follow
  kindred traffic --failed --since 24h
  kindred traffic --by "timetable bot" --slow 2s`,
		Args: known,
		RunE: func(c *cobra.Command, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return usageError{err}
			}
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			gate.exact = asJSON
			if follow && f.until != "" {
				return usageError{fmt.Errorf("--follow continues with new exchanges, which --until excludes; give one of them")}
			}
			if follow {
				return t.follow(c.Context(), gate, filter, asJSON)
			}
			if everywhere && follow {
				return usageError{fmt.Errorf("--everywhere shows what was; --follow follows one gate")}
			}
			if everywhere {
				return t.everywhere(c.Context(), gate, filter, asJSON)
			}
			var got server.ExchangeList
			if err := gate.call(c.Context(), http.MethodGet, "/gate/exchanges?"+filter.Query().Encode(), nil, &got); err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(got)
			}
			return t.exchanges(got)
		},
	}
	flags.add(cmd)
	fs := cmd.Flags()
	f.add(cmd)
	fs.IntVarP(&f.limit, "last", "n", 20, "how many, at the most")
	fs.BoolVarP(&follow, "follow", "f", false, "continue with new exchanges, until Ctrl-C")
	fs.BoolVar(&everywhere, "everywhere", false, "the ledgers of all gates that share what they know, those that are gone included")
	fs.BoolVarP(&asJSON, "json", "j", false, "print JSON; with --follow a line for each")
	cmd.AddCommand(t.trafficShow(), t.trafficJobs(), t.trafficRefused(), t.trafficPurge(), t.trafficExport())
	return cmd
}

// everywhere shows the ledgers of all gates.
func (t *terminal) everywhere(ctx context.Context, gate *client, filter record.Filter, asJSON bool) error {
	var got server.Everywhere
	if err := gate.call(ctx, http.MethodGet, "/gate/exchanges/everywhere?"+filter.Query().Encode(), nil, &got); err != nil {
		return err
	}
	if asJSON {
		return t.printJSON(got)
	}
	rows := [][]string{{"GATE"}}
	for _, c := range columns {
		rows[0] = append(rows[0], c.name)
	}
	for i := len(got.Exchanges) - 1; i >= 0; i-- {
		e := got.Exchanges[i]
		rows = append(rows, append([]string{cmp.Or(e.Gate, "-")}, exchangeCells(e.Exchange)...))
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	for _, m := range got.Missing {
		fmt.Fprintf(t.err, "kindred: not all of it is here: %s\n", m)
	}
	return nil
}

func (f *trafficFlags) add(cmd *cobra.Command) {
	fs := cmd.Flags()
	fs.StringVar(&f.key, "by", "", "exchanges of one key, by its id or its label")
	fs.StringVarP(&f.model, "model", "m", "", "exchanges with one model or preset")
	fs.StringVarP(&f.style, "style", "s", "", "exchanges in one style")
	fs.StringVar(&f.job, "job", "", "exchanges of one conversation, by the id of the first")
	fs.StringVar(&f.since, "since", "", "exchanges since then: a time such as 24h or 7d ago, or a day such as 2031-01-31")
	fs.StringVar(&f.until, "until", "", "exchanges before then, said as for --since")
	fs.BoolVar(&f.failed, "failed", false, "those that failed, were refused, cancelled or interrupted")
	fs.BoolVar(&f.steps, "steps", false, "steps of requests whose tools the gate runs, too, each as an exchange of its own")
	fs.DurationVar(&f.slow, "slow", 0, "those that took at least that long, such as 2s")
}

// filter is what the gate is asked for.
func (f *trafficFlags) filter(now time.Time) (out record.Filter, err error) {
	out = record.Filter{Key: f.key, Model: f.model, Style: f.style, Job: f.job, Bad: f.failed, Slow: f.slow, Whole: !f.steps, Limit: f.limit}
	for _, bound := range []struct {
		name, text string
		at         *time.Time
	}{{"since", f.since, &out.Since}, {"until", f.until, &out.Until}} {
		if bound.text == "" {
			continue
		}
		if *bound.at, err = passed("--"+bound.name, bound.text, now); err != nil {
			return out, err
		}
	}
	return out, nil
}

// passed reads a time that is over: so long ago, or a day.
func passed(option, text string, now time.Time) (time.Time, error) {
	if at, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return at, nil
	}
	end, err := ending(text, now)
	if err != nil || end == nil {
		return time.Time{}, fmt.Errorf("%s is %q; give a time such as 24h or 7d, or a day such as 2031-01-31", option, text)
	}
	return now.Add(now.Sub(*end)), nil
}

// columns of traffic, with their widths while it is followed.
var columns = []struct {
	name  string
	width int
}{{"ID", 8}, {"TIME", 8}, {"KEY", 18}, {"MODEL", 20}, {"STYLE", 9}, {"TOKENS", 12}, {"TTFT", 8}, {"DURATION", 8}, {"ENDED", 0}}

func exchangeCells(e record.Record) []string {
	at := e.Begun.Local().Format("15:04:05")
	if time.Since(e.Begun) > 24*time.Hour {
		at = e.Begun.Local().Format("01-02 15:04")
	}
	tokens := fmt.Sprintf("%d + %d", e.PromptTokens, e.CompletionTokens)
	first := ""
	if e.FirstToken > 0 {
		first = record.Took(e.FirstToken)
	}
	whole := record.Took(e.Took)
	if e.State == record.Refused {
		tokens, whole = "", ""
	}
	return []string{shortID(e.ID), at, e.Label, e.Route(), e.Style, tokens, first, whole, e.Ended()}
}

func (t *terminal) exchanges(got server.ExchangeList) error {
	if len(got.Exchanges) == 0 {
		_, err := fmt.Fprintln(t.out, "There is no such exchange in the ledger.")
		return err
	}
	var head []string
	for _, c := range columns {
		head = append(head, c.name)
	}
	rows := [][]string{head}
	for i := len(got.Exchanges) - 1; i >= 0; i-- {
		rows = append(rows, exchangeCells(got.Exchanges[i]))
	}
	if got.Lost > 0 {
		fmt.Fprintf(t.err, "kindred: %d exchanges could not be kept since the gate was started\n", got.Lost)
	}
	return table(t.out, rows...)
}

// follow prints exchanges as they end, after those that there are. The feed is open before that is asked, so that none falls between.
func (t *terminal) follow(ctx context.Context, gate *client, f record.Filter, asJSON bool) error {
	resp, err := gate.send(ctx, http.MethodGet, "/gate/exchanges/live?"+f.Query().Encode(), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var before server.ExchangeList
	if err := gate.call(ctx, http.MethodGet, "/gate/exchanges?"+f.Query().Encode(), nil, &before); err != nil {
		return err
	}
	known := map[string]bool{}
	for _, e := range before.Exchanges {
		known[e.ID] = e.State != record.Open
	}
	line := func(cells []string) {
		var b strings.Builder
		for i, c := range columns {
			cell := shown(strings.Join(strings.Fields(cells[i]), " "))
			if c.width > 0 {
				cell = fmt.Sprintf("%-*.*s  ", c.width, c.width, cell)
			}
			b.WriteString(cell)
		}
		fmt.Fprintln(t.out, b.String())
	}
	show := func(e record.Record) error {
		if !asJSON {
			line(exchangeCells(e))
			return nil
		}
		raw, err := json.Marshal(e)
		if err == nil {
			_, err = fmt.Fprintf(t.out, "%s\n", raw)
		}
		return err
	}
	if !asJSON {
		var head []string
		for _, c := range columns {
			head = append(head, c.name)
		}
		line(head)
	}
	for i := len(before.Exchanges) - 1; i >= 0; i-- {
		if err := show(before.Exchanges[i]); err != nil {
			return err
		}
	}
	for data, err := range events(resp.Body, nil) {
		if err != nil {
			return err
		}
		var seen ledger.FeedEvent
		if err := json.Unmarshal(data, &seen); err != nil {
			return fmt.Errorf("the gate's feed: %w", err)
		}
		if seen.Missed > 0 {
			fmt.Fprintf(t.err, "kindred: %d more came too fast to be shown\n", seen.Missed)
		}
		if seen.Record == nil || seen.State == record.Open || known[seen.ID] {
			continue
		}
		if err := show(*seen.Record); err != nil {
			return err
		}
	}
	return nil
}

// shortID is the beginning of an id, which every command takes.
func shortID(id string) string { return id[:min(len(id), 8)] }

// lastID is the id that was given, or that of the last exchange that has ended. Shadows and parts of others are none.
func lastID(ctx context.Context, gate *client, args []string) (string, error) {
	if len(args) > 0 {
		return args[0], nil
	}
	for e, err := range lastEnded(ctx, gate) {
		return e.ID, err
	}
	return "", errors.New("there is no exchange in the ledger yet")
}

// lastRecorded is the id that was given, or that of the last exchange with a prompt whose content was recorded.
func lastRecorded(ctx context.Context, gate *client, args []string) (string, error) {
	if len(args) > 0 {
		return args[0], nil
	}
	for e, err := range lastEnded(ctx, gate) {
		if err != nil {
			return "", err
		}
		if e.PromptTokens == 0 || e.Style == string(dialect.Embedding) {
			continue
		}
		var whole server.ShownExchange
		if err := gate.call(ctx, http.MethodGet, "/gate/exchanges/"+url.PathEscape(e.ID), nil, &whole); err != nil {
			return "", err
		}
		if whole.Content != nil {
			return e.ID, nil
		}
	}
	return "", errors.New("none of the last 100 exchanges has recorded content, which a replay starts from; \"record: { content: true }\" in gate.yaml, or a key changed with --record-content yes, has it recorded")
}

// lastEnded are the last 100 exchanges that have ended, the newest first; or one error.
func lastEnded(ctx context.Context, gate *client) iter.Seq2[record.Record, error] {
	return func(yield func(record.Record, error) bool) {
		var got server.ExchangeList
		if err := gate.call(ctx, http.MethodGet, "/gate/exchanges?limit=100", nil, &got); err != nil {
			yield(record.Record{}, err)
			return
		}
		for _, e := range got.Exchanges {
			if e.State != record.Open && e.Parent == "" && !yield(e, nil) {
				return
			}
		}
	}
}

// perhaps is the arguments check of a command that takes one, or none.
func perhaps(what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) > 1 {
			return usageError{fmt.Errorf("%s takes %s, and does not know what to do with %q", c.CommandPath(), what, args[1])}
		}
		return nil
	}
}

// oneOrTwo is the arguments check of a command that takes one, and perhaps another.
func oneOrTwo(first, second string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch {
		case len(args) == 0:
			return usageError{fmt.Errorf("%s needs %s", c.CommandPath(), first)}
		case len(args) > 2:
			return usageError{fmt.Errorf("%s takes %s and %s, and does not know what to do with %q", c.CommandPath(), first, second, args[2])}
		}
		return nil
	}
}

func (t *terminal) trafficShow() *cobra.Command {
	return looking(t, "show [ID]", "Show one exchange, by the beginning of its id, or the last one", perhaps("an exchange's id, as x-request-id has it"), func(ctx context.Context, gate *client, args []string) (e shownWhole, err error) {
		id, err := lastID(ctx, gate, args)
		if err != nil {
			return e, err
		}
		if err := gate.call(ctx, http.MethodGet, "/gate/exchanges/"+url.PathEscape(id), nil, &e.ShownExchange); err != nil {
			return e, err
		}
		for _, child := range e.Children {
			var step server.ShownExchange
			if err := gate.call(ctx, http.MethodGet, "/gate/exchanges/"+url.PathEscape(child), nil, &step); err != nil {
				return e, err
			}
			e.Steps = append(e.Steps, step.Record)
		}
		return e, nil
	}, func(whole shownWhole) error {
		e := whole.Record
		var rows [][]string
		for _, f := range whole.Facts {
			rows = append(rows, []string{"  " + f.Title, f.Text})
		}
		fmt.Fprintf(t.out, "%s\n\n", paint(t.out, color.Bold)(shown(e.ID)))
		if err := table(t.out, rows...); err != nil {
			return err
		}
		if len(whole.Steps) > 0 {
			fmt.Fprint(t.out, stepStrip(e, whole.Steps))
		} else {
			fmt.Fprint(t.out, strip(e))
		}
		if whole.Content == nil {
			_, err := fmt.Fprintln(t.out, "\nThe content was not recorded.")
			return err
		}
		return t.showContent(*whole.Content)
	})
}

// shownWhole is an exchange with the steps that it took.
type shownWhole struct {
	server.ShownExchange
	Steps []record.Record `json:"step_exchanges,omitempty"`
}

// stepStrip draws the steps of an exchange along its time: the model's, and those of the tools that it called.
func stepStrip(whole record.Record, steps []record.Record) string {
	if whole.Took <= 0 {
		return ""
	}
	var b strings.Builder
	fmt.Fprintln(&b)
	line := func(name string, begun time.Time, ms float64, more string) {
		at := max(0, record.Milliseconds(begun.Sub(whole.Begun)))
		fmt.Fprintf(&b, "  %-24s %s  %s%s\n", cut(name, 24), segment(at, ms, whole.Took), record.Took(ms), more)
	}
	for _, s := range steps {
		line(fmt.Sprintf("step %d", s.Step), s.Begun, s.Took, fmt.Sprintf("  %d + %d tokens, %d cached", s.PromptTokens, s.CompletionTokens, s.CachedTokens))
		for _, run := range s.Runs {
			more := ""
			if run.Failed != "" {
				more = "  failed: " + cut(shown(run.Failed), 40)
			}
			line("  "+run.Server+"/"+run.Name, run.Begun, run.Took, more)
		}
	}
	return b.String()
}

// segment draws a part of a time.
func segment(at, ms, whole float64) string {
	from, to := int(at/whole*stripWidth), int((at+ms)/whole*stripWidth)
	from = min(from, stripWidth-1)
	to = min(max(to, from+1), stripWidth)
	return strings.Repeat("·", from) + strings.Repeat("█", to-from) + strings.Repeat("·", stripWidth-to)
}

// stripWidth is how many characters the strip of an exchange's time has.
const stripWidth = 60

// strip draws where the time of an exchange went.
func strip(e record.Record) string {
	if e.Took <= 0 {
		return ""
	}
	before := e.Queue + e.Load + e.Prefill
	rest := e.Took - max(e.FirstToken, before)
	other := max(0, e.FirstToken-before)
	if e.FirstToken == 0 {
		rest, other = 0, max(0, e.Took-before)
	}
	var b strings.Builder
	fmt.Fprintln(&b)
	at := 0.0
	for _, p := range []struct {
		name string
		ms   float64
	}{{"queue", e.Queue}, {"load", e.Load}, {"prefill", e.Prefill}, {"gate", other}, {"decode", rest}} {
		if p.ms < 0.05 { // which would be said as 0.0
			continue
		}
		fmt.Fprintf(&b, "  %-9s %s  %s\n", p.name, segment(at, p.ms, e.Took), record.Took(p.ms))
		at += p.ms
	}
	return b.String()
}

func (t *terminal) trafficExport() *cobra.Command {
	var flags clientFlags
	var f trafficFlags
	var format string
	cmd := &cobra.Command{
		Use:     "export",
		Short:   "Export all matching exchanges as JSON lines or CSV",
		Example: "  kindred traffic export --format csv --since 30d > exchanges.csv",
		Args:    exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return usageError{err}
			}
			query := filter.Query()
			query.Set("format", format)
			gate, err := flags.open(c.Context())
			if err != nil {
				return err
			}
			resp, err := gate.send(c.Context(), http.MethodGet, "/gate/exchanges/export?"+query.Encode(), nil)
			if err != nil {
				return err
			}
			defer resp.Body.Close()
			if _, err := io.Copy(t.out, resp.Body); err != nil {
				return fmt.Errorf("the export broke off, so what came is not all: %w", err)
			}
			return nil
		},
	}
	flags.add(cmd)
	f.add(cmd)
	cmd.Flags().StringVar(&format, "format", "jsonl", "jsonl or csv")
	return cmd
}
