package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/convert"
	"kindredgate/internal/fetch"
	"kindredgate/internal/library"
	"kindredgate/internal/machine"
	"kindredgate/internal/server"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
)

// inspected is a model that was looked at, and what it would need and give.
type inspected struct {
	catalog.Model
	Memory int64   `json:"memory"` // bytes of weights and a whole context
	Rate   float64 `json:"rate"`   // tokens a second that can be expected of one answer; 0 if that is not known
	Fits   bool    `json:"fits"`
}

// described is the machine for which models are chosen.
type described struct {
	memory    int64
	bandwidth float64 // bytes a second; 0 if the engine's own speed here counts
}

func (t *terminal) modelsLook() *cobra.Command {
	var flags clientFlags
	var memory, bandwidth string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "look FILE|FOLDER|ADDRESS",
		Short: "Inspect models before adding them: what they are, need, and would reach here",
		Long: "Look at a model, at all models in a folder, or at all that a page names, by their headers alone: what they are, the memory\n" +
			"that they need, and the rate to expect of one answer, on this machine or on the one described by --memory and --bandwidth.",
		Example: "  kindred models look https://files.example/models/\n  kindred models look ~/downloads --memory 16GiB --bandwidth 100GB",
		Args:    exactly("a file, a folder or an address"),
		RunE: func(c *cobra.Command, args []string) error {
			m, err := describe(memory, bandwidth)
			if err != nil {
				return usageError{err}
			}
			list, err := t.look(c.Context(), args[0], m)
			if err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(list)
			}
			if err := t.printInspected(list); err != nil {
				return err
			}
			return t.chooseOne(c, &flags, list)
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&memory, "memory", "", "memory of the machine, such as 16GiB (default this one's)")
	cmd.Flags().StringVar(&bandwidth, "bandwidth", "", "memory bandwidth of the machine a second, such as 100GB (default what the engine reaches here)")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

func describe(memory, bandwidth string) (m described, err error) {
	m = described{memory: machine.Memory()}
	if memory != "" {
		if m.memory, err = config.ParseSize(memory); err != nil {
			return m, fmt.Errorf("--memory: %w", err)
		}
	}
	if bandwidth != "" {
		n, err := config.ParseSize(strings.TrimSuffix(bandwidth, "/s"))
		if err != nil || n == 0 {
			return m, fmt.Errorf("--bandwidth: %q is not an amount of bytes a second; one looks like 100GB", bandwidth)
		}
		m.bandwidth = float64(n)
	}
	return m, nil
}

// of judges a model. An answer's rate is bound by how fast its weights can be gone through.
func (d *described) of(m catalog.Model) inspected {
	s := inspected{Model: m, Memory: m.Size + m.ContextBytes}
	s.Fits = m.Problem == "" && (d.memory == 0 || s.Memory <= d.memory)
	if m.TokenBytes > 0 && m.Problem == "" && m.Use.Writes() {
		if s.Rate = d.bandwidth / float64(m.TokenBytes); d.bandwidth == 0 {
			s.Rate = machine.Rate(m.Weights, m.TokenBytes)
		}
	}
	return s
}

func (t *terminal) look(ctx context.Context, source string, d described) (list []inspected, err error) {
	show := t.progress()
	defer show(nil)
	visit := func(m catalog.Model) {
		show(&library.Progress{Doing: "looking at", File: m.ID})
		list = append(list, d.of(m))
	}
	if (library.Addition{Source: source}).Remote() {
		return list, fetch.Source{}.Look(ctx, source, visit)
	}
	if source, err = filepath.Abs(source); err != nil {
		return nil, err
	}
	info, err := os.Stat(source)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		visit(catalog.Read(source))
		return list, nil
	}
	var problems []error
	disk.Find(source, func(path string) {
		m := catalog.Read(path)
		if rest, err := filepath.Rel(source, path); err == nil && rest != "." {
			m.ID = rest
		}
		visit(m)
	}, func(err error) { problems = append(problems, err) })
	if len(list) == 0 && len(problems) == 0 {
		return nil, fmt.Errorf("there is no model in %s: neither .gguf files nor folders with config.json and safetensors files", source)
	}
	return list, errors.Join(problems...)
}

func (t *terminal) printInspected(list []inspected) error {
	rows := [][]string{{"", "MODEL", "FAMILY", "PARAMETERS", "WEIGHTS", "CONTEXT", "SIZE", "NEEDS", "TOKENS/S", ""}}
	var problems []string
	for i, s := range list {
		number := fmt.Sprint(i + 1)
		if s.Problem != "" {
			problem := number + " does not run: " + s.Problem
			if s.Nearest != "" {
				problem += "; " + s.Nearest + " would"
			}
			problems = append(problems, problem)
			rows = append(rows, []string{number, s.ID, s.Architecture, "", s.Weights, "", "", "", "", "does not run"})
			continue
		}
		expected, verdict := "", "fits"
		if s.Rate > 0 {
			expected = rate(s.Rate)
		}
		if !s.Fits {
			verdict = "too large"
		}
		rows = append(rows, []string{number, s.ID, s.Architecture, count(s.Parameters), s.Weights, orNothing(s.ContextLength), size(s.Size), size(s.Memory), expected, verdict})
	}
	if err := table(t.out, rows...); err != nil || len(problems) == 0 {
		return err
	}
	_, err := fmt.Fprintln(t.out, "\n"+strings.Join(problems, "\n"))
	return err
}

// rate is a number of tokens a second that is no more exact than it is known: of small models, other things than their
// weights take the time.
func rate(v float64) string {
	switch {
	case v > 1000:
		return "over 1,000"
	case v < 10:
		return fmt.Sprintf("about %.1f", v)
	}
	return "about " + count(int64(v+0.5))
}

// chooseOne asks which model to add, if somebody is there to be asked.
func (t *terminal) chooseOne(c *cobra.Command, flags *clientFlags, list []inspected) error {
	if !isTerminal(t.in) || !isTerminal(t.out) {
		return nil
	}
	answer, err := t.ask1("\nWhich one is to be added? Its number, or nothing for none: ")
	if err != nil || answer == "" {
		return err
	}
	n, err := strconv.Atoi(answer)
	if err != nil || n < 1 || n > len(list) {
		return fmt.Errorf("%q is none of the numbers", answer)
	}
	if list[n-1].Problem != "" {
		return fmt.Errorf("%s does not run: %s", list[n-1].ID, list[n-1].Problem)
	}
	gate, err := flags.open(c.Context())
	if err != nil {
		return err
	}
	m, err := t.add(c, gate, library.Addition{Source: list[n-1].Path})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(t.out, "%s is installed: %s\n", m.ID, summary(m.Model))
	return err
}

// sampleText is what logits are compared on if no other text is given.
const sampleText = `Sorrel Sound Ferries runs boats from Sorrel Quay to eight islands. The first boat leaves at 06:20, the last one at 19:40.
Passengers with bicycles pay two crowns more, and children under six travel free. Tickets are sold on board and at the quay.
{"boat": "Kittiwake", "first": "06:20", "last": "19:40", "fares": [4, 6.5, 12]}
func next(after time.Time) (Sailing, error) { return timetable.Next("Osmer", after) }
`

func (t *terminal) modelsConvert() *cobra.Command {
	var flags clientFlags
	var kind, to, textFile string
	cmd := &cobra.Command{
		Use:   "convert FILE|FOLDER|MODEL --weights TYPE",
		Short: "Write a model as one GGUF file with weights of another type",
		Long: "Write a model as one GGUF file, tokenizer and template included, with its weights rounded to another type; and tell what that\n" +
			"costs: how much smaller it is, how far the weights are off, and how the model's choice of next tokens changes on a text.",
		Example: "  kindred models convert harbour-4m --weights q8_0",
		Args:    exactly("a file, a folder or an installed model"),
		RunE: func(c *cobra.Command, args []string) error {
			types := convert.Types()
			target, ok := types[strings.ToLower(kind)]
			if !ok {
				var names []string
				for t := range weights.Types {
					if name := strings.ToLower(t.String()); types[name] == t && t != weights.MXFP4Split {
						names = append(names, name)
					}
				}
				return usageError{fmt.Errorf("--weights is %q; it must be one of %s", kind, strings.Join(names, ", "))}
			}
			source, err := t.sourceOf(c.Context(), &flags, args[0])
			if err != nil {
				return err
			}
			if to == "" {
				to = disk.Name(source) + "-" + strings.ToLower(kind) + ".gguf"
			}
			text := sampleText
			if textFile != "" {
				raw, err := os.ReadFile(textFile)
				if err != nil {
					return err
				}
				text = string(raw)
			}
			team := tensor.NewTeam(0)
			defer team.Close()
			show := t.progress()
			r, err := convert.Run(c.Context(), convert.Job{From: source, To: to, Type: target, Text: text, Team: team, Progress: func(_ string, done, total int64) {
				show(&library.Progress{Doing: "converting", File: filepath.Base(source), Done: done, Total: total})
			}})
			show(nil)
			if err != nil {
				return err
			}
			if err := t.printConversion(to, r); err != nil {
				return err
			}
			if p := catalog.Read(source).Pictures; p != nil && p.File != "" {
				_, err = fmt.Fprintf(t.out, "\nIts projector is as it was: put a copy of %s beside the new file, and it takes pictures too.\n", filepath.Base(p.File))
			} else if p != nil {
				_, err = fmt.Fprintf(t.out, "\nWhat it sees pictures with is not converted: the new file takes none.\n")
			}
			return err
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&kind, "weights", "q8_0", "type of the weights")
	cmd.Flags().StringVar(&to, "out", "", "file to write (default NAME-TYPE.gguf here)")
	cmd.Flags().StringVar(&textFile, "text", "", "file with a text to compare the models on (default a short one of our own)")
	return cmd
}

// sourceOf is where a model lies: at a path, or where the gate that runs here, or else the configuration, has one of that name.
func (t *terminal) sourceOf(ctx context.Context, flags *clientFlags, named string) (string, error) {
	if _, err := os.Stat(named); err == nil || strings.ContainsRune(named, filepath.Separator) {
		return filepath.Abs(named)
	}
	if gate, err := flags.open(ctx); err == nil {
		var m server.InstalledModel
		if err := gate.call(ctx, http.MethodGet, modelPath(named), nil, &m); err != nil {
			return "", fmt.Errorf("%q is no file here, and no installed model: %w", named, err)
		}
		return m.Path, nil
	}
	set, err := config.Read(os.Getenv("KINDRED_CONFIG"))
	if err != nil {
		return "", err
	}
	m, err := catalog.New(nil, set.Models.Folders...).Find(named)
	if err != nil {
		return "", fmt.Errorf("%q is no file here: %w", named, err)
	}
	return m.Path, nil
}

func (t *terminal) printConversion(to string, r convert.Report) error {
	fmt.Fprintf(t.out, "%s: %s, %.0f %% of %s\n\n", to, size(r.After), 100*float64(r.After)/float64(r.Before), size(r.Before))
	rows := [][]string{{"WEIGHTS", "SIZE", "OFF BY"}}
	for _, e := range r.Types {
		rows = append(rows, []string{e.Type.String(), size(e.Bytes), fmt.Sprintf("%.3g %%", 100*e.Share)})
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	if r.Tokens == 0 {
		return nil
	}
	_, err := fmt.Fprintf(t.out, "\nOn %d tokens of text: the same most likely token for %d (%.1f %%), divergence %.4f nats,\nlargest change of a logit %.2f standard deviations.\n",
		r.Tokens, r.SameBest, 100*float64(r.SameBest)/float64(r.Tokens), r.Divergence, r.Largest)
	return err
}
