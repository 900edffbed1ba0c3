package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/record"
	"kindredgate/internal/server"
	"kindredgate/internal/suite"
	"kindredgate/internal/suites"
)

func (t *terminal) suite() *cobra.Command {
	return group("suite", "Run suites: questions with expected answers, for several models", t.suiteRun(), t.suiteFrom(), t.suiteList(), t.suiteShow(), t.suiteSchema())
}

func (t *terminal) suiteRun() *cobra.Command {
	var flags clientFlags
	var models []string
	var samples, atOnce int
	var atLeast float64
	var junit string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "run [FILE]",
		Short: "Run a suite: a file, or a built-in one (" + strings.Join(slices.Sorted(maps.Keys(suite.Shipped)), ", ") + "; the first if none is named)",
		Long: `Run a suite: each case is asked so many times of each model, with seeds that count on, and every answer is held to what is expected. Requests
wait for those of applications. The exit code is 0 if every case passed often enough (--at-least), and 1 otherwise. docs/suites.md says what a
file looks like.`,
		Example: `  kindred suite run --model harbour-4m
  kindred suite run ferry.yaml --model harbour-4m --model harbour-master --samples 5
  kindred suite run ferry-tools --model harbour-4m
  kindred suite run ferry.yaml --at-least 0.9 --junit report.xml`,
		Args: cobra.MaximumNArgs(1),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			body := map[string]any{}
			if len(args) == 1 {
				raw, err := os.ReadFile(args[0])
				if shipped, ok := suite.Shipped[args[0]]; ok && errors.Is(err, fs.ErrNotExist) {
					raw, err = shipped, nil
				}
				if err != nil {
					return err
				}
				s, err := suite.Parse(raw)
				if err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				body["suite"] = string(raw)
				pictures, err := picturesOf(s, filepath.Dir(args[0]))
				if err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				body["pictures"] = pictures
				if len(models) == 0 {
					models = s.Models
				}
			}
			if len(models) == 0 {
				model, err := gate.model(c.Context(), "")
				if err != nil {
					return err
				}
				models = []string{model}
			}
			body["models"] = models
			if samples > 0 {
				body["samples"] = samples
			}
			if atOnce > 0 {
				body["at_once"] = atOnce
			}
			gate.exact = asJSON || junit != ""
			r, err := t.runSuite(c.Context(), gate, body)
			if err != nil {
				return err
			}
			if junit != "" {
				raw, err := r.JUnit(atLeast)
				if err == nil {
					err = os.WriteFile(junit, raw, 0o644)
				}
				if err != nil {
					return err
				}
			}
			if asJSON {
				err = t.printJSON(r)
			} else {
				err = t.printSuite(r)
			}
			if below := r.Below(atLeast); err == nil && len(below) > 0 {
				return fmt.Errorf("%d of %d cases passed less often than %.0f %%", len(below), len(r.Cells), atLeast*100)
			}
			return err
		}),
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.StringArrayVarP(&models, "model", "m", nil, "model, preset or public name to ask; several are compared (default those of the suite)")
	f.IntVar(&samples, "samples", 0, "how often each case is asked (default what the suite says)")
	f.IntVar(&atOnce, "at-once", 0, "requests at once (default 2)")
	f.Float64Var(&atLeast, "at-least", 1, "the share of samples that have to pass in each case")
	f.StringVar(&junit, "junit", "", "file to write the results to as JUnit XML")
	f.BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

// picturesOf are the pictures of a suite, as data URLs by the names of their files, which stand beside its own.
func picturesOf(s *suite.Suite, dir string) (map[string]string, error) {
	pictures := map[string]string{}
	for _, name := range s.Files() {
		file := filepath.FromSlash(name)
		if !filepath.IsAbs(file) {
			file = filepath.Join(dir, file)
		}
		raw, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		url, ok, err := pictureOf(name, raw)
		if err == nil && !ok {
			err = usageError{fmt.Errorf("%s is no picture: PNG, JPEG, GIF and WebP are possible", name)}
		}
		if err != nil {
			return nil, err
		}
		pictures[name] = url
	}
	return pictures, nil
}

// runSuite has the gate run a suite, and shows how far it has come on a terminal.
func (t *terminal) runSuite(ctx context.Context, gate *client, body any) (*suite.Report, error) {
	resp, err := gate.send(ctx, http.MethodPost, "/gate/suites/run", body)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	live := isTerminal(t.err)
	defer func() {
		if live {
			fmt.Fprint(t.err, "\r\x1b[K")
		}
	}()
	for raw, err := range events(resp.Body, nil) {
		if err != nil {
			return nil, err
		}
		var e suites.Event
		if err := json.Unmarshal(raw, &e); err != nil {
			return nil, fmt.Errorf("read the gate's answer: %w", err)
		}
		if e.Report != nil {
			return e.Report, nil
		}
		if live && e.Cell != nil {
			fmt.Fprintf(t.err, "\r\x1b[K%d of %d   %s: %s", e.Done, e.All, shown(e.Cell.Model), shown(e.Cell.Case))
		}
	}
	return nil, errors.New("the gate's answer ended without a report")
}

func (t *terminal) printSuite(r *suite.Report) error {
	strong, quiet := paint(t.out, color.Bold), paint(t.out, color.Faint)
	fmt.Fprintf(t.out, "%s  cases: %d, samples of each: %d, took %s\n\n", strong(shown(r.Suite)), len(r.Cases), r.Samples, record.Took(float64(r.TookMS)))
	head := []string{"CASE"}
	for _, m := range r.Models {
		head = append(head, strings.ToUpper(m))
	}
	rows := [][]string{head}
	begins := map[string]suite.Part{}
	for _, p := range r.Parts {
		begins[p.Cases[0]] = p
	}
	for _, name := range r.Cases {
		if p, ok := begins[name]; ok {
			rows = append(rows, make([]string, len(head)), append([]string{p.Name + ":"}, make([]string, len(head)-1)...))
		}
		row := []string{name}
		for _, m := range r.Models {
			i := slices.IndexFunc(r.Cells, func(c suite.Cell) bool { return c.Model == m && c.Case == name })
			c := r.Cells[i]
			row = append(row, fmt.Sprintf("%d of %d   (%.0f to %.0f %%)", c.Passed, c.Asked, c.Low*100, c.High*100))
		}
		rows = append(rows, row)
	}
	sum := []string{"all"}
	for _, m := range r.Models {
		rate, n := r.Score(m)
		sum = append(sum, fmt.Sprintf("%.1f of %d", rate, n))
	}
	if err := table(t.out, append(rows, sum)...); err != nil {
		return err
	}
	for _, p := range r.Parts {
		if p.About != "" {
			fmt.Fprintf(t.out, "\n%s: %s", strong(shown(p.Name)), shown(p.About))
		}
	}
	if len(r.Parts) > 0 {
		fmt.Fprintln(t.out)
	}
	fmt.Fprintf(t.out, "\n%s\n", quiet("In brackets: where the true rate lies, with a confidence of 95 %."))
	for _, c := range r.Cells {
		for _, f := range c.Failures[:min(2, len(c.Failures))] {
			fmt.Fprintf(t.out, "\n%s %s\n  %s: %s\n", strong(shown(c.Case)), quiet(shown(fmt.Sprintf("%s, sample %d, exchange %s", c.Model, f.Sample, cmp.Or(f.Exchange, "-")))), shown(f.What), shown(f.Why))
		}
	}
	return nil
}

func (t *terminal) suiteFrom() *cobra.Command {
	var flags clientFlags
	var since, title, key, model string
	var limit int
	cmd := &cobra.Command{
		Use:   "from",
		Short: "Make a suite from recorded exchanges, and print it",
		Long: `Make a suite from recorded exchanges, and print it. Each is a case, whose answer has to be like the recorded one; edit what is expected to what
matters. Exchanges whose content was not recorded are left out.`,
		Example: `  kindred suite from --since 24h > ferry.yaml`,
		Args:    exactly(),
		RunE: flags.run(func(c *cobra.Command, gate *client, _ []string) error {
			gate.exact = true
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			if since != "" {
				at, err := passed("--since", since, time.Now())
				if err != nil {
					return usageError{err}
				}
				query.Set("since", at.UTC().Format(time.RFC3339))
			}
			if key != "" {
				query.Set("key", key)
			}
			if model != "" {
				query.Set("model", model)
			}
			var list server.ExchangeList
			if err := gate.call(c.Context(), http.MethodGet, "/gate/exchanges?"+query.Encode(), nil, &list); err != nil {
				return err
			}
			var recorded []suite.Recorded
			for _, e := range slices.Backward(list.Exchanges) {
				if e.Style == "embedding" || e.Parent != "" {
					continue // replays, shadows and other suites are not what applications asked
				}
				var one server.ShownExchange
				if err := gate.call(c.Context(), http.MethodGet, "/gate/exchanges/"+url.PathEscape(e.ID), nil, &one); err != nil {
					return err
				}
				if one.Content != nil {
					recorded = append(recorded, suite.Recorded{Exchange: one.Record, Content: *one.Content})
				}
			}
			doc, n, skipped, err := suite.From(title, recorded)
			if err != nil {
				return err
			}
			for _, s := range skipped {
				fmt.Fprintf(t.err, "kindred: left out %s\n", shown(s))
			}
			if n == 0 {
				return fmt.Errorf("none of %d exchanges has its content recorded; record.content, or \"kindred keys issue --record yes\", has that done", len(list.Exchanges))
			}
			fmt.Fprintf(t.err, "kindred: %d cases of %d exchanges\n", n, len(list.Exchanges))
			_, err = t.out.Write(doc)
			return err
		}),
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.StringVar(&since, "since", "", "those since a time, such as 24h, 7d or 2031-05-01")
	f.StringVar(&title, "title", "Recorded exchanges", "title of the suite")
	f.StringVar(&key, "by", "", "those with a key, by its label or its beginning")
	f.StringVarP(&model, "model", "m", "", "those that asked for a model")
	f.IntVar(&limit, "limit", 100, "how many of the newest are looked through")
	return cmd
}

func (t *terminal) suiteList() *cobra.Command {
	return listing(t, "List results of suites, the newest last", func(ctx context.Context, gate *client) (got server.SuiteRunList, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/suites", nil, &got)
	}, func(got server.SuiteRunList) (rows [][]string, empty string) {
		if len(got.Runs) == 0 {
			return nil, "No suite was run yet: \"kindred suite run\" runs one."
		}
		rows = [][]string{{"RUN", "SUITE", "MODEL", "PASSED", "WHEN"}}
		for _, r := range slices.Backward(got.Runs) {
			for _, m := range r.Models {
				rate, n := r.Score(m)
				rows = append(rows, []string{r.ID, r.Suite, m, fmt.Sprintf("%.1f of %d", rate, n), ago(r.Begun)})
			}
		}
		return rows, ""
	})
}

func (t *terminal) suiteShow() *cobra.Command {
	return looking(t, "show RUN", "Show the result of a suite", exactly("the id of a run; \"kindred suite list\" shows them"), func(ctx context.Context, gate *client, args []string) (r suite.Report, err error) {
		return r, gate.call(ctx, http.MethodGet, "/gate/suites/"+url.PathEscape(args[0]), nil, &r)
	}, func(r suite.Report) error { return t.printSuite(&r) })
}

func (t *terminal) suiteSchema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of suites, for editors",
		Args:  exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, err := t.out.Write(suite.Schema)
			return err
		},
	}
}
