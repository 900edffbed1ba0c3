package cli

import (
	"fmt"
	"math"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/difference"
	"kindredgate/internal/record"
	"kindredgate/internal/replay"
)

func (t *terminal) replay() *cobra.Command {
	var flags clientFlags
	var model, template, style, instructions string
	var temperature, topP float64
	var seed int64
	var maxTokens int
	var reasoning, asJSON bool
	cmd := &cobra.Command{
		Use:   "replay [ID]",
		Short: "Ask a recorded exchange again with something changed, and show what that changes",
		Long: `Ask a recorded exchange again, on another model or preset, with another template, style or setting, and show both answers word by word.
What is not named stays as it was recorded. Where both models run here, the first token in which the answers part is shown with what else
each might have said there, and how likely the recorded answer is under either prompt.`,
		Example: `  kindred replay --model harbour-4m
  kindred replay h4yq2n7c --temperature 0
  kindred replay --template other.jinja`,
		Args: perhaps("the id of an exchange, or the last one"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			body := map[string]any{}
			for name, value := range map[string]any{"model": model, "style": style, "instructions": instructions, "temperature": temperature, "seed": seed, "reasoning": reasoning} {
				if c.Flags().Changed(name) {
					body[name] = value
				}
			}
			if c.Flags().Changed("top-p") {
				body["top_p"] = topP
			}
			if c.Flags().Changed("max-tokens") {
				body["max_tokens"] = maxTokens
			}
			if template != "" {
				raw, err := os.ReadFile(template)
				if err != nil {
					return err
				}
				body["template"] = string(raw)
			}
			id, err := lastRecorded(c.Context(), gate, args)
			if err != nil {
				return err
			}
			gate.exact = asJSON
			var r replay.Result
			if err := gate.call(c.Context(), http.MethodPost, "/gate/exchanges/"+url.PathEscape(id)+"/replay", body, &r); err != nil {
				return err
			}
			if asJSON {
				return t.printJSON(r)
			}
			return t.printReplay(r)
		}),
	}
	flags.add(cmd)
	f := cmd.Flags()
	f.StringVarP(&model, "model", "m", "", "model, preset or public name")
	f.StringVar(&template, "template", "", "file with a chat template")
	f.StringVar(&style, "style", "", "chat, generate or completion")
	f.StringVarP(&instructions, "instructions", "i", "", "in the place of the system turn; empty for none")
	f.Float64Var(&temperature, "temperature", 0, "from 0 to 2")
	f.Float64Var(&topP, "top-p", 1, "from 0 to 1")
	f.Int64Var(&seed, "seed", 0, "for drawing tokens")
	f.IntVar(&maxTokens, "max-tokens", 0, "of the answer")
	f.BoolVar(&reasoning, "reasoning", false, "whether the model reasons first")
	f.BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

// logProb writes a log-probability; one that is as good as certain is 0, without a sign.
func logProb(x float64) string {
	if x > -0.005 {
		return "0.00"
	}
	return fmt.Sprintf("%.2f", x)
}

func (t *terminal) printReplay(r replay.Result) error {
	strong, quiet := paint(t.out, color.Bold), paint(t.out, color.Faint)
	gone, come := paint(t.out, color.FgRed, color.CrossedOut), paint(t.out, color.FgGreen)
	who := func(s replay.Side) string {
		if s.Preset != "" {
			return s.Preset + " (" + s.Model + ")"
		}
		return s.Model
	}
	likely := func(s replay.Side) string {
		if s.LogProb == nil {
			return "-"
		}
		return logProb(*s.LogProb)
	}
	rows := [][]string{{"", "RECORDED", "REPLAYED"}}
	for _, row := range []struct {
		name string
		of   func(replay.Side) string
	}{
		{"model", who}, {"prompt", func(s replay.Side) string { return fmt.Sprintf("%d tokens, %d cached", s.Prompt, s.Cached) }},
		{"answer", func(s replay.Side) string { return fmt.Sprintf("%d tokens, %s", s.Completion, s.Reason) }},
		{"time to first token", func(s replay.Side) string { return record.Took(s.FirstToken) }}, {"duration", func(s replay.Side) string { return record.Took(s.Took) }},
		{"log-probability of the recorded answer", likely}, {"exchange", func(s replay.Side) string { return s.ID }},
	} {
		rows = append(rows, []string{row.name, row.of(r.Recorded), row.of(r.Replayed)})
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	if r.Same {
		fmt.Fprintf(t.out, "\n%s\n", strong("The answers are the same, word by word."))
	} else {
		fmt.Fprintf(t.out, "\n%s\n", strong(fmt.Sprintf("The answers have %.0f %% of their words in common.", r.Alike*100)))
	}
	var b strings.Builder
	coloured := gone("x") != "x"
	for _, run := range r.Difference {
		text := shown(run.Text)
		switch {
		case run.Kind == difference.Both:
			b.WriteString(text)
		case run.Kind == difference.Left && coloured:
			b.WriteString(gone(text))
		case run.Kind == difference.Left:
			b.WriteString("[-" + text + "-]")
		case coloured:
			b.WriteString(come(text))
		default:
			b.WriteString("{+" + text + "+}")
		}
	}
	fmt.Fprintf(t.out, "\n  %s\n", strings.ReplaceAll(b.String(), "\n", "\n  "))
	if p := r.Parting; p != nil {
		where := "with which they begin"
		if p.Before != "" {
			where = "behind " + shown(fmt.Sprintf("%q", p.Before))
		}
		fmt.Fprintf(t.out, "\n%s %s\n", strong(fmt.Sprintf("First difference at token %d", p.Place+1)), quiet(where))
		say := func(list []replay.Token) string {
			if len(list) == 0 {
				return "its end"
			}
			var cells []string
			for _, tok := range list {
				cells = append(cells, fmt.Sprintf("%q %.1f %%", tok.Text, 100*math.Exp(tok.LogProb)))
			}
			return cells[0] + "   " + quiet("or "+strings.Join(cells[1:], ", "))
		}
		fmt.Fprintf(t.out, "  recorded  %s\n  replayed  %s\n", say(p.Recorded), say(p.Replayed))
	}
	for _, n := range r.Notes {
		fmt.Fprintf(t.out, "\n%s\n", quiet(shown(n)))
	}
	return nil
}
