package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fatih/color"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"kindredgate/demo"
	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/convert"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/machine"
	"kindredgate/internal/measure"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/server"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
)

func (t *terminal) bench() *cobra.Command {
	var flags clientFlags
	var shape, kind, compare string
	var kernels []string
	var threads int
	var within time.Duration
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "bench [MODEL|FILE|FOLDER]",
		Short: "Measure how fast models run here, against what the machine allows",
		Long: "Measure how fast a model runs on this machine: an installed one, one on disk, or made-up weights of a size (--shape). Beside each\n" +
			"figure stands how much of the machine's own limit that is: of the rate at which it reads memory, or of what its processors can\n" +
			"multiply; both are measured in the same minutes. Other work on the machine makes both smaller. To compare kernels, --kernels\n" +
			"measures them in turn in one run, by the CPU time of one thread.",
		Example: "  kindred bench --shape 1b --weights q4_k\n  kindred bench harbour-4m --json > before.json\n  kindred bench harbour-4m --compare before.json\n  kindred bench --shape 0.5b --kernels avx2,vnni",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{fmt.Errorf("%s does not know what to do with %q", c.CommandPath(), args[1])}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if len(kernels) > 0 && (compare != "" || c.Flags().Changed("threads")) {
				return usageError{errors.New("--kernels measures one thread, and compares what it measures; leave out --compare and --threads")}
			}
			before, err := readReport(compare)
			if err != nil {
				return err
			}
			if threads == 0 {
				threads, _ = machine.Threads()
			}
			job := measure.Job{Threads: threads, Budget: within}
			if len(args) == 1 {
				if c.Flags().Changed("shape") || c.Flags().Changed("weights") {
					return usageError{errors.New("--shape and --weights are for made-up weights; leave them out, or the model")}
				}
				err = t.benchOf(c, &flags, &job, args[0])
			} else {
				err = madeUp(&job, shape, kind)
			}
			if err != nil {
				return err
			}
			if _, err := tensor.Kernels(); err != nil {
				return err
			}
			if len(kernels) > 0 {
				return t.benchKernels(c.Context(), job, kernels, asJSON)
			}
			report, err := t.runBench(c.Context(), job)
			if err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(report)
			}
			return t.printReport(report, before)
		},
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.StringVar(&shape, "shape", "1b", "size of made-up weights: "+strings.Join(shapeNames(), ", "))
	f.StringVar(&kind, "weights", "q8_0", "type of made-up weights")
	f.StringVar(&compare, "compare", "", "report of an earlier run (--json) to set beside this one")
	f.StringSliceVar(&kernels, "kernels", nil, "compare kernels of this processor instead, such as avx2,vnni: steps of one thread, measured in turn")
	f.IntVar(&threads, "threads", 0, "threads that compute (default as many as bring most)")
	f.DurationVar(&within, "within", 2*time.Minute, "leave out what would take longer")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// benchKernels compares kernels with the first of them.
func (t *terminal) benchKernels(ctx context.Context, job measure.Job, kernels []string, asJSON bool) error {
	end := t.showProgress(&job)
	c, err := measure.Compare(ctx, job, kernels)
	end()
	if err != nil {
		return err
	}
	if asJSON {
		return t.printJSON(c)
	}
	fmt.Fprintf(t.out, "%s  %s, one thread, medians of %d rounds\n", paint(t.out, color.Bold)(c.Model), c.Weights, c.Rounds)
	fmt.Fprintf(t.out, "%.1f %% of the processors' time went to other virtual machines\n\n", 100*c.Stolen)
	rows := [][]string{{"KERNELS", "STEP", "CPU TIME", "WALL TIME", "SPEED"}}
	for _, v := range c.Variants {
		for i, s := range v.Steps {
			name := v.Kernels
			if i > 0 {
				name = ""
			}
			rows = append(rows, []string{name, tokensOf(s.Tokens), fmt.Sprintf("%.1f ms", s.CPU), fmt.Sprintf("%.1f ms", s.All), fmt.Sprintf("%.2f", c.Variants[0].Steps[i].CPU/s.CPU)})
		}
	}
	return table(t.out, rows...)
}

func shapeNames() (names []string) {
	for _, s := range measure.Shapes {
		names = append(names, s.Name)
	}
	return names
}

func readReport(path string) (*measure.Report, error) {
	if path == "" {
		return nil, nil
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var r measure.Report
	if err := json.Unmarshal(raw, &r); err != nil || len(r.Figures) == 0 {
		return nil, fmt.Errorf("%s is no report of \"kindred bench --json\"", path)
	}
	return &r, nil
}

// madeUp has weights of a size made up.
func madeUp(job *measure.Job, shape, kind string) error {
	i := slices.IndexFunc(measure.Shapes, func(s measure.Shape) bool { return s.Name == shape })
	if i < 0 {
		return usageError{fmt.Errorf("--shape is %q; it must be one of %s", shape, strings.Join(shapeNames(), ", "))}
	}
	t, ok := convert.Types()[strings.ToLower(kind)]
	if !ok || t == weights.MXFP4Split || !tensor.FormatOf(t).Writable() {
		return usageError{fmt.Errorf("--weights is %q; see \"kindred models convert --help\" for the types that can be made", kind)}
	}
	job.Name = "made up, " + shape
	job.Open = func() (*weights.Checkpoint, error) { return measure.Shapes[i].Checkpoint(t) }
	return nil
}

// benchOf takes a model on disk or, by its name, one that a gate has.
func (t *terminal) benchOf(c *cobra.Command, flags *clientFlags, job *measure.Job, name string) error {
	path := name
	if _, err := os.Stat(path); err != nil {
		gate, err := flags.open(c.Context())
		if err != nil {
			return fmt.Errorf("there is no file %s, and %w", name, err)
		}
		var m server.InstalledModel
		if err := gate.call(c.Context(), http.MethodGet, modelPath(name), nil, &m); err != nil {
			return err
		}
		if m.Problem != "" {
			return fmt.Errorf("%s does not run: %s", m.ID, m.Problem)
		}
		name, path = m.ID, m.Path
	}
	job.Name = filepath.Base(name)
	job.Open = func() (*weights.Checkpoint, error) { return disk.Open(path) }
	return nil
}

// runBench measures a model, and what the gate itself adds to a request.
func (t *terminal) runBench(ctx context.Context, job measure.Job) (*measure.Report, error) {
	end := t.showProgress(&job)
	defer end()
	r, err := measure.Run(ctx, job)
	if err != nil {
		return nil, err
	}
	r.Version = Version
	own, err := ownShare(ctx)
	if err != nil {
		return nil, err
	}
	r.Figures = append(r.Figures, measure.Figure{ID: "gate.own", Name: "the gate's own share of a request", Value: float64(own.Nanoseconds()) / 1000, Unit: "µs"})
	return r, nil
}

// showProgress shows on a terminal how far a job is, until end is called.
func (t *terminal) showProgress(job *measure.Job) (end func()) {
	if isTerminal(t.err) {
		var bar *progressbar.ProgressBar
		job.Progress = func(doing string, done, total int) {
			if bar == nil {
				bar = progressbar.NewOptions(total+1, progressbar.OptionSetWriter(t.err), progressbar.OptionSetWidth(28), progressbar.OptionClearOnFinish(),
					progressbar.OptionSetTheme(progressbar.Theme{Saucer: "━", SaucerPadding: "┈", BarStart: "", BarEnd: ""}))
			}
			bar.Describe(fmt.Sprintf("%-36s", doing))
			_ = bar.Set(done) // a line of the terminal, which nothing depends on
		}
		return func() {
			if bar != nil {
				_ = bar.Clear()
			}
		}
	}
	return func() {}
}

// ownShare is the median time that the gate takes of a request besides the model, with 64 clients at once. It is taken
// within the server, since clients and gate share the processors here.
func ownShare(ctx context.Context) (median time.Duration, err error) {
	folder, err := os.MkdirTemp("", "kindred-bench-*")
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	if err := demo.Install(folder); err != nil {
		return 0, err
	}
	cfg := config.Default()
	cfg.Listen, cfg.Data, cfg.Models.Folders = "127.0.0.1:0", folder, []string{filepath.Join(folder, "models")}
	h, err := boot.Open(ctx, cfg, boot.Options{
		Log: slog.New(slog.DiscardHandler), Version: Version,
		Runner: &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"fine"} }},
	})
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, h.Close()) }()
	key, _, err := h.Gate.Keys.Issue(ctx, keyring.Terms{Label: "bench"})
	if err != nil {
		return 0, err
	}
	var mu sync.Mutex
	var took []time.Duration
	outer := &httptest.Server{Listener: h.Listener, Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun := time.Now()
		h.Server.ServeHTTP(w, r)
		d := time.Since(begun)
		mu.Lock()
		took = append(took, d)
		mu.Unlock()
	})}}
	outer.Start()
	defer outer.Close()
	const clients, each = 64, 60
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: clients}}
	defer client.CloseIdleConnections()
	errs := make(chan error, clients)
	for range clients {
		go func() {
			for range each {
				if err := askFine(ctx, client, outer.URL, key); err != nil {
					errs <- err
					return
				}
			}
			errs <- nil
		}()
	}
	for range clients {
		err = errors.Join(err, <-errs)
	}
	if err != nil {
		return 0, err
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

func askFine(ctx context.Context, client *http.Client, base, key string) error {
	body := `{"model":"harbour-4m","messages":[{"role":"user","content":"Is the ferry on time?"}]}`
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, base+"/v1/chat/completions", strings.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+key)
	req.Header.Set("Content-Type", "application/json")
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("the gate answered %d: %s", resp.StatusCode, raw)
	}
	return err
}

// printReport prints a report as a table, with one of an earlier run beside it if there is one.
func (t *terminal) printReport(r, before *measure.Report) error {
	strong := paint(t.out, color.Bold)
	l := r.Limits
	fmt.Fprintf(t.out, "%s  %s, %s of weights\n", strong(r.Model), r.Weights, size(r.Size))
	fmt.Fprintf(t.out, "%d threads, %s kernels\n\n", l.Threads, r.Kernels)
	if err := table(t.out,
		[]string{"THE MACHINE", "ALL THREADS", "ONE"},
		[]string{"reads memory", size(int64(l.Read)) + "/s", size(int64(l.ReadOne)) + "/s"},
		[]string{"operations on bytes", giga(l.Integer), giga(l.IntegerOne)},
		[]string{"operations on floats", giga(l.Float), giga(l.FloatOne)},
	); err != nil {
		return err
	}
	fmt.Fprintln(t.out)
	rows := [][]string{{"THE ENGINE", "REACHED", "OF THE LIMIT"}}
	if before != nil {
		rows[0] = []string{"THE ENGINE", "BEFORE", "NOW", "CHANGE", "OF THE LIMIT"}
	}
	for _, f := range r.Figures {
		row := []string{f.Name, amount(f)}
		if before != nil {
			row = []string{f.Name, "", amount(f), ""}
			if b, ok := before.Find(f.ID); ok {
				row[1] = amount(b)
				if b.Value > 0 && f.Value > 0 {
					row[3] = fmt.Sprintf("%+.0f %%", 100*(f.Value/b.Value-1))
				}
			}
		}
		switch {
		case f.Skipped != "":
			row = append(row, "left out: "+f.Skipped)
		case f.Limit > 0:
			share := f.Value / f.Limit
			row = append(row, fmt.Sprintf("%s  %.0f %% of %s", bar(share), 100*share, limitNames[f.By]))
		default:
			row = append(row, " ") // so that the column does not end here
		}
		rows = append(rows, row)
	}
	return table(t.out, rows...)
}

// limitNames are what a reader is told of the limits by their names in reports.
var limitNames = map[string]string{"memory": "memory", "integer": "byte operations", "float": "float operations"}

func giga(v float64) string { return fmt.Sprintf("%.0f G/s", v/1e9) }

// amount is a figure with its unit.
func amount(f measure.Figure) string {
	switch {
	case f.Skipped != "":
		return ""
	case f.Value < 10:
		return fmt.Sprintf("%.2f %s", f.Value, f.Unit)
	case f.Value < 100:
		return fmt.Sprintf("%.1f %s", f.Value, f.Unit)
	}
	return fmt.Sprintf("%.0f %s", f.Value, f.Unit)
}

// bar draws a share of a whole.
func bar(share float64) string {
	const width = 20
	n := int(math.Round(width * min(1, share)))
	return strings.Repeat("━", n) + strings.Repeat("┈", width-n)
}

func tokensOf(n int) string {
	if n == 1 {
		return "1 token"
	}
	return fmt.Sprintf("%d tokens", n)
}
